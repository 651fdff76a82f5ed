"""Whole numbers under whole keys, in rising order: merged by addition (a commutative monoid)."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, field
from heapq import heapify, heappop, heappush
from typing import Self

import numpy as np
from numpy.typing import NDArray

__all__ = ["Counts", "Instants", "Keys", "Ordered", "firsts_of"]

Keys = NDArray[np.int64]
_SIGNED = 63


@dataclass(frozen=True)
class Ordered(ABC):
    """Whole keys in rising order, and what there is beside each."""

    keys: Keys = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @classmethod
    @abstractmethod
    def of(cls, keys: Keys) -> Self:
        """Keys of any order, each of which counts for 1."""

    @classmethod
    @abstractmethod
    def total(cls, several: Sequence[Self]) -> Self:
        """The sum of all."""

    @property
    @abstractmethod
    def columns(self) -> tuple[Keys, ...]:
        """The keys, and what there is beside them."""

    def within(self, low: int, high: int) -> Self:
        """Those of keys from low up to, not including, high."""
        first, last = np.searchsorted(self.keys, [low, high])
        return type(self)(*(column[first:last] for column in self.columns))


@dataclass(frozen=True)
class Counts(Ordered):
    """Whole numbers under whole keys, each there once; what is not there is 0."""

    values: Keys = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @classmethod
    def of(cls, keys: Keys, values: Keys | None = None) -> Self:
        """The sums of values (default: 1 each) by key."""
        if not keys.size:
            return cls()
        if values is None:
            from fenrask.records.kernels.tallying import run_lengths

            return cls(*run_lengths(np.sort(keys)))
        ordered, moved = _sorted(keys, values)
        first = firsts_of(ordered)
        summed = np.add.reduceat(moved, first)
        kept = summed != 0
        return cls(ordered[first][kept], summed[kept])

    @classmethod
    def total(cls, several: Sequence[Self]) -> Self:
        some = [one for one in several if one.keys.size]
        if len(some) < 2:
            return some[0] if some else cls()
        from fenrask.records.kernels.tallying import added

        # The two shortest first, so that a key is moved a logarithm of times.
        waiting = [(one.keys.size, place, one) for place, one in enumerate(some)]
        heapify(waiting)
        while len(waiting) > 1:
            (_, place, fewest), (_, _, next_) = heappop(waiting), heappop(waiting)
            both = cls(*added(fewest.keys, fewest.values, next_.keys, next_.values))
            heappush(waiting, (both.keys.size, place, both))
        return waiting[0][2]

    def __add__(self, other: "Counts") -> "Counts":
        return Counts.total([self, other])

    @property
    def columns(self) -> tuple[Keys, ...]:
        return self.keys, self.values


class Instants(Ordered):
    """Keys, each as often as it is there: of what seldom is there twice."""

    @classmethod
    def of(cls, keys: Keys) -> Self:
        """Keys of any order, which are put in order where they are."""
        keys.sort()
        return cls(keys)

    @classmethod
    def total(cls, several: Sequence[Self]) -> Self:
        some = [one for one in several if one.keys.size]
        if len(some) < 2:
            return some[0] if some else cls()
        keys = np.concatenate([one.keys for one in some])
        keys.sort()
        return cls(keys)

    @property
    def columns(self) -> tuple[Keys, ...]:
        return (self.keys,)


def firsts_of(ordered: Keys) -> Keys:
    """Where each different key begins."""
    found: Keys = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    return found


def _sorted(keys: Keys, values: Keys) -> tuple[Keys, Keys]:
    """Keys in rising order with their values: sorted as one number where both fit, at a third of the time."""
    low, least = int(keys.min()), int(values.min())
    bits = (int(values.max()) - least).bit_length()
    if (int(keys.max()) - low).bit_length() + bits > _SIGNED:
        order = np.argsort(keys)
        return keys[order], values[order]
    both = (keys - low) << bits | (values - least)
    both.sort()
    return (both >> bits) + low, (both & ((1 << bits) - 1)) + least
