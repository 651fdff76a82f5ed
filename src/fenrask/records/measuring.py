"""A summary of records as load: rates, durations, endings, volumes and concurrency of each subnet and destination."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Described, DurationLaw
from fenrask.records.batch import ENDING_NAMES, OPEN
from fenrask.records.days import Days, days_of
from fenrask.records.dispersion import Dispersion, dispersion
from fenrask.records.jobs import Job, job
from fenrask.records.matching import Pairs
from fenrask.records.summary import Summary, bounds, moves_of, pairs_in

__all__ = ["Fit", "Measured", "measured", "measured_file", "open_by_minute", "stated_rates"]

_HOUR = 3600
_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
_CELLS = 50
"""Parts of equal shares that a measured law is cut into, of the connections and of their time."""
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

    @property
    def new_per_s(self) -> float:
        """New connections, in the mean of a day, from the hours looked at, /s."""
        return self.days.mean_per_s

    @property
    def concurrent_by_law(self) -> float:
        """The concurrent connections that the rate and the law, as they are saved, have in the mean (Little 1961)."""
        come_about = 1.0 - self.endings.get("rejected", 0.0) - self.endings.get("unanswered", 0.0)
        return self.new_per_s * come_about * DurationLaw.model_validate(self.saved_law).mean_s

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
    numbers = pairs_in(summary.starts)
    found = [_pair(summary, pairs, int(number)) for number in numbers]
    return sorted(found, key=lambda one: -one.connections)


def _pair(summary: Summary, pairs: Pairs, number: int) -> Measured:
    low, high = bounds(number)
    subnet, destination = pairs.name(number)
    seconds, starts = summary.starts.within(low, high)
    seconds = seconds - low
    total = int(starts.sum())
    values, weights, duration = _lasting(summary, low, high)
    concurrent, peak, when = _concurrency(summary, pairs, number)
    hours, looked = summary.looked_at
    minute = float(np.bincount(seconds // 60 - seconds[0] // 60, weights=starts).max()) / 60
    whole = hours[looked == _HOUR]
    # Where the time looked at has no whole hour by the clock, the first hour of it is one.
    shift = 0 if whole.size else summary.first_s - int(hours[0]) * _HOUR
    if not whole.size and int(looked.sum()) >= _HOUR:
        whole = hours[:1]
    uneven = dispersion(seconds - shift, starts, whole)
    regular = job(seconds, starts)
    if regular is not None:
        # What a job opens at one time is no batch, and no rate that varies.
        uneven = Dispersion(1.0, regular.cv, regular.every_s)
    of_hour = np.bincount(np.searchsorted(hours, seconds // _HOUR), weights=starts, minlength=hours.size)
    days = days_of(hours, looked, of_hour.astype(np.float64), uneven)
    _, of_address = summary.addresses.within(low, high)
    _, out = summary.bytes_out.within(low, high)
    _, back = summary.bytes_in.within(low, high)
    return Measured(
        subnet, destination, total, days, duration,
        dict(zip(_QUANTILES, _quantiles(values, weights, _QUANTILES), strict=True)),
        _law(values, weights, duration),
        _fitted(values, weights, duration), *_ended(summary, low, high), int(out.sum()), int(back.sum()),
        concurrent, peak, when, minute, uneven, regular,
        int(of_address.size), float(of_address.max() / of_address.sum()),
    )  # fmt: skip


def _quantiles(values: Floats, weights: Floats, shares: Sequence[float]) -> list[float]:
    """The values below which shares of the connections lie; bins are 2 % wide."""
    below = np.cumsum(weights)
    place = np.searchsorted(below, np.array(shares) * below[-1], side="left")
    found: list[float] = values[np.minimum(place, values.size - 1)].tolist()
    return found


def _law(values: Floats, weights: Floats, mean: float) -> MeasuredLaw:
    """What was measured, in cells: one ends at each fiftieth of the connections, and of their time.

    A few long connections may be most of those that are open: cells by time keep them apart, and the longest is one.
    """
    share = weights / weights.sum()
    time = share * values
    time = time / time.sum() if time.sum() else share
    cells = [np.floor((np.cumsum(one) - one / 2) * _CELLS).astype(np.int64) for one in (share, time)]
    begins = np.concatenate([[True], (np.diff(cells[0]) > 0) | (np.diff(cells[1]) > 0)])
    begins[-1] = True
    first = np.flatnonzero(begins)
    shares = np.add.reduceat(share, first)
    middles = np.add.reduceat(share * values, first) / shares
    whole = float(np.dot(shares, middles))
    middles = middles * (mean / whole) if whole else middles
    return MeasuredLaw(tuple(middles.tolist()), tuple(shares.tolist()))


def _fitted(values: Floats, weights: Floats, mean: float) -> Fit:
    """The nearer of an exponential and a lognormal of the same mean; the measured values where neither is near."""
    share, found = weights / weights.sum(), list[Fit]()
    edges, positive = values * 10 ** (0.5 * 10 / 1200), values > 0
    if mean > 0:
        survival = np.exp(-edges / mean)
        distance = _distance(values, share, 1 - survival, 1 - (1 + edges / mean) * survival)
        found.append(Fit({"mean": mean, "shape": "exponential"}, distance))
    if mean > 0 and positive.any() and weights[positive].sum() > 1:
        logs, w = np.log(values[positive]), weights[positive]
        sigma = math.sqrt(float(np.average((logs - np.average(logs, weights=w)) ** 2, weights=w)))
        # Above that, the same p95 is one of a law with a lighter tail.
        if 0 < sigma <= 1.6448536269514722:
            with np.errstate(divide="ignore"):
                z = (np.log(np.maximum(edges, 1e-300)) - math.log(mean) + sigma**2 / 2) / sigma
            normal, of_time = (
                np.array([0.5 * math.erfc(-one / math.sqrt(2)) for one in some]) for some in (z, z - sigma)
            )
            p95 = mean * math.exp(1.6448536269514722 * sigma - sigma**2 / 2)
            law = {"mean": mean, "shape": "lognormal", "p95": p95}
            found.append(Fit(law, _distance(values, share, normal, of_time)))
    best = min(found, key=lambda one: one.distance, default=Fit({"shape": "measured"}, 1.0))
    return best if best.distance <= _GOOD else Fit({"shape": "measured"}, best.distance)


def _distance(values: Floats, share: Floats, law: Floats, of_time: Floats) -> float:
    """The greater of the distances of a law's connections, and of their time, up to the upper edge of each bin."""
    time = share * values
    pairs = ((law, share), (of_time, time / time.sum() if time.sum() else share))
    return max(_apart(one, np.cumsum(part)) for one, part in pairs)


def _apart(law: Floats, share: Floats) -> float:
    before = np.concatenate([[0.0], share[:-1]])
    return float(np.max(np.maximum(np.abs(law - share), np.where(law < before, before - law, 0.0))))


def _lasting(summary: Summary, low: int, high: int) -> tuple[Floats, Floats, float]:
    """How long connections last, s, with the weight of each bin, and their mean.

    Of those that were still open when nobody looked any more only so much is known that they lasted longer: each weighs
    on all that were seen to last longer, in equal parts (Kaplan & Meier 1958); the rest is as long as the longest.
    """
    bins, counts = summary.durations.within(low, high)
    values = _value_of(bins - low)
    _, sums = summary.duration_ms.within(low, high)
    total = int(counts.sum())
    if not total:
        return np.zeros(1), np.ones(1), 0.0
    mean = float(sums.sum()) / 1e3 / total
    places, cut = summary.cut.within(low, high)
    if not cut.size:
        return values, counts.astype(np.float64), mean
    censored = np.zeros(counts.size, dtype=np.int64)
    censored[np.searchsorted(bins, places)] = cut
    at_risk = total - np.concatenate([[0], np.cumsum(counts)[:-1]])
    survival = np.cumprod(1 - (counts - censored) / at_risk)
    share = -np.diff(survival, prepend=1.0)
    share[-1] += survival[-1]
    # Bins are 2 % wide: what they make of the whole is taken out again.
    exact = mean * total / max(float(np.dot(counts, values)), 1e-300) if mean else 1.0
    seen = share > 0
    return values[seen], share[seen] * total, float(np.dot(share, values)) * exact


def _value_of(bins: NDArray[np.int64]) -> Floats:
    """The middle of each bin of durations, s; 0 for the first."""
    from fenrask.records.kernels.tallying import BINS, DECADES, LEAST_S

    found: Floats = np.where(bins == 0, 0.0, LEAST_S * 10 ** ((bins - 0.5) * (DECADES / BINS)))
    return found


def _ended(summary: Summary, low: int, high: int) -> tuple[dict[str, float], int, int]:
    """The shares of the ways to end; how many were still open; how many had been open before."""
    keys, numbers = summary.endings.within(low, high)
    of = {int(key - low): int(number) for key, number in zip(keys, numbers, strict=True)}
    total = sum(of.get(code, 0) for code in ENDING_NAMES)
    endings: dict[str, float] = {name: of[code] / total for code, name in ENDING_NAMES.items() if code in of}
    return endings, of.get(OPEN, 0), int(summary.continuing.within(low, high)[1].sum())


def _concurrency(summary: Summary, pairs: Pairs, number: int) -> tuple[float, int, int]:
    """The mean over the time looked at, the most at any instant, and the second in which that is first."""
    at_ms, moves = moves_of(summary, pairs, number)
    if not at_ms.size:
        return 0.0, 0, 0
    opened = np.cumsum(moves)
    top = int(np.argmax(opened))
    span = max(1.0, float(summary.looked_at[1].sum()))
    mean = float(np.dot(opened, np.diff(at_ms, append=at_ms[-1]))) / 1e3 / span
    return mean, int(opened[top]), int(at_ms[top]) // 1000


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


def measured_file(found: list[Measured]) -> dict[str, Any]:
    """What flows refer to by `measured:`: the load of every pair, by subnet and destination."""
    pairs: dict[str, dict[str, Any]] = {}
    for one in found:
        pairs.setdefault(one.subnet, {})[one.destination] = _entry(one)
    return {"measured": 1, "pairs": pairs}


def _entry(one: Measured) -> dict[str, Any]:
    return {
        "days": one.days.number,
        "connections": one.connections,
        "new_per_s": one.new_per_s,
        "new_per_s_error": one.new_per_s * one.days.error,
        "mean_day_per_s": [one.new_per_s * bound for bound in one.days.mean_day],
        "next_day_per_s": [one.new_per_s * bound for bound in one.days.next_day],
        "trend_per_day": one.days.trend,
        "planned_per_s": one.new_per_s * one.days.last,
        "by_hour_per_s": [*one.days.shape],
        "duration_s": one.saved_law,
        "durations": one.measured_law,
        "fit_distance": one.fit.distance,
        "endings": one.endings,
        "out_kib_per_connection": one.bytes_out / 1024 / one.connections,
        "in_kib_per_connection": one.bytes_in / 1024 / one.connections,
        "concurrent_peak": one.concurrent_peak,
        "batch": (1 + one.dispersion.burstiness) / 2,
        "rate_cv": one.dispersion.rate_cv,
        "rate_steady_s": one.dispersion.steady_s,
        "every_s": one.job.every_s if one.job else None,
        "spread_s": one.job.spread_s if one.job else 0.0,
        "job_share": one.job.share if one.job else 1.0,
        "day_cv": one.days.cv,
        "addresses": one.addresses,
    }


def open_by_minute(summary: Summary, pairs: Pairs, one: Measured) -> tuple[NDArray[np.int64], Floats]:
    """When each minute begins (seconds since 1970), and the mean number of connections open in it."""
    at_ms, moves = moves_of(summary, pairs, pairs.number(one.subnet, one.destination))
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
