"""How load with one profile and one law of holds is held over time, as columns: a row for each profile and law."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrask.demand.holding import Family, stacked
from fenrask.estate.traffic import Numbers, Series
from fenrask.teletraffic import Peak, concurrent_rows, peak_concurrent
from fenrask.teletraffic.holding import HoldingTime, Stacks
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["POINTS_PER_STEP", "ConcurrencyCurve", "Curves", "grid", "highest"]

POINTS_PER_STEP = 4
"""Moments of each step of a profile at which concurrent connections are computed."""
_AT_ONCE = 2048
"""Laws that are stacked: as many as sums can be worked out at once."""


class Rows(NamedTuple):
    """Rows of load: number into the profiles, number into the families, mean life, s; all of shape (n_rows,)."""

    profile: Numbers
    family: Numbers
    duration_s: Series


@dataclass(frozen=True, eq=False)
class Curves:
    """Concurrent connections of one new connection per s at multiplier 1, mean, by time, for each profile and law.

    profiles: multipliers, shape (n_profiles, n_steps); profile: number into them, family: into `families`, duration_s:
    mean life, s, all of shape (n_curves,), in rising order of the three; concurrent: shape (n_curves, n_times).
    step_s: for which each multiplier holds.
    """

    profiles: Series
    families: Sequence[Family]
    profile: Numbers
    family: Numbers
    duration_s: Series
    concurrent: Series
    step_s: float = float(SECONDS_PER_HOUR)

    @classmethod
    def of(
        cls,
        profiles: Series,
        families: Sequence[Family],
        rows: Rows,
        known: "Curves | None" = None,
        step_s: float = float(SECONDS_PER_HOUR),
    ) -> tuple["Curves", Numbers]:
        """The curves of some rows, each computed once, and the number of each row's.

        known: of other rows, whose profiles and families have the same numbers; what is there is taken over.
        """
        profile, family, duration_s = rows
        order = np.lexsort((duration_s, family, profile))
        profile, family, duration_s = profile[order], family[order], duration_s[order]
        is_first = np.ones(order.size, dtype=bool)
        is_first[1:] = np.any([one[1:] != one[:-1] for one in (profile, family, duration_s)], axis=0)
        number = np.empty(order.size, dtype=np.intp)
        number[order] = np.cumsum(is_first) - 1
        profile, family, duration_s = profile[is_first], family[is_first], duration_s[is_first]
        place = np.full(profile.size, -1) if known is None else known.places(profile, family, duration_s)
        if known is not None and place.size == known.profile.size and np.all(place >= 0):
            return known, number
        times = grid(profiles.shape[1], step_s)
        concurrent = np.empty((profile.size, times.size))
        if known is not None:
            concurrent[place >= 0] = known.concurrent[place[place >= 0]]
        new = np.flatnonzero(place < 0)
        laws = stacked(families, family[new], duration_s[new], _AT_ONCE)
        concurrent[new] = concurrent_rows(times, profiles, profile[new], step_s, laws)
        return cls(profiles, families, profile, family, duration_s, concurrent, step_s), number

    def places(self, profile: Numbers, family: Numbers, duration_s: Series) -> Numbers:
        """The numbers of curves here, or -1; columns in rising order, as here."""
        size = self.profile.size
        theirs = (profile, family, duration_s)
        both = [np.concatenate(some) for some in zip((self.profile, self.family, self.duration_s), theirs, strict=True)]
        # Of two that are equal, the one that is here comes first.
        order = np.lexsort((np.arange(both[0].size) >= size, *both[::-1]))
        equal = np.zeros(order.size, dtype=bool)
        equal[1:] = np.all([column[order][1:] == column[order][:-1] for column in both], axis=0)
        found = np.full(profile.size, -1, dtype=np.intp)
        found[order[equal] - size] = order[np.flatnonzero(equal) - 1]
        return found

    @cached_property
    def mean_profile(self) -> Series:
        """Mean over the day of each row's profile."""
        means: Series = self.profiles.mean(axis=1)[self.profile]
        return means

    @cached_property
    def mean_concurrent(self) -> Series:
        """Mean over the day of connections held for one new connection per s (Little 1961)."""
        means = np.empty(self.profile.size)
        for numbers, law in stacked(self.families, self.family, self.duration_s, _AT_ONCE):
            means[numbers] = np.ravel(law.mean_s)
        return self.mean_profile * means

    @cached_property
    def busiest(self) -> Series:
        """The most of `concurrent`."""
        most: Series = self.concurrent.max(axis=1)
        return most

    @cached_property
    def is_level(self) -> NDArray[np.bool_]:
        """Whether as many are held at every time."""
        level: NDArray[np.bool_] = self.busiest - self.concurrent.min(axis=1) <= 1e-12 * self.busiest
        return level

    def stacks(self, numbers: Numbers) -> Stacks:
        """The laws of some curves, stacked, by place in `numbers`."""
        return stacked(self.families, self.family[numbers], self.duration_s[numbers], _AT_ONCE)

    @cached_property
    def _peaks(self) -> dict[int, Peak]:
        return {}

    def peak(self, number: int) -> Peak:
        """The busiest moment of one new connection per s."""
        if number not in self._peaks:
            curve = self.curve(number)
            self._peaks[number] = peak_concurrent(curve.profile, self.step_s, curve.law, curve.concurrent)
        return self._peaks[number]

    def curve(self, number: int) -> "ConcurrencyCurve":
        """One of them."""
        return ConcurrencyCurve(self, number)


@dataclass(frozen=True, slots=True)
class ConcurrencyCurve:
    """One row of curves."""

    of: Curves
    number: int

    @property
    def profile(self) -> Series:
        """Multipliers, shape (n_steps,)."""
        row: Series = self.of.profiles[self.of.profile[self.number]]
        return row

    @property
    def family(self) -> Family:
        """What the law of holds has in common with others."""
        return self.of.families[int(self.of.family[self.number])]

    @property
    def duration_s(self) -> float:
        """Mean life, s, of connections that come about."""
        return float(self.of.duration_s[self.number])

    @property
    def law(self) -> HoldingTime:
        """The law of holds."""
        return self.family.law(self.duration_s)

    @property
    def concurrent(self) -> Series:
        """Shape (n_times,)."""
        row: Series = self.of.concurrent[self.number]
        return row

    @property
    def mean_profile(self) -> float:
        """Mean over the day of `profile`."""
        return float(self.of.mean_profile[self.number])

    @property
    def mean_concurrent(self) -> float:
        """Mean over the day."""
        return float(self.of.mean_concurrent[self.number])


def highest(series: Series, step_s: float, each_s: float) -> Series:
    """The highest withx."""
    points = each_s * POINTS_PER_STEP / step_s
    begins = np.arange(round(series.size / points)) * points
    if points < 1:
        longer: Series = series[begins.astype(np.intp)]
        return longer
    found: Series = np.maximum.reduceat(series, np.ceil(begins - 1e-9).astype(np.intp))
    return found


def grid(steps: int, step_s: float) -> Series:
    """The moments at which connections held are computed, s from the start."""
    return np.arange(steps * POINTS_PER_STEP, dtype=np.float64) * (step_s / POINTS_PER_STEP)
