"""What ways lay on exits, and sums of it: rates, and connections held over time by the law of their holds."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.routing import FlowPath
from fenrask.teletraffic import Peak, concurrent_sum, peak_concurrent, peak_near
from fenrask.teletraffic.holding import HoldingTime, Stacks
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["POINTS_PER_HOUR", "Load", "Part", "ConcurrencyCurve", "Series", "grid"]

Series = NDArray[np.float64]
POINTS_PER_HOUR = 4
"""Moments of each hour at which connections held are computed."""


@dataclass(frozen=True)
class ConcurrencyCurve:
    """How load with one profile and one law of holds is held over time.

    profile: multipliers, shape (n_hours,); held: mean connections held for one new connection per s at
    multiplier 1, shape (n_times,). `number` is its place in `Demand.profiles`.
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


@dataclass(frozen=True, slots=True)
class Part:
    """What one way of a flow lays on one exit."""

    flow: str
    subnet: str
    destination: str
    exit: str
    path: FlowPath
    duration_s: float | None
    """Mean life; None for a standing pool, whose connections do not end."""
    mapping_timeout_s: float | None
    rate_per_s: float
    """New connections per s where the profile's multiplier is 1."""
    persistent: float
    """Connections that are held all the time."""
    curve: ConcurrencyCurve

    @property
    def holding_s(self) -> float | None:
        """Mean life and release together."""
        return (
            None
            if self.duration_s is None or self.mapping_timeout_s is None
            else self.duration_s + self.mapping_timeout_s
        )

    @property
    def new_per_s(self) -> Series:
        """New connections per s by hour, shape (n_hours,)."""
        return self.rate_per_s * self.curve.profile

    @property
    def concurrent(self) -> Series:
        """Mean connections held, shape (n_times,)."""
        return self.persistent + self.rate_per_s * self.curve.concurrent

    @property
    def mean_concurrent(self) -> float:
        return self.persistent + self.rate_per_s * self.curve.mean_concurrent


@dataclass(frozen=True)
class Load:
    """Several parts together, each counted by its weight.

    rates: by profile number, new connections per s at multiplier 1.
    """

    curves: tuple[ConcurrencyCurve, ...]
    rates: Series
    persistent: float

    @classmethod
    def of(cls, parts: Sequence[Part], weights: Series | None = None) -> "Load":
        """The sum of parts; weights of shape (n_parts,), or 1 for each."""
        if len(parts) == 1:
            only, weight = parts[0], 1.0 if weights is None else float(weights[0])
            return cls((only.curve,), np.array([only.rate_per_s * weight]), only.persistent * weight)
        known = {part.curve.number: part.curve for part in parts}
        places = {number: place for place, number in enumerate(known)}
        each = np.ones(len(parts)) if weights is None else weights
        rates = np.array([part.rate_per_s for part in parts]) * each
        index = np.array([places[part.curve.number] for part in parts], dtype=np.intp)
        persistent = float(np.dot(np.array([part.persistent for part in parts]), each))
        summed = np.bincount(index, weights=rates, minlength=len(known)).astype(np.float64)
        return cls(tuple(known.values()), summed, persistent)

    def scaled(self, factor: float) -> "Load":
        """So many times the load."""
        return Load(self.curves, self.rates * factor, self.persistent * factor)

    @cached_property
    def concurrent(self) -> Series:
        """Mean connections held, shape (n_times,)."""
        concurrent: Series = self.persistent + self.rates @ np.stack([one.concurrent for one in self.curves])
        return concurrent

    @cached_property
    def new_per_s(self) -> Series:
        """New connections per s by hour, shape (n_hours,)."""
        new: Series = self.rates @ np.stack([one.profile for one in self.curves])
        return new

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment, between the quarters of an hour too; its lag is behind the busiest hour's start."""
        hours = self.curves[0].profile.size
        times = grid(hours)
        if self.is_level:
            return Peak(0.0, float(self.concurrent[0]), 0.0)
        moving = [place for place, one in enumerate(self.curves) if self.rates[place] and not one.is_level]
        if len(moving) == 1:
            # One profile and one law alone move it: its peak is theirs.
            top = self.curves[moving[0]].peak
            time = top.time_s
            levels = np.array([float(one.concurrent[0]) for one in self.curves])
            levels[moving[0]] = top.concurrent
            concurrent = self.persistent + float(np.dot(self.rates, levels))
        else:
            time, concurrent = peak_near(self.concurrent_at, times, self.concurrent)
        start = float(np.argmax(self.new_per_s)) * SECONDS_PER_HOUR
        period = hours * SECONDS_PER_HOUR
        return Peak(time % period, concurrent, (time - start) % period)

    def concurrent_at(self, times_s: Series) -> Series:
        """Mean connections held at times in s, shape (n_times,)."""
        profiles = {one.profile.tobytes(): one.profile for one in self.curves}
        places = {key: place for place, key in enumerate(profiles)}
        which = [places[one.profile.tobytes()] for one in self.curves]
        summed = concurrent_sum(times_s, list(profiles.values()), which, self.rates, SECONDS_PER_HOUR, self._stacks)
        concurrent: Series = self.persistent + summed
        return concurrent

    @cached_property
    def _stacks(self) -> Stacks:
        return Stacks.of([one.law for one in self.curves])

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.concurrent) <= 1e-12 * np.max(self.concurrent))

    @property
    def mean_concurrent(self) -> float:
        """Mean over the day."""
        means = np.array([one.mean_concurrent for one in self.curves])
        return self.persistent + float(np.dot(self.rates, means))

    @property
    def busiest_new_per_s(self) -> float:
        return float(np.max(self.new_per_s))


def grid(hours: int) -> Series:
    """The moments at which connections held are computed, s from the start."""
    return np.arange(hours * POINTS_PER_HOUR, dtype=np.float64) * float(SECONDS_PER_HOUR / POINTS_PER_HOUR)
