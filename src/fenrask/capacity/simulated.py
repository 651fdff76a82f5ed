"""The pools of ports of an estate's exits as settings of the simulation, beside what the formulas say of them."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenrask.capacity.assignments import Stream
from fenrask.capacity.assignments.pools import refused_share
from fenrask.capacity.sizing import Capacity, ExitCapacity
from fenrask.capacity.streams import Pool, pools
from fenrask.demand import POINTS_PER_HOUR, Series, ended, life_law, living
from fenrask.estate import Offer
from fenrask.teletraffic.holds import Fixed
from fenrask.teletraffic.simulation import Calls, Ending, Found, Setting, drawn
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["Asked", "Simulated", "simulated"]

_STEP_S = 60.0
"""What is refused, and held, is told by the minute."""
_RETRY_S = 1.0
"""The mean wait of a refused sender: the first retransmission comes after one second (RFC 6298)."""


@dataclass(frozen=True)
class Asked:
    """What is to be simulated: of each exit (or of some, by name) the busiest pools; the whole day, or hours of it.

    around_hours: only so many hours about each pool's busiest moment. reopen_within_s: all connections that live at
    that moment are opened anew within so many seconds, while the old ones keep their ports as they would have.
    """

    pools_of_each: int = 1
    exits: Sequence[str] = ()
    around_hours: float | None = None
    reopen_within_s: float | None = None


@dataclass(frozen=True)
class Simulated:
    """One pool of ports of one exit as a setting, and the share that the formula says is refused of it.

    busiest: the most held at once in the mean; ports: of the pool in all. formula: of the connections of the time that
    is simulated; formula_peak: of those at the busiest moment. begins_s: where in the day the setting begins, s;
    storm_s: when connections are opened anew, s after that.
    """

    exit: str
    pool: str
    what: str
    setting: Setting
    busiest: float
    ports: int
    formula: float | None
    formula_peak: float
    begins_s: float
    storm_s: float | None
    left_out: tuple[str, ...]

    @property
    def step_s(self) -> float:
        return self.setting.calls.step_s

    def moment_s(self, step: int) -> float:
        """Where in the day a step begins, s."""
        calls = self.setting.calls
        return (self.begins_s + step * calls.step_s) % ((calls.cycle or calls.steps) * calls.step_s)

    def worst_minute(self, found: Found) -> tuple[float, float]:
        """Where in the day the minute begins in which the greatest share is refused, s; and that share."""
        width = max(1, round(_STEP_S / self.step_s))
        firsts = np.arange(0, found.by_step.size, width)
        attempts = np.add.reduceat(found.attempts_by_step, firsts)
        refused = np.add.reduceat(found.by_step * found.attempts_by_step, firsts)
        shares = np.divide(refused, attempts, out=np.zeros_like(refused), where=attempts > 0)
        worst = int(np.argmax(shares))
        return self.moment_s(int(firsts[worst])), float(shares[worst])

    def by_period(self, found: Found) -> Iterator[tuple[float, float, float, float, float]]:
        """By hour, or a twelfth of what is shorter than half a day: where it begins, s; ports in use at the ends of
        its steps, mean and 5th and 95th percentile between runs; the share refused."""
        steps = found.held_mean.size
        hour = round(SECONDS_PER_HOUR / self.step_s)
        width = hour if steps >= 12 * hour else max(1, round(steps / 12))
        for first in range(0, steps, width):
            some = slice(first, min(steps, first + width))
            attempts = float(found.attempts_by_step[some].sum())
            refused = float(np.dot(found.by_step[some], found.attempts_by_step[some]))
            yield (
                self.moment_s(first),
                float(found.held_mean[some].mean()),
                float(found.held_low[some].mean()),
                float(found.held_high[some].mean()),
                refused / attempts if attempts else 0.0,
            )

    def recovers_s(self, found: Found, target: float) -> float | None:
        """After a storm's beginning, when no more than the target is refused for good, s; None where it never is."""
        if self.storm_s is None:
            return None
        first = int(self.storm_s // self.step_s)
        over = np.flatnonzero(found.by_step[first:] > target)
        if not over.size:
            return 0.0
        last = int(over[-1]) + 1
        return None if first + last >= found.by_step.size else last * self.step_s


def simulated(capacity: Capacity, asked: Asked) -> Iterator[Simulated]:
    """Of each exit the pools that refuse most by the formula, or are fullest."""
    for one in capacity.exits:
        if not asked.exits or one.exit in asked.exits:
            found = [each for each in _of_exit(capacity, one, asked) if each.busiest > 0]
            found.sort(key=lambda each: (each.formula_peak, each.busiest / max(1, each.ports)), reverse=True)
            yield from found[: asked.pools_of_each]


def _of_exit(capacity: Capacity, one: ExitCapacity, asked: Asked) -> Iterator[Simulated]:
    demand = capacity.demand
    offer = demand.ways.described.offer_of(one.exit)
    assert offer is not None
    for pool, stream in zip(pools(demand, one.exit, one.assignment.view), one.streams, strict=True):
        calls, storm_s = _within(_calls(capacity, pool, stream, offer, asked), stream, asked)
        replay = one.assignment.replay(stream, calls, one.addresses, one.how)
        refused = refused_share(stream.load.held, stream, replay.division, one.how.tries)
        peak = refused_share(np.array([stream.load.peak.held]), stream, replay.division, one.how.tries)
        yield Simulated(
            exit=one.exit,
            pool=stream.label,
            what=replay.what,
            setting=replay.setting,
            busiest=stream.busiest,
            ports=replay.division.capacity,
            formula=None if asked.reopen_within_s else _of_the_time(refused, stream, calls),
            formula_peak=float(peak[0]),
            begins_s=calls.first * calls.step_s,
            storm_s=storm_s,
            left_out=(*replay.left_out, *_left_out(calls, stream)),
        )


def _left_out(calls: Calls, stream: Stream) -> Iterator[str]:
    if stream.peakedness < 1:
        yield "a burstiness below 1"
    if not calls.settles:
        yield "what is still held of long ago: ports are kept so long that the days before do not settle it"


def _of_the_time(refused: Series, stream: Stream, calls: Calls) -> float:
    """The share refused of the connections of the time simulated; refused at every quarter, shape (n_times,)."""
    step = calls.step_s
    times = (calls.first + np.arange(calls.steps)) * step
    new = np.repeat(stream.load.new_per_s, round(SECONDS_PER_HOUR / step))[
        np.round(times / step).astype(np.int64) % (calls.cycle or calls.steps)
    ]
    quarter = SECONDS_PER_HOUR / POINTS_PER_HOUR
    grid = np.arange(refused.size + 1) * quarter
    shares = np.interp((times + step / 2) % grid[-1], grid, [*refused, refused[0]])
    return float(np.dot(shares, new) / np.sum(new)) if new.any() else 0.0


def _within(calls: Calls, stream: Stream, asked: Asked) -> tuple[Calls, float | None]:
    """The hours that are asked for; and when in them the storm begins, s."""
    cycle, step = calls.steps, calls.step_s
    peak = round(stream.load.peak.time_s // step)
    if asked.around_hours is None and asked.reopen_within_s is None:
        return calls, None
    hours = asked.around_hours if asked.around_hours is not None else _AFTER_STORM_HOURS
    steps = max(2, min(cycle, round(hours * SECONDS_PER_HOUR / step)))
    # A storm comes a little after the beginning: what counts is how it ends.
    before = steps // 2 if asked.reopen_within_s is None else min(steps // 4, round(600 / step))
    storm = None if asked.reopen_within_s is None else before * step
    return replace(calls, steps=steps, cycle=cycle, first=(peak - before) % cycle), storm


_AFTER_STORM_HOURS = 2.0


def _calls(capacity: Capacity, pool: Pool, stream: Stream, offer: Offer, asked: Asked) -> Calls:
    """The connections of one pool, each flow with its rhythm and its holds; laws that are alike are one."""
    demand = capacity.demand
    span = asked.reopen_within_s
    step = _STEP_S if span is None else _STEP_S / max(1, min(60, round(_STEP_S / span)))
    steps = round(demand.hours * SECONDS_PER_HOUR / step)
    by_law: dict[tuple[object, ...], tuple[Series, list[Ending]]] = {}
    for part, weight in zip(pool.parts, pool.weights, strict=True):
        flow = demand.ways.described.estate.flows[part.flow]
        rates = part.new_per_s * float(weight)
        if span is not None:
            rates = np.repeat(rates, steps // rates.size)
            begins = round(stream.load.peak.time_s // step)
            opened = np.arange(begins, begins + max(1, round(span / step))) % steps
            rates[opened] += living(part) * float(weight) / (opened.size * step)
        key = (id(part.profile.law), *flow.ending_key)
        if key in by_law:
            rates = rates + by_law[key][0]
        by_law[key] = (rates, list(_endings(capacity, part.flow, pool.protocol, offer)))
    return Calls(
        drawn(list(by_law.values())),
        steps,
        step,
        batch=max(1.0, stream.peakedness),
        sources=0.0 if stream.sources is None else float(stream.sources),
        retry_share=stream.retry_share,
        retry_s=_RETRY_S,
    )


def _endings(capacity: Capacity, flow_name: str, protocol: str, offer: Offer) -> Iterator[Ending]:
    flow = capacity.demand.ways.described.estate.flows[flow_name]
    reuse = offer.ports.ended_reuse if offer.ports else None
    for one in ended(flow, protocol, offer, timers_only=reuse is not None):
        life = life_law(flow.life_s) if one.lives else Fixed(0.0)
        yield Ending(one.share, life, one.delay_s, reuse is not None and one.ending in reuse.endings)
