"""How load with one profile and one law of holding times is held over time."""

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np

from fenrask.estate.traffic import Series
from fenrask.teletraffic import Peak, peak_concurrent
from fenrask.teletraffic.holding import HoldingTime, make_of
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["POINTS_PER_HOUR", "ConcurrencyCurve", "grid"]

POINTS_PER_HOUR = 4
"""Moments of each hour at which concurrent connections are computed."""


@dataclass(frozen=True)
class ConcurrencyCurve:
    """Concurrent connections of one new connection per s at multiplier 1, mean, by time.

    profile: multipliers, shape (n_hours,); concurrent: shape (n_times,). `number` tells curves of one estate apart.
    """

    number: int
    profile: Series
    law: HoldingTime
    concurrent: Series

    @classmethod
    def each(cls, first: int, profile: Series, laws: Sequence[HoldingTime], concurrent: Series) -> list[Self]:
        """The curves of many laws with one profile, numbered from `first`; concurrent: shape (n_laws, n_times)."""
        mean, tops = float(np.mean(profile)), concurrent.max(axis=1)
        level = concurrent.max(axis=1) - concurrent.min(axis=1) <= 1e-12 * tops
        curves = []
        for place, (law, top, flat) in enumerate(zip(laws, tops.tolist(), level.tolist(), strict=True)):
            curve = cls(first + place, profile, law, concurrent[place])
            curve.__dict__.update(mean_profile=mean, busiest=top, is_level=flat)
            curves.append(curve)
        return curves

    @cached_property
    def mean_profile(self) -> float:
        """Mean over the day of `profile`."""
        return float(np.mean(self.profile))

    @cached_property
    def busiest(self) -> float:
        """The most of `concurrent`."""
        return float(np.max(self.concurrent))

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.concurrent) <= 1e-12 * self.busiest)

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment of one new connection per s."""
        return peak_concurrent(self.profile, SECONDS_PER_HOUR, self.law, self.concurrent)

    @cached_property
    def mean_concurrent(self) -> float:
        """Mean over the day of connections held for one new connection per s (Little 1961)."""
        return self.mean_profile * float(self.law.mean_s)

    @cached_property
    def make(self) -> Hashable:
        """What its law has in common with others that are worked out together."""
        make: Hashable = make_of(self.law)
        return make


def grid(hours: int) -> Series:
    """The moments at which connections held are computed, s from the start."""
    return np.arange(hours * POINTS_PER_HOUR, dtype=np.float64) * float(SECONDS_PER_HOUR / POINTS_PER_HOUR)
