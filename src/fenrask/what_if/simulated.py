"""The pools of ports of an estate's exits as settings of the simulation, beside what the formulas say of them."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenrask.capacity.assignments import Stream
from fenrask.capacity.assignments.contract import Replay
from fenrask.capacity.sizing import Capacity, ExitCapacity
from fenrask.demand import POINTS_PER_STEP, Series, open_at_peak
from fenrask.teletraffic.simulation import Calls, Found, Setting
from fenrask.teletraffic.simulation import Pool as Servers
from fenrask.units import SECONDS_PER_HOUR
from fenrask.what_if.replays import STEP_S, Phase, Placed, anew, calls_of, grid_of, placed

__all__ = ["Asked", "Outage", "Simulated", "simulated"]


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
    outage: "Outage | None" = None


@dataclass(frozen=True)
class Outage:
    """A case that strikes at each pool's busiest moment and is over some time later.

    struck: the same estate in the case, sized as before. lasts_s: how long, s. Connections that are cut off come back
    by the ways of the case within `back_within_s`; those of an exit that is gone are lost.
    """

    struck: Capacity
    lasts_s: float
    back_within_s: float = 60.0


@dataclass(frozen=True)
class Simulated:
    """One pool of ports of one exit as a setting, and the share that the formula says is refused of it.

    busiest: the most held at once in the mean; ports: of the pool in all. formula: of the connections of the time that
    is simulated; formula_peak: of those at the busiest moment. begins_s: where in the day the setting begins, s;
    storm_s: when connections are opened anew, s after that; lasts_s: how long the outage lasts that did it, s.
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
    not_counted: tuple[str, ...]
    lasts_s: float | None = None
    at_most: bool = False
    """Whether the formula says what is refused at most."""
    standing_back: float = 0.0
    """Connections that are open all the time and come here for the outage."""
    standing_without: float = 0.0
    """Those of them for which there is no port until it is over."""

    @property
    def standing_share(self) -> float:
        """The share of the connections that are open all the time and come here that have no port."""
        return self.standing_without / self.standing_back if self.standing_back else 0.0

    @property
    def step_s(self) -> float:
        return self.setting.calls.step_s

    def moment_s(self, step: int) -> float:
        """Where in the day a step begins, s."""
        calls = self.setting.calls
        return (self.begins_s + step * calls.step_s) % ((calls.cycle or calls.steps) * calls.step_s)

    def worst_minute(self, found: Found) -> tuple[float, float]:
        """Where in the day the minute begins in which the greatest share is refused, s; and that share."""
        width = max(1, round(STEP_S / self.step_s))
        firsts = np.arange(0, found.by_step.size, width)
        attempts = np.add.reduceat(found.attempts_by_step, firsts)
        blocked = np.add.reduceat(found.by_step * found.attempts_by_step, firsts)
        shares = np.divide(blocked, attempts, out=np.zeros_like(blocked), where=attempts > 0)
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
            blocked = float(np.dot(found.by_step[some], found.attempts_by_step[some]))
            yield (
                self.moment_s(first),
                float(found.held_mean[some].mean()),
                float(found.held_low[some].mean()),
                float(found.held_high[some].mean()),
                blocked / attempts if attempts else 0.0,
            )

    def recovers_s(self, found: Found, target: float) -> float | None:
        """After a storm's beginning, when no more than the target is refused for good, s; None where it never is."""
        if self.storm_s is None:
            return None
        first = int(self.storm_s // self.step_s)
        over = np.flatnonzero(found.by_step[first:] > target)
        last = int(over[-1]) + 1 if over.size else 0
        if self.standing_without and self.lasts_s is not None:
            last = max(last, round(self.lasts_s / self.step_s))
        if not last:
            return 0.0
        return None if first + last >= found.by_step.size else last * self.step_s


def simulated(capacity: Capacity, asked: Asked, toward: str | None = None) -> Iterator[Simulated]:
    """Of each exit the pools that refuse most by the formula, or are fullest.

    toward: of those alone that one destination alone sees, or (empty) that all others do.
    """
    for exit_ in capacity.exits:
        if (not asked.exits or exit_.exit in asked.exits) and toward in (None, exit_.toward):
            found = [each for each in _of_exit(capacity, exit_, asked) if each.busiest > 0]
            found.sort(key=lambda each: (each.formula_peak, each.busiest / max(1, each.ports)), reverse=True)
            yield from found[: asked.pools_of_each]


def _of_exit(capacity: Capacity, exit_capacity: ExitCapacity, asked: Asked) -> Iterator[Simulated]:
    normal = placed(capacity, exit_capacity)
    struck = (
        placed(asked.outage.struck, asked.outage.struck.of(exit_capacity.exit, exit_capacity.toward))
        if asked.outage
        else {}
    )
    for label in dict.fromkeys((*normal, *struck)):
        before, after = normal.get(label), struck.get(label)
        yield _struck(capacity, before, after, asked, asked.outage) if asked.outage else _settled(normal[label], asked)


def _settled(pool: Placed, asked: Asked) -> Simulated:
    """A pool as it is day by day, or with all that lives opened anew."""
    span = asked.reopen_within_s
    step, steps = grid_of(pool.capacity, span)
    phases = [Phase(pool, None, anew(pool.stream, step, steps, span))]
    calls, storm_s = _within(calls_of(phases, step, steps), pool.stream, asked)
    replay = pool.replay(calls)
    shares = _of_all(pool, pool.stream.load.concurrent, replay)
    peak = _of_all(pool, np.array([pool.stream.load.peak.concurrent]), replay)
    return Simulated(
        exit=pool.exit.name,
        pool=pool.stream.label,
        what=replay.what,
        setting=replay.setting,
        busiest=pool.stream.busiest,
        ports=replay.division.capacity,
        formula=None if span else _of_the_time(shares, pool.stream, calls),
        formula_peak=float(peak[0]),
        begins_s=calls.first * calls.step_s,
        storm_s=storm_s,
        not_counted=(*replay.not_counted, *_not_counted(calls, pool.stream)),
        at_most=replay.at_most,
    )


def _of_all(pool: Placed, concurrent: Series, replay: Replay) -> Series:
    """What is refused of all hosts, where some have no ports at all: these open all that they want."""
    refused, without = pool.blocked(concurrent, replay.division), replay.lacking
    if not without:
        return refused
    opened = (1 - without) * pool.opened(concurrent, replay.division)
    found: Series = (without + opened * refused) / (without + opened)
    return found


def _struck(normal: Capacity, before: Placed | None, after: Placed | None, asked: Asked, outage: Outage) -> Simulated:
    """A pool that a case strikes at its busiest moment, and what comes when the case is over."""
    main = after or before
    assert main is not None
    step, steps = grid_of(main.capacity, outage.back_within_s)
    begins = round(main.stream.load.peak.time_s // step)
    lasts = max(1, min(steps - 1, round(outage.lasts_s / step)))
    during = np.zeros(steps)
    during[np.arange(begins, begins + lasts) % steps] = 1.0
    phases = []
    if before:
        parts = before.replay(calls_of([Phase(before, 1 - during)], step, steps)).part
        theirs = after.replay(calls_of([Phase(after, during)], step, steps)).part if after else parts
        phases.append(Phase(before, (1 - during) * theirs / parts))
    if after:
        back = _come_back(normal, before, after)
        phases.append(Phase(after, during, anew(after.stream, step, steps, outage.back_within_s), back))
    hours = asked.around_hours or outage.lasts_s / SECONDS_PER_HOUR + _AFTER_STORM_HOURS
    wanted = replace(asked, around_hours=hours, reopen_within_s=outage.back_within_s)
    calls, storm_s = _within(calls_of(phases, step, steps), main.stream, wanted)
    replay = main.replay(calls)
    setting, not_counted = _changing(replay.setting, before, after, calls, during)
    standing = [one.stream.load.persistent if one else 0.0 for one in (before, after)]
    peak = np.zeros(1)
    if after:
        peak = _of_all(main, np.array([main.stream.load.peak.concurrent]), replay)
    return Simulated(
        exit=main.exit.exit,
        pool=main.stream.label,
        what=replay.what,
        setting=setting,
        busiest=main.stream.busiest,
        ports=replay.division.capacity,
        formula=None,
        formula_peak=float(peak[0]),
        begins_s=calls.first * calls.step_s,
        storm_s=storm_s,
        not_counted=(*replay.not_counted, *not_counted, *_not_counted(calls, main.stream)),
        lasts_s=lasts * step,
        standing_back=max(0.0, standing[1] - standing[0]),
        standing_without=max(0.0, standing[1] - max(standing[0], replay.division.capacity)),
    )


def _come_back(normal: Capacity, before: Placed | None, after: Placed) -> dict[str, float]:
    """By flow: connections that lived by other ways and come back by this pool, as its share of the flow grows.

    A flow that only grows, or whose connections last longer, has none.
    """
    already = before.shares if before else {}
    whole = {part.flow: open_at_peak(part) / float(part.path.share) for part in normal.demand.parts}
    grown = {flow: share - already.get(flow, 0.0) for flow, share in after.shares.items()}
    return {flow: more * whole[flow] for flow, more in grown.items() if more > 0 and flow in whole}


def _changing(
    setting: Setting, before: Placed | None, after: Placed | None, calls: Calls, during: Series
) -> tuple[Setting, tuple[str, ...]]:
    """The setting with its ports as they are by step; what an exit held that is gone is lost."""
    now = during[(calls.first + np.arange(calls.steps)) % during.size] > 0
    gone = (int(np.argmax(now)),) if after is None and now.any() else ()
    ports = [one.replay(calls).setting if one else setting for one in (before, after)]
    if not all(isinstance(one, Servers) for one in (setting, *ports)):
        changes = gone or any(replace(one, calls=calls) != replace(setting, calls=calls) for one in ports)  # type: ignore[type-var]
        return setting, ("ports that come and go with the case",) if changes else ()
    normal, struck = (one.servers for one in ports if isinstance(one, Servers))
    return replace(setting, servers=np.where(now, struck, normal).tolist(), cleared=gone), ()  # type: ignore[type-var]


def _not_counted(calls: Calls, stream: Stream) -> Iterator[str]:
    if stream.peakedness < 1:
        yield "a burstiness below 1"
    if not calls.settles:
        yield "what is still held of long ago: ports are kept so long that the days before do not settle it"


def _of_the_time(blocked: Series, stream: Stream, calls: Calls) -> float:
    """The share refused of the connections of the time simulated; refused at the load's times, shape (n_times,)."""
    step = calls.step_s
    times = (calls.first + np.arange(calls.steps)) * step
    new = np.repeat(stream.load.new_per_s, round(stream.load.curves.step_s / step))[
        np.round(times / step).astype(np.int64) % (calls.cycle or calls.steps)
    ]
    quarter = stream.load.curves.step_s / POINTS_PER_STEP
    grid = np.arange(blocked.size + 1) * quarter
    shares = np.interp((times + step / 2) % grid[-1], grid, [*blocked, blocked[0]])
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
