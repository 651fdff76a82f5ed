"""How long a connection keeps its translated port, as a law: its life and the release after its ending."""

from collections.abc import Iterator
from dataclasses import dataclass

from fenrask.estate import DurationLaw, DurationPart, Ending, Flow, Offer
from fenrask.teletraffic.holding import (
    Delayed,
    Empirical,
    Exponential,
    Fixed,
    HoldingTime,
    Lognormal,
    Mixture,
    balanced,
)

__all__ = ["Delays", "Ended", "Holding", "delays_of", "ended", "holding", "duration_law"]

_NEVER_CONNECTED = ("rejected", "unanswered")
"""Connections that never come about: they take a port, but have no life."""


@dataclass(frozen=True)
class Holding:
    """The law of holds at one exit, and the means it is made of, in s."""

    law: HoldingTime
    duration_s: float
    mapping_timeout_s: float


def duration_law(duration: float | DurationLaw) -> HoldingTime:
    """The distribution of lives, from what was written: a mean alone is exponential."""
    if not isinstance(duration, DurationLaw):
        return _exponential(duration)
    if duration.parts:
        total = sum(part.share for part in duration.parts.values())
        return Mixture(tuple((part.share / total, _simple(part)) for part in duration.parts.values()))
    return Empirical(duration.values) if duration.values else _simple(duration)


def _exponential(mean_s: float) -> HoldingTime:
    return Exponential(mean_s) if mean_s else Fixed(0.0)


def _simple(part: DurationPart) -> HoldingTime:
    if part.mean_s == 0 or part.shape == "fixed":
        return Fixed(part.mean_s)
    if part.p95 is not None:
        return Lognormal.of_percentile(part.mean_s, part.p95)
    return balanced(part.mean_s, part.cv) if part.cv is not None else Exponential(part.mean_s)


def holding(flow: Flow, protocol: str, offer: Offer | None) -> Holding:
    """Life plus release, the release a mixture by ending with the offer's times.

    A port that is given out again early counts as free from its connection's end. Connections that are
    turned away or never answered have no life, only a release. An exit that holds no port adds nothing.
    """
    return delays_of(flow, protocol, offer).after(flow)


@dataclass(frozen=True)
class Delays:
    """How long ports stay taken after connections ended: shares by whether they had a duration, and by the delay, s."""

    parts: tuple[tuple[bool, float, float], ...]
    connected: float
    mapping_timeout_s: float

    def after(self, flow: Flow) -> Holding:
        """The holding time of a flow whose connections end so."""
        duration = duration_law(flow.duration_s)
        laws = tuple((share, _concurrent(duration, connects, delay)) for connects, delay, share in self.parts)
        law = laws[0][1] if len(laws) == 1 else Mixture(laws)
        return Holding(law, self.connected * flow.duration_mean_s, self.mapping_timeout_s)


def delays_of(flow: Flow, protocol: str, offer: Offer | None) -> Delays:
    """The delays of all flows that end as one does, at exits of one offer."""
    parts: dict[tuple[bool, float], float] = {}
    for one in ended(flow, protocol, offer):
        parts[one.connects, one.delay_s] = parts.get((one.connects, one.delay_s), 0.0) + one.share
    connected = sum(share for (connects, _), share in parts.items() if connects)
    mapping_timeout = sum(share * delay for (_, delay), share in parts.items())
    return Delays(tuple((*key, share) for key, share in parts.items()), connected, mapping_timeout)


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


def _concurrent(duration: HoldingTime, connects: bool, delay_s: float) -> HoldingTime:
    if not connects:
        return Fixed(delay_s)
    return Delayed(duration, delay_s) if delay_s else duration
