"""Pools of ports as calls and settings of the simulation: what comes to each, in one state of the estate or in two."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from fenrask.capacity.assignments import Stream
from fenrask.capacity.assignments.contract import Division, Replay
from fenrask.capacity.assignments.pools import blocking, turned_away
from fenrask.capacity.sizing import Capacity, ExitCapacity
from fenrask.capacity.streams import Pool, pools
from fenrask.demand import Part, Parts, Series, ended, open_at_peak
from fenrask.estate import Flow, Offer
from fenrask.teletraffic.holding import Fixed
from fenrask.teletraffic.simulation import Calls, Drawn, Ending, Job, drawn
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["STEP_S", "Phase", "Placed", "anew", "calls_of", "grid_of", "placed"]

STEP_S = 60.0
"""What is refused, and held, is told by the minute."""
_RETRY_S = 1.0
"""The mean wait of a refused sender: the first retransmission comes after one second (RFC 6298)."""


@dataclass(frozen=True)
class Placed:
    """One pool of one exit in one state of the estate."""

    capacity: Capacity
    exit: ExitCapacity
    pool: Pool
    stream: Stream

    @property
    def offer(self) -> Offer:
        offer = self.capacity.demand.paths.described.offer_of(self.exit.exit)
        assert offer is not None
        return offer

    @cached_property
    def shares(self) -> dict[str, float]:
        """By flow: the share of all its connections that this pool has at any time."""
        found: dict[str, float] = {}
        for part, weight in zip(self.pool.parts, self.pool.weights, strict=True):
            found[part.flow] = found.get(part.flow, 0.0) + float(part.path.share) * float(weight)
        return found

    def replay(self, calls: Calls) -> Replay:
        """The pool as a setting, with these calls."""
        return self.exit.assignment.replay(self.stream, calls, self.exit.addresses, self.exit.how, self.exit.streams)

    def blocked(self, concurrent: Series, division: Division) -> Series:
        """What the formula says is refused at these means held."""
        return blocking(concurrent, self.stream, division, self.exit.how.tries)

    def opened(self, concurrent: Series, division: Division) -> Series:
        """The share of connections that hosts open, by limits of their own."""
        return 1 - turned_away(concurrent, self.stream, division, self.exit.how.tries)


def placed(capacity: Capacity, exit_capacity: ExitCapacity | None) -> dict[str, Placed]:
    """The pools of an exit, by what they are called; none for an exit that is not there."""
    if exit_capacity is None:
        return {}
    some = pools(capacity.demand, exit_capacity.exit, exit_capacity.assignment.view, toward=exit_capacity.toward)
    both = zip(some, exit_capacity.streams, strict=True)
    return {stream.label: Placed(capacity, exit_capacity, pool, stream) for pool, stream in both}


@dataclass(frozen=True)
class Phase:
    """What comes to a pool in one state: how much of it by step of the cycle, and what of the living comes anew.

    anew: by step, what part of that per s. back: by flow, how many connections that is; left out: all that live.
    """

    of: Placed
    share: Series | None = None
    anew: Series | None = None
    back: Mapping[str, float] | None = None

    def opened(self, part: Part, weight: float) -> float:
        """The connections of a part that come anew: its share of those of its flow."""
        if self.back is None:
            return open_at_peak(part) * weight
        if part.holding_s is None:
            # Those of a standing pool are as many as stand: the ports they take are taken off the others'.
            return 0.0
        whole = self.of.shares[part.flow]
        return self.back.get(part.flow, 0.0) * float(part.path.share) * weight / whole if whole else 0.0


def grid_of(capacity: Capacity, span: float | None) -> tuple[float, int]:
    """The width of a step, s, fine enough for what comes within a span; and the steps of the cycle."""
    step = STEP_S if span is None else STEP_S / max(1, min(60, round(STEP_S / span)))
    return step, round(capacity.demand.hours * SECONDS_PER_HOUR / step)


def anew(stream: Stream, step: float, steps: int, span: float | None) -> Series | None:
    """By step: what part per s of what comes anew within a span from the busiest moment on; None without a span."""
    if span is None:
        return None
    begins, found = round(stream.load.peak.time_s // step), np.zeros(steps)
    opened = np.arange(begins, begins + max(1, round(span / step))) % steps
    found[opened] = 1 / (opened.size * step)
    return found


def calls_of(phases: Sequence[Phase], step: float, steps: int) -> Calls:
    """The connections of one pool, each flow with its profile and its holds; laws that are alike are one."""
    by_law: dict[tuple[object, ...], tuple[Series, list[Ending]]] = {}
    jobs: dict[tuple[object, ...], tuple[Series, list[Ending]]] = {}
    plain = all(phase.share is None and phase.anew is None for phase in phases)
    for phase in phases:
        at_exit = phase.of
        for part, weight in zip(at_exit.pool.parts, at_exit.pool.weights, strict=True):
            flow = at_exit.capacity.demand.paths.described.estate.flows[part.flow]
            rates = part.new_per_s * float(weight)
            if not plain:
                rates = np.repeat(rates, steps // rates.size) * (1.0 if phase.share is None else phase.share)
            if phase.anew is not None:
                rates = rates + phase.opened(part, float(weight)) * phase.anew
            key = (part.curve.law, *flow.ending_key)
            endings = list(_endings(part, flow, at_exit.pool.protocol, at_exit.offer))
            several = [(by_law, key, rates)]
            if flow.every_s is not None:
                with_starts = (flow.every_s, flow.spread_s, flow.at_s or 0.0, *key)
                several = [(jobs, with_starts, rates * flow.job_share)]
                if flow.job_share < 1:
                    several.append((by_law, key, rates * (1 - flow.job_share)))
            for some, of, its_rates in several:
                some[of] = (its_rates + some[of][0] if of in some else its_rates, endings)
    at_exit, stream = phases[-1].of, phases[-1].of.stream
    streams = drawn([*by_law.values(), *jobs.values()])
    cv, steady_s = _variation(at_exit)
    return Calls(
        streams,
        steps,
        step,
        batch=1 + (max(1.0, stream.peakedness) - 1) / (2 * streams.overlap) if stream.peakedness > 1 else 1.0,
        rate_cv=cv,
        steady_s=steady_s,
        retry_share=stream.retry_share,
        retry_s=_RETRY_S,
        apart=_apart(streams, by_law.values(), jobs.values()) if jobs else None,
        jobs=tuple(Job(drawn([some]), *key[:3]) for key, some in jobs.items()),  # type: ignore[arg-type]
    )


def _apart(
    streams: Drawn, others: Iterable[tuple[Series, list[Ending]]], jobs: Iterable[tuple[Series, list[Ending]]]
) -> Drawn:
    """What comes beside jobs. Where nothing does, a try of theirs that comes again is drawn as all calls are."""
    alone = drawn([*others, *((0 * rates, endings) for rates, endings in jobs)])
    return replace(alone, mixes=np.where(alone.rates[:, None] > 0, alone.mixes, streams.mixes))


def _variation(at_exit: Placed) -> tuple[float, float]:
    """The coefficient of variation of a pool's rate, and for how long it keeps a level, s: weighed by what is held."""
    parts = Parts.of(at_exit.pool.parts)
    traffic, flows = parts.laid.traffic, parts.flow
    if not traffic.is_varied:
        return 0.0, 1.0
    cv = np.where(traffic.is_standing[flows], 0.0, traffic.rate_cv[flows])
    held = (parts.laid.mean_concurrent[parts.rows] - parts.persistent) * at_exit.pool.weights
    if not np.any(cv * held > 0):
        return 0.0, 1.0
    steady_s = float(np.dot(traffic.rate_steady_s[flows], cv * held) / np.dot(cv, held))
    return float(np.dot(cv, held) / held.sum()), steady_s


def _endings(part: Part, flow: Flow, protocol: str, offer: Offer) -> Iterator[Ending]:
    lives = part.curve.family.lives(part.curve.duration_s)
    reuse = offer.ports.ended_reuse if offer.ports else None
    for ending in ended(flow, protocol, offer, timers_only=reuse is not None):
        duration = lives if ending.connects else Fixed(0.0)
        yield Ending(ending.share, duration, ending.delay_s, reuse is not None and ending.ending in reuse.endings)
