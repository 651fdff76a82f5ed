"""Sums of what paths put on an exit: rates, and concurrent connections over time."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenrask.demand.curves import POINTS_PER_STEP, Curves, grid, highest
from fenrask.demand.parts import Part, Parts
from fenrask.estate.traffic import Numbers, Series
from fenrask.teletraffic import Peak, Summands, concurrent_sum, peak_near
from fenrask.teletraffic.holding import Stacks
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["Load", "concurrent_by", "ended_by", "loads_by", "shaped"]

_AT_ONCE = 20_000
"""Parts that are summed at once, which bounds the memory for it."""


@dataclass(frozen=True)
class Load:
    """Several parts together, each counted by its weight.

    numbers: of the curves, rising; rates: of each, new connections per s at multiplier 1; both of shape (n_curves,).
    persistent: connections that are always open.
    """

    curves: Curves
    numbers: Numbers
    rates: Series
    persistent: float

    @classmethod
    def of(cls, parts: Sequence[Part], weights: Series | None = None) -> "Load":
        """The sum of parts; weights of shape (n_parts,), or 1 for each."""
        some = Parts.of(parts)
        rates, persistent = some.rate_per_s, some.persistent
        if weights is not None:
            rates, persistent = rates * weights, persistent * weights
        if len(some) == 1:
            return cls(some.laid.curves, some.curve, rates, float(persistent[0]))
        numbers, index = np.unique(some.curve, return_inverse=True)
        summed = np.bincount(index, weights=rates, minlength=numbers.size).astype(np.float64)
        return cls(some.laid.curves, numbers, summed, float(persistent.sum()))

    def scaled(self, factor: float) -> "Load":
        """The load multiplied by a factor."""
        return Load(self.curves, self.numbers, self.rates * factor, self.persistent * factor)

    @cached_property
    def concurrent(self) -> Series:
        """Mean connections held, shape (n_times,)."""
        concurrent: Series = self.persistent + self.rates @ self.curves.concurrent[self.numbers]
        return concurrent

    @property
    def by_quarter_hour(self) -> Series:
        """The most held in each quarter of an hour; at its begin, where profiles go by the hour."""
        return highest(self.concurrent, self.curves.step_s, SECONDS_PER_HOUR / 4)

    @cached_property
    def new_per_s(self) -> Series:
        """New connections per s by step of the profiles, shape (n_steps,)."""
        by_profile = np.bincount(
            self.curves.profile[self.numbers], weights=self.rates, minlength=len(self.curves.profiles)
        )
        new: Series = by_profile @ self.curves.profiles
        return new

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment, between the quarters of a step too; its lag is behind the busiest step's start."""
        steps, step_s = self.curves.profiles.shape[1], self.curves.step_s
        if self.is_level:
            return Peak(0.0, float(self.concurrent[0]), 0.0)
        moving = np.flatnonzero((self.rates != 0) & ~self.curves.is_level[self.numbers])
        if moving.size == 1:
            # One profile and one law alone move it: its peak is theirs.
            top = self.curves.peak(int(self.numbers[moving[0]]))
            time = top.time_s
            levels = self.curves.concurrent[self.numbers, 0].copy()
            levels[moving[0]] = top.concurrent
            concurrent = self.persistent + float(np.dot(self.rates, levels))
        else:
            time, concurrent = peak_near(self.concurrent_at, grid(steps, step_s), self.concurrent)
        start = float(np.argmax(self.new_per_s)) * step_s
        period = steps * step_s
        return Peak(time % period, concurrent, (time - start) % period)

    def concurrent_at(self, times_s: Series) -> Series:
        """Mean connections held at times in s, shape (n_times,)."""
        used, which = np.unique(self.curves.profile[self.numbers], return_inverse=True)
        profiles = self.curves.profiles[used]
        summed = concurrent_sum(times_s, profiles, self.curves.step_s, Summands(which, self.rates, self._stacks))
        concurrent: Series = self.persistent + summed
        return concurrent

    @cached_property
    def _stacks(self) -> Stacks:
        return self.curves.stacks(self.numbers)

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.concurrent) <= 1e-12 * np.max(self.concurrent))

    @property
    def mean_concurrent(self) -> float:
        """Mean over the day."""
        return self.persistent + float(np.dot(self.rates, self.curves.mean_concurrent[self.numbers]))

    @property
    def busiest_new_per_s(self) -> float:
        return float(np.max(self.new_per_s))


def concurrent_by(some: Parts, group: Numbers, groups: int, weights: Series | None = None) -> Series:
    """Mean connections held by each of several groups of parts, shape (n_groups, n_times).

    group: the number of each part's, weights: the factor by which each counts, default 1; both of shape (n_parts,).
    """
    curves = some.laid.curves
    rates, persistent = some.rate_per_s, some.persistent
    if weights is not None:
        rates, persistent = rates * weights, persistent * weights
    found = np.zeros((groups, curves.concurrent.shape[1]))
    order = np.argsort(group, kind="stable")
    for start in range(0, order.size, _AT_ONCE):
        those = order[start : start + _AT_ONCE]
        values = curves.concurrent[some.curve[those]] * rates[those, None] + persistent[those, None]
        numbers, first = np.unique(group[those], return_index=True)
        found[numbers] += np.add.reduceat(values, first, axis=0)
    return found


def shaped(some: Parts, group: Numbers, groups: int, amounts: Series, profile: Numbers | None = None) -> Series:
    """Amounts of each part, each times its profile, by group and step, shape (n_groups, n_steps).

    profile: number of each part's, shape (n_parts,); default: that of its connections.
    """
    curves = some.laid.curves
    size = len(curves.profiles)
    keys = group * size + (curves.profile[some.curve] if profile is None else profile)
    by_profile = np.bincount(keys, weights=amounts, minlength=groups * size).reshape(groups, size)
    new: Series = by_profile @ curves.profiles
    return new


def ended_by(some: Parts, group: Numbers, groups: int) -> Series:
    """Entries of ended connections whose ports were given out again, by group, shape (n_groups, n_times).

    In the mean of each step: their timers are short beside it.
    """
    longer = some.laid.entry_s[some.rows]
    by_hour = shaped(some, group, groups, some.rate_per_s * longer)
    return np.repeat(by_hour, POINTS_PER_STEP, axis=1)


def loads_by(some: Parts, group: Numbers, groups: int, weights: Series) -> list[Load]:
    """The load of each of several groups of parts; arguments as those of `concurrent_by`."""
    curves = some.laid.curves
    keys, index = np.unique(group * curves.profile.size + some.curve, return_inverse=True)
    rates = np.bincount(index, weights=some.rate_per_s * weights, minlength=keys.size).astype(np.float64)
    persistent = np.bincount(group, weights=some.persistent * weights, minlength=groups).tolist()
    concurrent = concurrent_by(some, group, groups, weights)
    ends = np.searchsorted(keys, np.arange(groups + 1) * curves.profile.size).tolist()
    found = []
    for number in range(groups):
        own = slice(ends[number], ends[number + 1])
        load = Load(curves, keys[own] - number * curves.profile.size, rates[own], persistent[number])
        load.__dict__["concurrent"] = concurrent[number]
        found.append(load)
    return found
