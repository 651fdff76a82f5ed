"""How load with one profile and one law of holding times is held over time."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenrask.demand.traffic import Series
from fenrask.teletraffic import Peak, peak_concurrent
from fenrask.teletraffic.holding import HoldingTime
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

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.concurrent) <= 1e-12 * np.max(self.concurrent))

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment of one new connection per s."""
        return peak_concurrent(self.profile, SECONDS_PER_HOUR, self.law, self.concurrent)

    @cached_property
    def mean_profile(self) -> float:
        """Mean over the day of `profile`."""
        return float(np.mean(self.profile))

    @cached_property
    def mean_concurrent(self) -> float:
        """Mean over the day of connections held for one new connection per s (Little 1961)."""
        return self.mean_profile * float(self.law.mean_s)


def grid(hours: int) -> Series:
    """The moments at which connections held are computed, s from the start."""
    return np.arange(hours * POINTS_PER_HOUR, dtype=np.float64) * float(SECONDS_PER_HOUR / POINTS_PER_HOUR)
