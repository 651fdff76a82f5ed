"""Money divided among many, exactly, and to the cent so that the parts add up to the whole."""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import lcm
from typing import Generic, TypeVar

import numpy as np

from fenrask.estate.traffic import Numbers
from fenrask.estate.volumes import Whole
from fenrask.units import cents

__all__ = ["Divided", "to_the_cent"]

Key = TypeVar("Key", bound=Hashable)
_BITS = 60
"""Of a share of the greatest that are compared at first: as many as fit into a number of the machine."""


class Divided(Mapping[Key, Fraction], Generic[Key]):
    """Amounts by key, in whole numbers over one denominator, above 0; parts: shape (n_keys,)."""

    def __init__(self, keys: Sequence[Key], parts: Whole, denominator: int) -> None:
        self.keys_in_order, self.parts, self.denominator = keys, parts, denominator

    @classmethod
    def of(cls, amounts: Mapping[Key, Fraction]) -> "Divided[Key]":
        """Fractions over their least common denominator."""
        common = lcm(*(amount.denominator for amount in amounts.values()))
        parts = [amount.numerator * (common // amount.denominator) for amount in amounts.values()]
        return cls(list(amounts), np.array(parts, dtype=object), common)

    @cached_property
    def _places(self) -> dict[Key, int]:
        return {key: place for place, key in enumerate(self.keys_in_order)}

    def __getitem__(self, key: Key) -> Fraction:
        return self.amount(self._places[key])

    def __iter__(self) -> Iterator[Key]:
        return iter(self.keys_in_order)

    def __len__(self) -> int:
        return len(self.keys_in_order)

    def amount(self, place: int) -> Fraction:
        """The amount of the key at a place."""
        return Fraction(self.parts[place], self.denominator)

    @property
    def largest_first(self) -> Numbers:
        """The places of all, the largest amount first; of equal ones the first."""
        return _largest_first(self.parts)

    @cached_property
    def cents(self) -> Whole:
        """Each in whole cents, their sum that of all rounded once: the largest remainders are rounded up."""
        hundredfold = self.parts * 100
        whole: Whole = hundredfold // self.denominator
        total = Fraction(int(self.parts.sum()), self.denominator) if len(self) else Fraction(0)
        rest = int(cents(total) * 100) - (int(whole.sum()) if len(self) else 0)
        whole[_largest_first(hundredfold % self.denominator)[:rest]] += 1
        return whole


def _largest_first(parts: Whole) -> Numbers:
    """The places of whole numbers of any size, the largest first; of equal ones the first."""
    most = max((abs(int(parts.max())), abs(int(parts.min())))) if parts.size else 0
    if not most:
        return np.arange(parts.size)
    leading = ((parts << _BITS) // most).astype(np.int64)
    order = np.argsort(-leading, kind="stable")
    near = leading[order][1:] == leading[order][:-1]
    if np.any(near & (parts[order][1:] != parts[order][:-1])):
        # Some differ by less than what was compared.
        return np.array(sorted(range(parts.size), key=lambda place: -parts[place]), dtype=np.intp)
    return order


def to_the_cent(amounts: Mapping[Key, Fraction]) -> dict[Key, Decimal]:
    """Each amount in whole cents, their sum that of all rounded once: the largest remainders are rounded up.

    >>> to_the_cent({"a": Fraction(1, 3), "b": Fraction(1, 3), "c": Fraction(1, 3)})
    {'a': Decimal('0.34'), 'b': Decimal('0.33'), 'c': Decimal('0.33')}
    """
    divided = amounts if isinstance(amounts, Divided) else Divided.of(amounts)
    return {key: Decimal(number).scaleb(-2) for key, number in zip(divided, divided.cents.tolist(), strict=True)}
