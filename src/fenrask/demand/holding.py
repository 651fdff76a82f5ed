"""How long a connection keeps its translated port, as a law: its life and the release after its ending."""

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenrask.estate import DurationLaw, DurationPart, Ending, Flow, Offer
from fenrask.estate.traffic import Numbers, Series
from fenrask.teletraffic.holding import (
    Delayed,
    Empirical,
    Exponential,
    Fixed,
    HoldingTime,
    Mixture,
    Parameter,
    Stacks,
    law_of,
    make_of,
)

__all__ = ["Ended", "Family", "ended", "duration_law", "stacked"]

_NEVER_CONNECTED = ("rejected", "unanswered")
"""Connections that never come about: they take a port, but have no life."""


def duration_law(duration: float | DurationLaw) -> HoldingTime:
    """The distribution of lives, from what was written: a mean alone is exponential."""
    if not isinstance(duration, DurationLaw):
        return law_of("exponential", duration)
    if duration.parts:
        total = sum(part.share for part in duration.parts.values())
        return Mixture(tuple((part.share / total, _simple(part)) for part in duration.parts.values()))
    return Empirical(duration.values, duration.shares) if duration.values else _simple(duration)


def _simple(part: DurationPart) -> HoldingTime:
    return law_of(part.shape, part.mean_s, part.figure)


@dataclass(frozen=True, eq=False)
class Family:
    """Holds that differ by the mean of lives alone: of flows with the same endings, at exits with the same timers.

    parts: whether connections had a duration, the delay after their end, s, and their share. life: the distribution of
    lives; None for exponential ones of any mean. is_short: whether lives have no duration. stated: what `life` was made
    of, kept since a family is known by it. is_fixed: whether all have their mean, as what clients keep. entry_s: how
    much longer in the mean a translator's table has an entry than the port is taken, s: what gives a port out early
    leaves the entry until its timer ends.
    """

    parts: tuple[tuple[bool, float, float], ...]
    life: HoldingTime | None = None
    is_short: bool = False
    stated: DurationLaw | None = None
    entry_s: float = 0.0
    is_fixed: bool = False

    @classmethod
    def of(cls, flow: Flow, protocol: str, offer: Offer | None) -> "Family":
        """The family of a flow's holds at an exit of an offer."""
        parts: dict[tuple[bool, float], float] = {}
        for ending in ended(flow, protocol, offer):
            parts[ending.connects, ending.delay_s] = parts.get((ending.connects, ending.delay_s), 0.0) + ending.share
        stated = flow.duration_s if isinstance(flow.duration_s, DurationLaw) and not flow.is_pooled else None
        life = None if stated is None else duration_law(stated)
        timers_s = sum(one.share * one.delay_s for one in ended(flow, protocol, offer, timers_only=True))
        entry_s = max(0.0, timers_s - sum(share * delay for (_, delay), share in parts.items()))
        each = tuple((*key, share) for key, share in parts.items())
        return cls(each, life, not flow.duration_mean_s, stated, entry_s, flow.is_pooled)

    @cached_property
    def connected(self) -> float:
        """The share of connections that come about."""
        return sum(share for connects, _, share in self.parts if connects)

    @cached_property
    def mapping_timeout_s(self) -> float:
        """The mean time that a port stays taken after the end."""
        return sum(share * delay for _, delay, share in self.parts)

    def law(self, mean_s: float) -> HoldingTime:
        """The law of holds where lives have this mean, s."""
        if not self.parts and self.life is not None:
            return self.life
        return self._law(self.lives(mean_s), self.parts)

    def lives(self, mean_s: float) -> HoldingTime:
        """The law of lives of connections that come about, where they have this mean, s."""
        if self.life is not None:
            return self.life
        return Fixed(mean_s) if self.is_fixed else duration_law(0.0 if self.is_short else mean_s)

    @cached_property
    def make(self) -> Hashable:
        """What families must share for their laws to be stacked."""
        if self.life is not None:
            make: Hashable = make_of(self.law(0.0))
            return make
        return (self.is_short, self.is_fixed, *((connects, delay > 0) for connects, delay, _ in self.parts))

    @staticmethod
    def stack(some: Sequence["Family"], which: Numbers, means_s: Series) -> HoldingTime:
        """One law whose parameters are columns, for exponential lives of families of one make.

        which: number into `some`, means_s: mean life, s, both of shape (n_laws,).
        """
        first = some[0]
        life: HoldingTime = Exponential(means_s[:, None])
        if first.is_short or first.is_fixed:
            life = Fixed(np.where(first.is_fixed, means_s, 0.0)[:, None])
        figures = np.array([[part[1:] for part in one.parts] for one in some])[which]
        kinds = (connects for connects, _, _ in first.parts)
        parts = tuple((one, *figures[:, place].T[:, :, None]) for place, one in enumerate(kinds))
        return first._law(life, parts)

    @staticmethod
    def _law(life: HoldingTime, parts: tuple[tuple[bool, Parameter, Parameter], ...]) -> HoldingTime:
        laws = tuple((share, _held(life, connects, delay)) for connects, delay, share in parts)
        return laws[0][1] if len(laws) == 1 else Mixture(laws)


def stacked(families: Sequence[Family], family: Numbers, means_s: Series, most: int) -> Stacks:
    """The laws of many rows, those of one make and of like means together, `most` at once, with their numbers.

    family: number into `families`, means_s: mean life, s, both of shape (n_rows,).
    """
    used = np.unique(family).tolist()
    by_make: dict[Hashable, list[int]] = {}
    for number in used:
        by_make.setdefault(families[number].make, []).append(number)
    found = Stacks()
    for numbers in by_make.values():
        rows = np.flatnonzero(np.isin(family, numbers)) if len(by_make) > 1 else np.arange(family.size)
        some = [families[number] for number in numbers]
        if some[0].life is not None:
            laws = [families[family[row]].law(float(means_s[row])) for row in rows.tolist()]
            found += [(rows[places], law) for places, law in Stacks.of(laws)]
            continue
        # Short and long holds apart, so that the short ones need not be followed as far as the long.
        rows = rows[np.argsort(means_s[rows], kind="stable")]
        for start in range(0, rows.size, most):
            those = rows[start : start + most]
            found.append((those, Family.stack(some, np.searchsorted(numbers, family[those]), means_s[those])))
    return found


@dataclass(frozen=True)
class Ended:
    """Connections that end in one way: their share, whether they have a life, and the port's time after it."""

    ending: Ending
    share: float
    connects: bool
    delay_s: float


def ended(flow: Flow, protocol: str, offer: Offer | None, timers_only: bool = False) -> Iterator[Ended]:
    """How a flow's connections end; those whose port is given out again early keep it no longer than they live.

    `timers_only`: all keep it for the whole time, since who looks at them one by one sees which are given out early.
    """
    for ending, share in flow.endings(protocol).items():
        early, after = 0.0, 0.0
        if offer is not None and offer.ports is not None:
            early = 0.0 if timers_only else offer.ports.early_reuse(ending)
            after = offer.mapping_timeout_s.after(ending)
        for part, delay in ((share * early, 0.0), (share * (1 - early), after)):
            if part:
                yield Ended(ending, part, ending not in _NEVER_CONNECTED, delay)


def _held(life: HoldingTime, connects: bool, delay_s: Parameter) -> HoldingTime:
    if not connects:
        return Fixed(delay_s)
    return Delayed(life, delay_s) if np.any(delay_s) else life
