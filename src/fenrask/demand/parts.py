"""What ways lay on exits, and sums of it: rates, and connections held over time by the law of their holds."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.routing import Way
from fenrask.teletraffic import Peak, held_each, peak_held, peak_near
from fenrask.teletraffic.holds import Hold
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["POINTS_PER_HOUR", "Load", "Part", "Profile", "Series", "grid"]

Series = NDArray[np.float64]
POINTS_PER_HOUR = 4
"""Moments of each hour at which connections held are computed."""


@dataclass(frozen=True)
class Profile:
    """How load with one rhythm and one law of holds is held over time.

    rhythm: multipliers, shape (n_hours,); held: mean connections held for one new connection per s at
    multiplier 1, shape (n_times,). `number` is its place in `Demand.profiles`.
    """

    number: int
    rhythm: Series
    law: Hold
    held: Series

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.held) <= 1e-12 * np.max(self.held))

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment of one new connection per s."""
        return peak_held(self.rhythm, SECONDS_PER_HOUR, self.law)

    @cached_property
    def mean_rhythm(self) -> float:
        """Mean over the day of `rhythm`."""
        return float(np.mean(self.rhythm))

    @cached_property
    def mean_held(self) -> float:
        """Mean over the day of connections held for one new connection per s (Little 1961)."""
        return self.mean_rhythm * float(self.law.mean_s)


@dataclass(frozen=True, slots=True)
class Part:
    """What one way of a flow lays on one exit."""

    flow: str
    subnet: str
    destination: str
    exit: str
    way: Way
    life_s: float | None
    """Mean life; None for a standing pool, whose connections do not end."""
    release_s: float | None
    rate_per_s: float
    """New connections per s where the rhythm's multiplier is 1."""
    standing: float
    """Connections that are held all the time."""
    profile: Profile

    @property
    def hold_s(self) -> float | None:
        """Mean life and release together."""
        return None if self.life_s is None or self.release_s is None else self.life_s + self.release_s

    @property
    def new_per_s(self) -> Series:
        """New connections per s by hour, shape (n_hours,)."""
        return self.rate_per_s * self.profile.rhythm

    @property
    def held(self) -> Series:
        """Mean connections held, shape (n_times,)."""
        return self.standing + self.rate_per_s * self.profile.held

    @property
    def mean_held(self) -> float:
        return self.standing + self.rate_per_s * self.profile.mean_held


@dataclass(frozen=True)
class Load:
    """Several parts together, each counted by its weight.

    rates: by profile number, new connections per s at multiplier 1.
    """

    profiles: tuple[Profile, ...]
    rates: Series
    standing: float

    @classmethod
    def of(cls, parts: Sequence[Part], weights: Series | None = None) -> "Load":
        """The sum of parts; weights of shape (n_parts,), or 1 for each."""
        if len(parts) == 1:
            only, weight = parts[0], 1.0 if weights is None else float(weights[0])
            return cls((only.profile,), np.array([only.rate_per_s * weight]), only.standing * weight)
        known = {part.profile.number: part.profile for part in parts}
        places = {number: place for place, number in enumerate(known)}
        each = np.ones(len(parts)) if weights is None else weights
        rates = np.array([part.rate_per_s for part in parts]) * each
        index = np.array([places[part.profile.number] for part in parts], dtype=np.intp)
        standing = float(np.dot(np.array([part.standing for part in parts]), each))
        summed = np.bincount(index, weights=rates, minlength=len(known)).astype(np.float64)
        return cls(tuple(known.values()), summed, standing)

    def scaled(self, factor: float) -> "Load":
        """So many times the load."""
        return Load(self.profiles, self.rates * factor, self.standing * factor)

    @cached_property
    def held(self) -> Series:
        """Mean connections held, shape (n_times,)."""
        held: Series = self.standing + self.rates @ np.stack([one.held for one in self.profiles])
        return held

    @cached_property
    def new_per_s(self) -> Series:
        """New connections per s by hour, shape (n_hours,)."""
        new: Series = self.rates @ np.stack([one.rhythm for one in self.profiles])
        return new

    @cached_property
    def peak(self) -> Peak:
        """The busiest moment, between the quarters of an hour too; its lag is behind the busiest hour's start."""
        hours = self.profiles[0].rhythm.size
        times = grid(hours)
        if self.is_level:
            return Peak(0.0, float(self.held[0]), 0.0)
        moving = [place for place, one in enumerate(self.profiles) if self.rates[place] and not one.is_level]
        if len(moving) == 1:
            # One rhythm and one law alone move it: its peak is theirs.
            top = self.profiles[moving[0]].peak
            time = top.time_s
            levels = np.array([float(one.held[0]) for one in self.profiles])
            levels[moving[0]] = top.held
            held = self.standing + float(np.dot(self.rates, levels))
        else:
            time, held = peak_near(self.held_at, times, self.held)
        start = float(np.argmax(self.new_per_s)) * SECONDS_PER_HOUR
        period = hours * SECONDS_PER_HOUR
        return Peak(time % period, held, (time - start) % period)

    def held_at(self, times_s: Series) -> Series:
        """Mean connections held at times in s, shape (n_times,)."""
        total = np.full(times_s.size, self.standing)
        by_rhythm: dict[bytes, list[int]] = {}
        for place, one in enumerate(self.profiles):
            by_rhythm.setdefault(one.rhythm.tobytes(), []).append(place)
        for places in by_rhythm.values():
            laws = [self.profiles[place].law for place in places]
            rhythm = self.profiles[places[0]].rhythm
            total += self.rates[places] @ held_each(times_s, rhythm, SECONDS_PER_HOUR, laws)
        return total

    @cached_property
    def is_level(self) -> bool:
        """Whether as many are held at every time."""
        return bool(np.ptp(self.held) <= 1e-12 * np.max(self.held))

    @property
    def mean_held(self) -> float:
        """Mean over the day."""
        means = np.array([one.mean_held for one in self.profiles])
        return self.standing + float(np.dot(self.rates, means))

    @property
    def busiest_new_per_s(self) -> float:
        return float(np.max(self.new_per_s))


def grid(hours: int) -> Series:
    """The moments at which connections held are computed, s from the start."""
    return np.arange(hours * POINTS_PER_HOUR, dtype=np.float64) * float(SECONDS_PER_HOUR / POINTS_PER_HOUR)
