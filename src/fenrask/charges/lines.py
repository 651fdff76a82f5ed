"""One line of a bill: what, how much, at which rate, why, and by whose use."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import lcm
from typing import NamedTuple

__all__ = ["UNALLOCATED", "Line", "Metered", "Shares", "Use", "shares"]


class Use(NamedTuple):
    """Who uses what a line charges for: the flow (empty: nobody) at the exit (empty: none)."""

    exit: str
    flow: str


class Metered(dict[Use, int]):
    """Amounts by use, in whole numbers over one denominator: they add up exactly, and far quicker than fractions."""

    def __init__(self, amounts: Mapping[Use, int] | Iterable[tuple[Use, int]] = (), denominator: int = 1) -> None:
        super().__init__(amounts)
        self.denominator = denominator

    @classmethod
    def of(cls, amounts: Mapping[Use, Fraction]) -> "Metered":
        """Fractions over their least common denominator."""
        common = lcm(*(amount.denominator for amount in amounts.values()))
        whole = {use: amount.numerator * (common // amount.denominator) for use, amount in amounts.items()}
        return cls(whole, common)

    @property
    def total(self) -> Fraction:
        return Fraction(sum(self.values()), self.denominator)

    def where(self, keep: Callable[[Use], bool]) -> "Metered":
        """The amounts of some uses."""
        return Metered(((use, amount) for use, amount in self.items() if keep(use)), self.denominator)

    def added(self, other: "Metered") -> "Metered":
        """Both together; over one denominator, as all that one estate meters is."""
        both = Metered(self, self.denominator)
        for use, amount in other.items():
            both[use] = both.get(use, 0) + amount
        return both


class Shares(Mapping[Use, Fraction]):
    """Who has which share of a line: whole weights, of which each is its part of their sum."""

    def __init__(self, weights: Mapping[Use, int]) -> None:
        self.weights = weights
        self.whole = sum(weights.values())

    def __getitem__(self, use: Use) -> Fraction:
        return Fraction(self.weights[use], self.whole)

    def __iter__(self) -> Iterator[Use]:
        return iter(self.weights)

    def __len__(self) -> int:
        return len(self.weights)

    @cached_property
    def by_exit(self) -> dict[str, Fraction]:
        """The shares by exit."""
        found: dict[str, int] = {}
        for use, weight in self.weights.items():
            found[use.exit] = found.get(use.exit, 0) + weight
        return {name: Fraction(weight, self.whole) for name, weight in found.items()}


UNALLOCATED = ""


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


def shares(weights: Mapping[Use, int], otherwise: Use) -> Shares:
    """Weights as shares; even ones where all are zero; all to `otherwise` where there are none."""
    if not weights:
        return Shares({otherwise: 1})
    some = {use: weight for use, weight in weights.items() if weight}
    return Shares(some or dict.fromkeys(weights, 1))
