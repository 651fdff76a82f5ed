"""One line of a bill: what, how much, at which rate, why, and by whose use."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import lcm
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Estate
from fenrask.estate.traffic import Numbers
from fenrask.estate.volumes import Whole

__all__ = ["UNALLOCATED", "Line", "Metered", "Shares", "Use", "Users", "grouped"]

UNALLOCATED = ""


class Use(NamedTuple):
    """Who uses what a line charges for: the flow (empty: nobody) at the exit (empty: none)."""

    exit: str
    flow: str


class Users:
    """The exits and flows of an estate by number, each with the empty name before them, of number 0."""

    def __init__(self, estate: Estate) -> None:
        self.exits = ("", *estate.exits)
        self.flows = ("", *estate.flows)

    @cached_property
    def exit(self) -> dict[str, int]:
        """The number of each exit."""
        return {name: number for number, name in enumerate(self.exits)}

    @cached_property
    def flow(self) -> dict[str, int]:
        """The number of each flow."""
        return {name: number for number, name in enumerate(self.flows)}


def grouped(keys: Numbers, amounts: Whole) -> tuple[Numbers, Whole]:
    """The keys that appear, rising, and the sum of each one's amounts."""
    if not keys.size:
        return keys, amounts
    order = np.argsort(keys, kind="stable")
    found, first = np.unique(keys[order], return_index=True)
    return found, amounts if found.size == keys.size and np.all(order == np.arange(keys.size)) else np.add.reduceat(
        amounts[order], first
    )


@dataclass(frozen=True, eq=False)
class Metered:
    """Amounts by use, each use once, in whole numbers over one denominator: they add up exactly, and quickly.

    exit, flow: numbers of `users`, shape (n_uses,); amounts: of the same shape.
    """

    users: Users
    exit: Numbers
    flow: Numbers
    amounts: Whole
    denominator: int

    @classmethod
    def summed(cls, users: Users, exit_: Numbers, flow: Numbers, amounts: Whole, denominator: int) -> "Metered":
        """Amounts by use, where uses may appear more than once; in order of exit and flow."""
        width = len(users.flows)
        keys, sums = grouped(exit_ * width + flow, amounts)
        return cls(users, keys // width, keys % width, sums, denominator)

    @classmethod
    def of(cls, users: Users, amounts: Mapping[Use, Fraction]) -> "Metered":
        """Fractions over their least common denominator."""
        common = lcm(*(amount.denominator for amount in amounts.values()))
        whole = np.array([int(amount * common) for amount in amounts.values()], dtype=object)
        exits = np.array([users.exit[use.exit] for use in amounts], dtype=np.intp)
        return cls.summed(
            users, exits, np.array([users.flow[use.flow] for use in amounts], dtype=np.intp), whole, common
        )

    @classmethod
    def joined(cls, some: Sequence["Metered"]) -> "Metered":
        """All together, of which each is over the same denominator, as all that one estate meters is."""
        if len(some) == 1:
            return some[0]
        first = some[0]
        exits, flows, amounts = (
            np.concatenate([getattr(one, column) for one in some]) for column in ("exit", "flow", "amounts")
        )
        return cls.summed(first.users, exits, flows, amounts, first.denominator)

    def __len__(self) -> int:
        return int(self.exit.size)

    @property
    def total(self) -> Fraction:
        return Fraction(int(self.amounts.sum()), self.denominator) if len(self) else Fraction(0)

    @property
    def exits(self) -> list[str]:
        """The exits of its uses."""
        return [self.users.exits[number] for number in np.unique(self.exit).tolist()]

    def where(self, keep: NDArray[np.bool_]) -> "Metered":
        """The amounts of some uses, shape (n_uses,)."""
        return Metered(self.users, self.exit[keep], self.flow[keep], self.amounts[keep], self.denominator)

    def at(self, exits: Iterable[str]) -> "Metered":
        """The amounts at some exits."""
        return self.where(np.isin(self.exit, [self.users.exit[name] for name in exits]))

    def shares(self, otherwise: Use) -> "Shares":
        """Whose part is how large; even ones where all are zero; all to `otherwise` where there are none."""
        if not len(self):
            return Shares(Metered.of(self.users, {otherwise: Fraction(1)}))
        some = self.amounts != 0
        if not some.any():
            even = np.ones(len(self), dtype=object)
            return Shares(Metered(self.users, self.exit, self.flow, even, 1))
        return Shares(self if some.all() else self.where(some))


class Shares(Mapping[Use, Fraction]):
    """Who has which share of a line: whole weights, of which each is its part of their sum."""

    def __init__(self, weights: Metered) -> None:
        self.weights = weights
        self.whole = int(weights.amounts.sum())

    @cached_property
    def _by_use(self) -> dict[Use, int]:
        weights = self.weights
        rows = zip(weights.exit.tolist(), weights.flow.tolist(), weights.amounts.tolist(), strict=True)
        return {Use(weights.users.exits[exit_], weights.users.flows[flow]): amount for exit_, flow, amount in rows}

    def __getitem__(self, use: Use) -> Fraction:
        return Fraction(self._by_use[use], self.whole)

    def __iter__(self) -> Iterator[Use]:
        return iter(self._by_use)

    def __len__(self) -> int:
        return len(self.weights)

    @cached_property
    def by_exit(self) -> dict[str, Fraction]:
        """The shares by exit."""
        exits, sums = grouped(self.weights.exit, self.weights.amounts)
        names = self.weights.users.exits
        return {names[number]: Fraction(part, self.whole) for number, part in zip(exits.tolist(), sums, strict=True)}


@dataclass(frozen=True)
class Line:
    """One line of a month's bill. `quantity` x `rate` = `amount`, exactly; `uses` sum to 1."""

    item: str
    about: str
    """The exit, offer or workload that it is charged for; empty for the estate as a whole."""
    quantity: Fraction
    unit: str
    rate: Decimal
    reason: str
    fixed: bool
    """Whether it is due whatever the volume."""
    uses: Shares

    @property
    def amount(self) -> Fraction:
        return self.quantity * Fraction(self.rate)
