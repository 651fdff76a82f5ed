"""A summary of records as load: rates, durations, endings, volumes and concurrency of each subnet and destination."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from operator import mul
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Described
from fenrask.records.batch import ENDING_NAMES, OPEN
from fenrask.records.counts import Counts
from fenrask.records.days import Days, days_of_each
from fenrask.records.dispersion import Dispersion, dispersions
from fenrask.records.jobs import LEAST_CONNECTIONS, Job, job
from fenrask.records.matching import Pairs
from fenrask.records.runs import Runs, cuts
from fenrask.records.summary import PAIR_BITS, Summary, moves_of, pairs_in

__all__ = ["Fit", "Loads", "Measured", "measured", "measured_file", "measured_json", "open_by_minute", "stated_rates"]

_HOUR = 3600
_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
_GOOD = 0.03
"""Greatest distance of a fitted law from what was measured at which it is taken instead."""
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Fit:
    """A law fitted to durations: its shape and parameters as a flow states them, and its distance from the data.

    The distance is the greatest between both distribution functions (Kolmogorov 1933), over the bins: of connections,
    or of the time that these take together, which long ones have most of.
    """

    law: dict[str, Any]
    distance: float


@dataclass(frozen=True)
class MeasuredLaw:
    """Durations, s, and the share of the connections that last each; the mean is that of all, exactly."""

    values: tuple[float, ...]
    shares: tuple[float, ...]


@dataclass(frozen=True)
class Measured:
    """The load of one subnet toward one destination, as records show it."""

    subnet: str
    destination: str
    connections: int
    days: Days
    """Those of which at least half was looked at, their profile, and how they vary."""
    duration_s: float
    quantiles: dict[float, float]
    law: "MeasuredLaw"
    """The law as it was measured."""
    fit: Fit
    endings: dict[str, float]
    """Shares of the ways to end, as flows name them, among the connections whose end is known."""
    still_open: int
    """Connections that were open when nobody looked any more: they last longer than they were seen to."""
    continuing: int
    """Connections that were open when somebody began to look: they are open, and not new."""
    bytes_out: int
    bytes_in: int
    concurrent: float
    """In the mean of the time looked at."""
    concurrent_peak: int
    """The most that are open at one instant."""
    concurrent_peak_s: int
    """When that was first, seconds since 1970."""
    busiest_minute_per_s: float
    dispersion: Dispersion
    """How unevenly connections come within the hour."""
    job: Job | None
    """The job that opens a part of them at equal times, if one does."""
    addresses: int
    busiest_address_share: float

    @cached_property
    def new_per_s(self) -> float:
        """New connections, in the mean of a day, from the hours looked at, /s."""
        return self.days.mean_per_s

    @cached_property
    def concurrent_by_law(self) -> float:
        """The concurrent connections that the rate and the law, as they are saved, have in the mean (Little 1961)."""
        come_about = 1.0 - self.endings.get("rejected", 0.0) - self.endings.get("unanswered", 0.0)
        law = self.saved_law
        mean = law["mean"] if "mean" in law else sum(map(mul, self.law.values, self.law.shares))
        return self.new_per_s * come_about * float(mean)

    @property
    def measured_law(self) -> dict[str, Any]:
        """The law as it was measured, as a flow states it."""
        return {"shape": "measured", "values": [*self.law.values], "shares": [*self.law.shares]}

    @property
    def saved_law(self) -> dict[str, Any]:
        """The law that flows are given: the fitted one, where one is near."""
        return self.fit.law if self.fit.law["shape"] != "measured" else self.measured_law


def measured(summary: Summary, pairs: Pairs) -> list[Measured]:
    """Every pair with connections, the most first."""
    chunks = [*_chunks(summary, pairs)]
    # Compiled loops and transforms run beside each other.
    with ThreadPoolExecutor(min(_THREADS, len(chunks) or 1)) as threads:
        several = [*threads.map(lambda some: _several(summary, pairs, some), chunks)]
    return sorted((one for some in several for one in some), key=lambda load: -load.connections)


_AT_ONCE, _TIMES_AT_ONCE = 1 << 12, 1 << 19
"""Pairs that are worked out together, and about how many times of connections."""
_THREADS = 2


def _chunks(summary: Summary, pairs: Pairs) -> Iterator[NDArray[np.int64]]:
    """All pairs with connections, some at a time."""
    numbers = pairs_in(summary.begun)
    upto = np.cumsum(summary.begun.values)
    first, times = 0, 0
    for place, end in enumerate(upto.tolist(), 1):
        if place - first == _AT_ONCE or end - times >= _TIMES_AT_ONCE or place == numbers.size:
            yield numbers[first:place]
            first, times = place, end


@dataclass(frozen=True)
class _Some:
    """The counts of some pairs: what is beside the pair in each key, and the pairs' places from `firsts` on."""

    rest: NDArray[np.int64]
    values: NDArray[np.int64]
    firsts: NDArray[np.int64]

    @classmethod
    def of(cls, counts: Counts, numbers: NDArray[np.int64]) -> "_Some":
        """Those of pairs in rising order."""
        rest, rows, firsts = _rows_of(counts.keys, numbers, PAIR_BITS)
        return cls(rest, counts.values[rows], firsts)

    @property
    def of_pair(self) -> NDArray[np.int64]:
        """The place of each count's pair."""
        return np.repeat(np.arange(self.firsts.size - 1), np.diff(self.firsts))

    def sums(self) -> NDArray[np.int64]:
        """The sum of each pair."""
        summed = np.concatenate([[0], np.cumsum(self.values)])
        found: NDArray[np.int64] = summed[self.firsts[1:]] - summed[self.firsts[:-1]]
        return found


_Rows = tuple[NDArray[np.int64], slice | NDArray[np.int64], NDArray[np.int64]]


def _rows_of(keys: NDArray[np.int64], numbers: NDArray[np.int64], bits: int) -> _Rows:
    """What is beside the pair in keys of some pairs, their rows, and where each pair's begin; bits: below the pair."""
    first, last = (np.searchsorted(keys, one << bits) for one in (numbers, numbers + 1))
    sizes = last - first
    firsts = np.concatenate([[0], np.cumsum(sizes)])
    rows: slice | NDArray[np.int64] = slice(int(first[0]), int(last[-1]))
    if last[-1] - first[0] != firsts[-1]:
        # Others have keys between them.
        rows = np.repeat(first - firsts[:-1], sizes) + np.arange(firsts[-1])
    return keys[rows] & ((1 << bits) - 1), rows, firsts


def _several(summary: Summary, pairs: Pairs, numbers: NDArray[np.int64]) -> list[Measured]:
    from fenrask.records.kernels.loads import busiest_of

    first, last = int(numbers[0]) << PAIR_BITS, (int(numbers[-1]) + 1) << PAIR_BITS
    starts = _Some.of(summary.starts.within(first, last), numbers)
    total, minute = busiest_of(starts.rest, starts.values, starts.firsts)
    hours, looked = summary.looked_at
    concurrent = _concurrency(summary, pairs, numbers)
    different, busiest = _addresses(summary.addresses, numbers)
    sums = [_Some.of(one, numbers).sums() for one in (summary.bytes_out, summary.bytes_in, summary.continuing)]
    uneven, jobs = _unevenness(summary, starts)
    of_hour = starts.of_pair * hours.size + np.searchsorted(hours, starts.rest // _HOUR)
    by_hour = np.bincount(of_hour, weights=starts.values, minlength=numbers.size * hours.size)
    days = days_of_each(hours, looked, by_hour.reshape(numbers.size, hours.size).astype(np.float64), uneven)
    columns = (
        total.tolist(), days, *_laws(summary, numbers), *_ended(summary, numbers),
        *(one.tolist() for one in concurrent),
        (minute / 60).tolist(), uneven, jobs, different.tolist(), (busiest / total).tolist(),
        *(one.tolist() for one in sums),
    )  # fmt: skip
    return [
        Measured(
            *pairs.name(number), connections, each, duration, quantiles, law, fit, endings, still_open, continuing, out,
            back, mean, peak, when, busy, one, job_, different, share,
        )
        for (
            number, connections, each, duration, quantiles, law, fit, endings, still_open, mean, peak, when, busy, one,
            job_, different, share, out, back, continuing,
        ) in zip(numbers.tolist(), *columns, strict=True)
    ]  # fmt: skip


def _concurrency(summary: Summary, pairs: Pairs, numbers: NDArray[np.int64]) -> tuple[NDArray[Any], ...]:
    """How many connections of each pair are open in the mean and at most, and when that is first."""
    from fenrask.records.kernels.loads import STATES, concurrency_of

    bits, states = pairs.time_bits, np.zeros((numbers.size, STATES), dtype=np.int64)
    area, times = np.zeros(numbers.size), (summary.opened, summary.ended)
    for low, high in cuts(times, int(numbers[0]) << bits, (int(numbers[-1]) + 1) << bits, _TIMES_AT_ONCE):
        (opened, _, of_opened), (ended, _, of_ended) = (
            _rows_of(one.within(low, high).keys, numbers, bits) for one in times
        )
        concurrency_of(opened, of_opened, ended, of_ended, states, area)
    span = max(1.0, float(summary.looked_at[1].sum()))
    return area * 2.0**pairs.coarse / 1e3 / span, states[:, 2], (states[:, 3] << pairs.coarse) // 1000


def _addresses(found: Runs[Counts], numbers: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How many addresses of each pair's destination there are, and how many connections the busiest of them has."""
    different, busiest = np.zeros((2, numbers.size), dtype=np.int64)
    for low, high in cuts([found], int(numbers[0]) << PAIR_BITS, (int(numbers[-1]) + 1) << PAIR_BITS, _TIMES_AT_ONCE):
        some = _Some.of(found.within(low, high), numbers)
        sizes = np.diff(some.firsts)
        has = sizes > 0
        different += sizes
        if has.any():
            busiest[has] = np.maximum(busiest[has], np.maximum.reduceat(some.values, some.firsts[:-1][has]))
    return different, busiest


def _unevenness(summary: Summary, starts: _Some) -> tuple[list[Dispersion], list[Job | None]]:
    """How unevenly connections of each pair come, and the job that opens them, if one does."""
    hours, looked = summary.looked_at
    whole = hours[looked == _HOUR]
    # Where the time looked at has no whole hour by the clock, the first hour of it is one.
    shift = 0 if whole.size else summary.first_s - int(hours[0]) * _HOUR
    if not whole.size and int(looked.sum()) >= _HOUR:
        whole = hours[:1]
    uneven = dispersions(starts.rest - shift, starts.values, starts.firsts, whole)
    jobs: list[Job | None] = [None] * len(uneven)
    for place in np.flatnonzero(starts.sums() >= LEAST_CONNECTIONS).tolist():
        rows = slice(int(starts.firsts[place]), int(starts.firsts[place + 1]))
        if (found := job(starts.rest[rows], starts.values[rows])) is not None:
            # What a job opens at one time is no batch, and no rate that varies.
            jobs[place], uneven[place] = found, Dispersion(1.0, found.cv, found.every_s)
    return uneven, jobs


def _laws(
    summary: Summary, numbers: NDArray[np.int64]
) -> tuple[list[float], list[dict[float, float]], list[MeasuredLaw], list[Fit]]:
    """How long the connections of each pair last: the mean, s, some quantiles, the law, and the one that is near it."""
    from fenrask.records.kernels.loads import laws_of
    from fenrask.records.kernels.tallying import BINS, DECADES, LEAST_S

    durations, cut = (_Some.of(one, numbers) for one in (summary.durations, summary.cut))
    sums = _Some.of(summary.duration_ms, numbers).sums()
    middles = np.where(np.arange(BINS + 1) == 0, 0.0, LEAST_S * 10 ** ((np.arange(BINS + 1) - 0.5) * (DECADES / BINS)))
    mean, quantiles, kind, distance, p95, values, shares, begins = laws_of(
        durations.rest, durations.values, durations.firsts, cut.rest, cut.values, cut.firsts, sums, middles,
        10 ** (0.5 * DECADES / BINS), np.array(_QUANTILES), _GOOD,
    )  # fmt: skip
    means, first = mean.tolist(), begins.tolist()
    flat = tuple(values.tolist()), tuple(shares.tolist())
    laws = [MeasuredLaw(flat[0][at:end], flat[1][at:end]) for at, end in pairwise(first)]
    fits = [
        Fit(_SHAPES[which](one, tail), far)
        for which, one, tail, far in zip(kind.tolist(), means, p95.tolist(), distance.tolist(), strict=True)
    ]
    return means, [dict(zip(_QUANTILES, one, strict=True)) for one in quantiles.tolist()], laws, fits


_SHAPES: tuple[Callable[[float, float], dict[str, Any]], ...] = (
    lambda mean, _: {"mean": mean, "shape": "exponential"},
    lambda mean, p95: {"mean": mean, "shape": "lognormal", "p95": p95},
    lambda *_: {"shape": "measured"},
)


def _ended(summary: Summary, numbers: NDArray[np.int64]) -> tuple[list[dict[str, float]], list[int]]:
    """The shares of the ways to end of each pair, and how many were still open."""
    from fenrask.records.kernels.tallying import CODES

    endings = _Some.of(summary.endings, numbers)
    table = np.zeros((numbers.size, CODES), dtype=np.int64)
    table[endings.of_pair, endings.rest] = endings.values
    codes = [*ENDING_NAMES]
    shares = table[:, codes] / np.maximum(table[:, codes].sum(axis=1, keepdims=True), 1)
    names = [ENDING_NAMES[code] for code in codes]
    each: list[dict[str, float]] = [
        {name: share for name, share in zip(names, row, strict=True) if share} for row in shares.tolist()
    ]
    return each, table[:, OPEN].tolist()


@dataclass(frozen=True)
class Loads:
    """What records came to: their summary, the load of every pair, and what flows state.

    stated: new connections per second in the mean of a day, by subnet and destination.
    """

    summary: Summary
    pairs: Pairs
    found: Sequence[Measured]
    stated: Mapping[tuple[str, str], float]


def stated_rates(described: Described) -> dict[tuple[str, str], float]:
    """New connections per second in the mean of a day, as flows state them, by subnet and destination."""
    estate, found = described.estate, dict[tuple[str, str], float]()
    rates = described.traffic.mean_new_per_s.tolist()
    for flow, rate in zip(estate.flows.values(), rates, strict=True):
        if flow.persistent_per_host is None and not flow.is_inward:
            for subnet, share in estate.host_shares(flow.workload).items():
                key = (subnet, flow.to)
                found[key] = found.get(key, 0.0) + rate * float(share)
    return found


def measured_file(found: Sequence[Measured]) -> dict[str, Any]:
    """What flows refer to by `measured:`: the load of every pair, by subnet and destination."""
    pairs: dict[str, dict[str, Any]] = {}
    for load in found:
        pairs.setdefault(load.subnet, {})[load.destination] = _entry(load)
    return {"measured": 1, "pairs": pairs}


def measured_json(found: Sequence[Measured]) -> bytes:
    """The same as JSON, a pair on each line."""
    from pydantic_core import to_json

    lines, of_subnet = [b'{"measured": 1, "pairs": {'], dict[str, list[Measured]]()
    for load in found:
        of_subnet.setdefault(load.subnet, []).append(load)
    for subnet, some in of_subnet.items():
        lines.append(b"" + to_json(subnet) + b": {")
        lines += [b" " + to_json(one.destination) + b": " + to_json(_entry(one)) + b"," for one in some]
        lines[-1] = lines[-1][:-1] + b"},"
    lines[-1] = lines[-1].rstrip(b",") + b"}}\n"
    return b"\n".join(lines)


def _entry(load: Measured) -> dict[str, Any]:
    rate, law = load.new_per_s, load.saved_law
    return {
        "days": load.days.number,
        "connections": load.connections,
        "new_per_s": rate,
        "new_per_s_error": rate * load.days.error,
        "mean_day_per_s": [rate * bound for bound in load.days.mean_day],
        "next_day_per_s": [rate * bound for bound in load.days.next_day],
        "trend_per_day": load.days.trend,
        "growth_per_month": vars(load.days.growth) if load.days.growth else None,
        "planned_per_s": rate * load.days.last,
        "by_hour_per_s": _shortest(load.days.shape),
        "duration_s": law,
        # Beside the law that is fitted to them.
        **({"durations": load.measured_law} if law["shape"] != "measured" else {}),
        "fit_distance": load.fit.distance,
        "endings": load.endings,
        "out_kib_per_connection": load.bytes_out / 1024 / load.connections,
        "in_kib_per_connection": load.bytes_in / 1024 / load.connections,
        "concurrent_peak": load.concurrent_peak,
        "batch": (1 + load.dispersion.burstiness) / 2,
        "rate_cv": load.dispersion.rate_cv,
        "rate_steady_s": load.dispersion.steady_s,
        "every_s": load.job.every_s if load.job else None,
        "spread_s": load.job.spread_s if load.job else 0.0,
        "job_share": load.job.share if load.job else 1.0,
        "day_cv": load.days.cv,
        "addresses": load.addresses,
    }


def _shortest(by_hour: Sequence[float]) -> list[float]:
    """Rates by hour; a single one where all are the same."""
    return [by_hour[0]] if by_hour.count(by_hour[0]) == len(by_hour) else [*by_hour]


def open_by_minute(summary: Summary, pairs: Pairs, load: Measured) -> tuple[NDArray[np.int64], Floats]:
    """When each minute begins (seconds since 1970), and the mean number of connections open in it."""
    at_ms, moves = moves_of(summary, pairs, pairs.number(load.subnet, load.destination))
    if not at_ms.size:
        # None lasts a millisecond.
        return np.array([summary.first_s // 60 * 60]), np.zeros(1)
    opened = np.cumsum(moves).astype(np.float64)
    minutes = np.arange(at_ms[0] // 60_000, at_ms[-1] // 60_000 + 2) * 60_000
    # The integral of a step function, read at each minute's beginning.
    area = np.concatenate([[0.0], np.cumsum(opened[:-1] * np.diff(at_ms))])
    place = np.clip(np.searchsorted(at_ms, minutes, side="right") - 1, 0, None)
    upto = np.where(minutes < at_ms[0], 0.0, area[place] + opened[place] * (minutes - at_ms[place]))
    return minutes[:-1] // 1000, np.diff(upto) / 60e3
