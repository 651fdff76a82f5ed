"""What can be simulated: a pool, one that is searched, blocks of owners, blocks that grow. Each runs by a seed.

A setting covers one period (a day, say) in steps; a run has steps before it, so that it begins as it ends.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from fenrask.teletraffic.arguments import Floats, unusable
from fenrask.teletraffic.backoff import FIRST_S
from fenrask.teletraffic.simulation.laws import Drawn

__all__ = [
    "Blocks", "Calls", "Growing", "Hashed", "Hosts", "Job", "OwnBlocks", "Pool", "Run", "Searched", "Setting",
    "refused_of", "tries_of",
]  # fmt: skip

Counts = NDArray[np.int64]
_PER_SLICE, _MOST_PER_SLICE = 32, 256
"""Calls of a slice, about: few enough to sort at once, many enough to draw at once."""
_SETTLED, _TIMES, _CYCLES = 1e-4, 3, 8
_OF_LEVELS, _OF_JOBS, _OF_CELLS = 20, 21, 22


@dataclass(frozen=True)
class Run:
    """One period by step, shape (n_steps,): attempts, refused, held at its end; and the retries that were let go."""

    attempts: Counts
    blocked: Counts
    concurrent: Counts
    let_go: int = 0
    at_host: int = 0
    """Calls that hosts themselves did not open: no attempts."""
    served: Counts | None = None
    """Calls that were served at each try, at last those that never were; None where nothing tells."""


@dataclass(frozen=True)
class Job:
    """Calls that begin together: those of `every_s` seconds of its rates, over `spread_s`, again and again.

    at_s: of a start, after the beginning of the cycle.
    """

    drawn: Drawn
    every_s: float
    spread_s: float
    at_s: float = 0.0

    def calls(
        self, rows: Counts, step_s: float, dice: np.random.Generator, begins_s: float = 0.0
    ) -> tuple[Floats, Floats, Floats]:
        """Begins, lives and delays after, s, over steps with these rows; a part of a call is one by that chance.

        begins_s: when the first step is, after the beginning of the cycle.
        """
        starts = np.arange((self.at_s - begins_s) % self.every_s, rows.size * step_s, self.every_s)
        here = rows[np.minimum((starts / step_s).astype(np.int64), rows.size - 1)]
        due = self.drawn.rates[here] * self.every_s
        numbers = np.floor(due + dice.random(due.size)).astype(np.int64)
        begins = np.repeat(starts, numbers) + dice.uniform(0.0, max(self.spread_s, 1e-9), int(numbers.sum()))
        lives, delays = np.empty(begins.size), np.empty(begins.size)
        of_call = np.repeat(here, numbers)
        for row in np.unique(of_call).tolist():
            mine = of_call == row
            lives[mine], delays[mine] = self.drawn.lives(row, int(mine.sum()), dice)
        return begins, lives, delays


@dataclass(frozen=True)
class Calls:
    """Arrivals and holds over `steps` steps of `step_s` seconds, of a cycle that repeats.

    drawn: rates and laws, its rows dividing the cycle evenly. cycle: steps of it, where those counted are a part of it
    from step `first` on; else they are the whole. batch: calls that come at once, mean of a geometric
    number (for exponential holds the variance-to-mean ratio of the held). on_off_s: mean times for which arrivals come,
    and do not. retry_share of the refused try again after retry_s, s, exponentially. rate_cv: coefficient of variation
    of a lognormal level of all rates, which stays for steady_s, s, and is then another.
    """

    drawn: Drawn
    steps: int
    step_s: float
    batch: float = 1.0
    on_off_s: tuple[float, float] = (0.0, 0.0)
    retry_share: float = 0.0
    retry_s: float = 1.0
    cycle: int | None = None
    first: int = 0
    rate_cv: float = 0.0
    steady_s: float = 300.0
    apart: Drawn | None = None
    jobs: tuple[Job, ...] = ()
    """Those of `drawn` that begin together, and the others alone: `Hosts` runs them so, all else as if by chance."""
    warm_steps: int | None = None
    levels: Floats | None = field(default=None, compare=False, repr=False)
    """By step of a run, `warm` ones included, how many times its rate comes; drawn for each run by `of_run`."""

    @property
    def rows(self) -> Counts:
        """The row in force in each step, from `warm` steps before those that are counted."""
        cycle = self.cycle or self.steps
        steps = np.arange(self.first - self.warm, self.first + self.steps) % cycle
        rows: Counts = steps * self.drawn.rates.size // cycle
        return rows

    @property
    def settles(self) -> bool:
        """Whether the steps before are enough for what is held to settle."""
        return self.drawn.settled_s(_SETTLED) <= _CYCLES * (self.cycle or self.steps) * self.step_s

    @property
    def warm(self) -> int:
        """Steps to run before, until what is held has settled, some of it refused: from one step to some cycles."""
        if self.warm_steps is not None:
            return self.warm_steps
        settled = _TIMES * self.drawn.settled_s(_SETTLED)
        return int(min(_CYCLES * (self.cycle or self.steps), max(1, np.ceil(settled / self.step_s))))

    def slices(self, servers: int | None = None) -> int:
        """Slices of a step: wider ones where so many servers will hardly ever be taken."""
        busiest = float(np.max(self.drawn.rates * self.drawn.mean_s)) * self._highest
        free = 0.0 if servers is None else servers - busiest - 8 * np.sqrt(busiest * self.batch)
        each = max(_PER_SLICE, min(_MOST_PER_SLICE, free / 2))
        return max(1, int(np.ceil(float(np.max(self.drawn.rates)) * self._highest * self.step_s / each)))

    @property
    def _highest(self) -> float:
        return 1.0 if self.levels is None else float(np.max(self.levels))

    def of_run(self, seed: int, number: int) -> "Calls":
        """The same with the levels that one run meets; they change where a multiple of `steady_s` is passed."""
        if not self.rate_cv or self.levels is not None:
            return self
        each = max(1, round(self.steady_s / self.step_s))
        # Of several levels within a step their mean counts.
        cv = self.rate_cv * min(1.0, math.sqrt(self.steady_s / self.step_s))
        sigma = math.sqrt(math.log1p(cv * cv))
        dice = np.random.default_rng([seed, number, _OF_LEVELS])
        steps = self.warm + self.steps
        drawn = dice.lognormal(-sigma * sigma / 2, sigma, steps // each + 2)
        return replace(self, levels=np.repeat(drawn, each)[dice.integers(each) :][:steps])

    @property
    def of_a_run(self) -> float:
        """Calls of one run in the mean, those before the counted steps included."""
        return float(np.mean(self.drawn.rates)) * (self.steps + self.warm) * self.step_s

    @property
    def most_held(self) -> float:
        """More than ever are held at once, were there servers without end: forty deviations above the mean."""
        busiest = float(np.max(self.drawn.rates * self.drawn.mean_s)) * self._highest
        return busiest + 40 * float(np.sqrt(busiest * self.batch)) + 1000 * self.batch

    def scaled(self, factor: float) -> "Calls":
        """The same with the calls multiplied by a factor."""
        return replace(
            self,
            drawn=_scaled(self.drawn, factor),
            apart=self.apart and _scaled(self.apart, factor),
            jobs=tuple(replace(job, drawn=_scaled(job.drawn, factor)) for job in self.jobs),
        )

    def together(self, seed: int, number: int) -> tuple[Floats, Floats, Floats]:
        """Begins, lives and delays of all jobs' calls of one run, in order, s."""
        dice = np.random.default_rng([seed, number, _OF_JOBS])
        begins_s = (self.first - self.warm) * self.step_s
        each = [job.calls(self.rows, self.step_s, dice, begins_s) for job in self.jobs]
        # One without any call lets none be three empty columns.
        each.append((np.zeros(0), np.zeros(0), np.zeros(0)))
        begins, lives, delays = (np.concatenate(some) for some in zip(*each, strict=True))
        order = np.argsort(begins, kind="stable")
        return begins[order], lives[order], delays[order]

    def laid_out(self, factor: float = 1.0) -> tuple[Floats, tuple[Any, ...]]:
        """Rates by step from `warm` steps before the period on, times a factor; and the law as the kernels take it."""
        rows, drawn = self.rows, self.drawn
        rates = drawn.rates[rows] * factor
        if self.levels is not None:
            rates = rates * self.levels
        return rates, (rows, drawn.mixes, drawn.kinds, drawn.scale, drawn.spread, drawn.delays, drawn.table)


def _scaled(drawn: Drawn, factor: float) -> Drawn:
    return replace(drawn, rates=drawn.rates * factor)


def refused_of(times_s: Floats, holds_s: Floats, servers: int) -> NDArray[np.bool_]:
    """Calls as they were, in the order of their times, s, with their holds, s: whether so many servers refuse each.

    Arrays of one length; UnusableInput for times that fall, or negative holds.
    """
    if times_s.size != holds_s.size or np.any(np.diff(times_s) < 0) or np.any(holds_s < 0):
        raise unusable("times_s", "times that fall, or holds of another number or below 0", "calls in order")
    from fenrask.teletraffic.simulation.kernels.heap import traced

    blocked: NDArray[np.bool_] = traced(times_s.astype(np.float64), holds_s.astype(np.float64), servers)
    return blocked


def tries_of(times_s: Floats, holds_s: Floats, servers: int, retries: int, first_s: float) -> NDArray[np.int8]:
    """The same where who is refused tries again after `first_s` s, then after twice that, and so on, `retries` times.

    Returns at which try each was served, 0 for the first; -1 for none.
    """
    if times_s.size != holds_s.size or np.any(np.diff(times_s) < 0) or np.any(holds_s < 0):
        raise unusable("times_s", "times that fall, or holds of another number or below 0", "calls in order")
    from fenrask.teletraffic.simulation.kernels.heap import tried

    found: NDArray[np.int8] = tried(times_s.astype(np.float64), holds_s.astype(np.float64), servers, retries, first_s)
    return found


class Setting(Protocol):
    """Something that can be run."""

    @property
    def calls(self) -> Calls:
        """What arrives."""
        ...

    def run(self, seed: int, number: int) -> Run:
        """One period, the same for the same two numbers."""
        ...


@dataclass(frozen=True)
class Pool:
    """Servers that are all alike, by step or throughout; `cleared`: steps at whose beginning all calls are lost.

    open_throughout: so many calls that never end each take a server here with this chance, other ones in each run.
    """

    calls: Calls
    servers: int | Sequence[int]
    cleared: tuple[int, ...] = ()
    open_throughout: tuple[int, float] = (0, 0.0)

    def run(self, seed: int, number: int) -> Run:
        from fenrask.teletraffic.simulation.kernels.pool import pool
        from fenrask.teletraffic.simulation.kernels.random_numbers import seeded

        calls = self.calls.of_run(seed, number)
        rates, law = calls.laid_out()
        # Servers that are never reached take room alone.
        number_open = np.random.default_rng([seed, number, 3]).binomial(*self.open_throughout)
        left = np.maximum(np.asarray(self.servers) - number_open, 0)
        some = np.minimum(left, min(calls.most_held, 2.0**31 - 2))
        servers = np.broadcast_to(some.astype(np.int64), calls.steps)
        cleared = np.zeros(rates.size, dtype=np.bool_)
        cleared[[calls.warm + step for step in self.cleared]] = True
        servers = np.concatenate([np.full(calls.warm, np.max(servers)), servers])
        found = pool(
            seeded(seed, number),
            rates,
            calls.step_s,
            calls.slices(int(np.min(servers))),
            calls.warm,
            servers,
            cleared,
            law,
            calls.batch,
            calls.on_off_s,
            (calls.retry_share, calls.retry_s),
        )
        return Run(*found)


@dataclass(frozen=True)
class Hosts:
    """Servers that are all alike, for `owners` hosts of which each has `each` calls alive at most; None for no limit.

    A server stays taken for the delay after a call's life, when its host may open another one. A call without a server
    is tried again `retries` times, after `first_s`, twice that, four times that and so on, s.
    places: the number of places; a hash sends each host to one, drawn for each run. nodes: the number of cells of a
    place, with `servers` of their own each; a hash sends each call to one. Counts are of all cells.
    open_always: calls that never end, which a hash sends to cells likewise; a host's part is at its place.
    """

    calls: Calls
    servers: int
    owners: int = 1
    each: int | None = None
    retries: int = 0
    first_s: float = FIRST_S
    places: int = 1
    nodes: int = 1
    open_always: float = 0.0

    def run(self, seed: int, number: int) -> Run:
        dice = np.random.default_rng([seed, number, _OF_CELLS])
        place = dice.integers(self.places, size=self.owners)
        cells, taken = self.places * self.nodes, np.array([round(self.open_always)])
        if cells > 1:
            here = np.bincount(place, minlength=self.places) / self.owners * self.open_always
            even = np.full(self.nodes, 1 / self.nodes)
            taken = np.concatenate([dice.multinomial(round(each), even) for each in here.tolist()])
        servers = np.full(cells, min(self.servers, 2**31 - 1))
        taken = np.minimum(taken, servers)
        places = (place * self.nodes).astype(np.int32)
        return _events(self, (seed, number), _Owned(servers, taken, places), nodes=self.nodes)


_NO_GROWTH = (0, 0, 0)


class _Owned(NamedTuple):
    """Servers of each cell, and those that are taken from the beginning; and the first cell of each owner."""

    servers: Counts
    taken: Counts
    places: NDArray[np.int32]


def _events(
    setting: "Hosts | OwnBlocks",
    by: tuple[int, int],
    owned: _Owned,
    nodes: int = 1,
    growth: tuple[int, int, int] = _NO_GROWTH,
) -> Run:
    """One run, call by call: see the kernel `single_events`; `by` are seed and number."""
    from fenrask.teletraffic.simulation.kernels.random_numbers import seeded
    from fenrask.teletraffic.simulation.kernels.single_events import single_events

    calls = setting.calls.of_run(*by)
    begins, lives, delays = calls.together(*by)
    rates, law = replace(calls, drawn=calls.apart or calls.drawn, warm_steps=calls.warm).laid_out()
    attempts, blocked, concurrent, at_host, served = single_events(
        seeded(*by),
        rates,
        calls.step_s,
        calls.warm,
        owned.servers.astype(np.int64),
        owned.taken.astype(np.int64),
        owned.places,
        nodes,
        growth,
        2**62 if setting.each is None else setting.each,
        setting.retries,
        setting.first_s,
        law,
        calls.batch,
        begins,
        lives,
        delays,
    )
    return Run(attempts, blocked, concurrent, at_host=int(at_host.sum()), served=served)


@dataclass(frozen=True)
class Searched:
    """A pool with a map of its servers: from a random one on it tries so many in each of `rounds`.

    In the last `late` tries of a round an ended, reusable one is taken with a chance, before its time.
    """

    calls: Calls
    servers: int
    rounds: tuple[int, ...]
    late: int = 0
    chance: float = 0.0

    def run(self, seed: int, number: int) -> Run:
        from fenrask.teletraffic.simulation.kernels.random_numbers import seeded
        from fenrask.teletraffic.simulation.kernels.search import searched

        calls = self.calls.of_run(seed, number)
        rates, law = calls.laid_out()
        found = searched(
            seeded(seed, number),
            rates,
            calls.step_s,
            calls.slices(),
            calls.warm,
            self.servers,
            law,
            calls.drawn.reusable,
            np.array(self.rounds, dtype=np.int64),
            self.late,
            self.chance,
            (calls.retry_share, calls.retry_s),
        )
        return Run(*found)


@dataclass(frozen=True)
class Hashed:
    """Cells of their own servers, to which a hash sends owners: other ones in each run. Counts are of all cells.

    open_each: servers that each owner has for good, at its own cell.
    """

    calls: Calls
    servers: int
    cells: int
    owners: int
    rounds: tuple[int, ...] = ()
    late: int = 0
    chance: float = 0.0
    open_each: float = 0.0

    def run(self, seed: int, number: int) -> Run:
        dice = np.random.default_rng([seed, number, self.cells])
        met = np.bincount(dice.integers(self.cells, size=self.owners), minlength=self.cells)
        total: Run | None = None
        all_calls = self.calls.of_run(seed, number)
        for cell in np.flatnonzero(met):
            share = float(met[cell]) / self.owners
            calls = all_calls.scaled(share)
            left = max(0, self.servers - round(float(met[cell]) * self.open_each))
            setting: Setting = Pool(calls, left)
            if self.rounds:
                setting = Searched(calls, left, self.rounds, self.late, self.chance)
            found = setting.run(seed, number * self.cells + int(cell))
            total = found if total is None else _added(total, found)
        assert total is not None
        return total


def _added(run: Run, other: Run) -> Run:
    return Run(
        run.attempts + other.attempts,
        run.blocked + other.blocked,
        run.concurrent + other.concurrent,
        run.let_go + other.let_go,
    )


@dataclass(frozen=True)
class Blocks:
    """Owners with `servers` of their own each; the calls are those of all owners together.

    there: how many owners get any, of these and of `others`, in the order in which they happen to come; None for all.
    """

    calls: Calls
    owners: int
    servers: int
    there: int | None = None
    others: int = 0

    def run(self, seed: int, number: int) -> Run:
        from fenrask.teletraffic.simulation.kernels.blocks import blocks
        from fenrask.teletraffic.simulation.kernels.random_numbers import seeded

        calls = self.calls.of_run(seed, number)
        rates, law = calls.laid_out(1 / self.owners)
        state, served = seeded(seed, number), self._served(seed, number)
        attempts, blocked, concurrent, left = blocks(state, rates, calls.step_s, calls.warm, served, self.servers, law)
        if served < self.owners:
            dice = np.random.default_rng([seed, number, 1])
            more = dice.poisson(rates[calls.warm :] * calls.step_s * (self.owners - served))
            attempts, blocked = attempts + more, blocked + more
        return Run(attempts, blocked, concurrent, left)

    def _served(self, seed: int, number: int) -> int:
        return _served(self.owners, self.there, self.others, seed, number)


def _served(owners: int, there: int | None, others: int, seed: int, number: int) -> int:
    """How many of these owners, and not of the others, come before all servers are given away."""
    if there is None or there >= owners + others:
        return owners
    dice = np.random.default_rng([seed, number, 2])
    return int(dice.hypergeometric(owners, others, there)) if there else 0


@dataclass(frozen=True)
class OwnBlocks:
    """The same, or blocks that double from `servers` to `last` of `total`, for owners that are `Hosts`.

    They have `each` calls alive at most, try again, or begin calls together. open_each: servers of its block that each
    owner has for good.
    """

    calls: Calls
    owners: int
    servers: int
    each: int | None = None
    retries: int = 0
    first_s: float = FIRST_S
    there: int | None = None
    others: int = 0
    last: int = 0
    total: int = 0
    open_each: int = 0

    def run(self, seed: int, number: int) -> Run:
        places = np.arange(self.owners, dtype=np.int32)
        room, taken = np.zeros(self.owners, dtype=np.int64), np.zeros(self.owners, dtype=np.int64)
        if not self.total:
            room[: _served(self.owners, self.there, self.others, seed, number)] = self.servers
            return _events(self, (seed, number), _Owned(room, np.minimum(room, self.open_each), places))
        if self.open_each:
            size = self.servers
            while size < self.open_each and 2 * size <= self.last:
                size *= 2
            room[: self.total // size] = size
            taken = np.minimum(room, self.open_each)
        growth = (self.servers, self.last, self.total)
        return _events(self, (seed, number), _Owned(room, taken, places), growth=growth)


@dataclass(frozen=True)
class Growing:
    """Owners, each as likely, whose blocks double from `first` up to `last` of `total` servers.

    open_each: servers of its block that each owner has for good.
    """

    calls: Calls
    owners: int
    first: int
    last: int
    total: int
    open_each: int = 0

    def run(self, seed: int, number: int) -> Run:
        from fenrask.teletraffic.simulation.kernels.blocks import growing
        from fenrask.teletraffic.simulation.kernels.random_numbers import seeded

        calls = self.calls.of_run(seed, number)
        rates, law = calls.laid_out()
        attempts, blocked, concurrent, _ = growing(
            seeded(seed, number),
            rates,
            calls.step_s,
            calls.slices(),
            calls.warm,
            self.owners,
            self.first,
            self.last,
            self.total,
            self.open_each,
            law,
        )
        return Run(attempts, blocked, concurrent)
