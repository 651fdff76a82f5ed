"""A summary of records as load: rates, durations, endings, volumes and concurrency of each subnet and destination."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import CLOSED, IDLE, RESET
from fenrask.records.matching import Pairs
from fenrask.records.summary import Summary, bounds, value_of

__all__ = ["Fit", "Measured", "measured", "measured_file"]

_DAY, _HOUR, _WEEK = 86_400, 3600, 168
_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
_VALUES = 50
"""Durations that stand for a measured law: the middles of as many equal shares."""
_GOOD = 0.05
"""Greatest distance of a fitted law from what was measured at which it is taken instead."""
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Fit:
    """A law fitted to durations: its shape and parameters as a flow states them, and its distance from the data.

    The distance is the greatest between both distribution functions (Kolmogorov 1933), over the bins.
    """

    law: dict[str, Any]
    distance: float


@dataclass(frozen=True)
class Measured:
    """The load of one subnet toward one destination, as records show it."""

    subnet: str
    destination: str
    connections: int
    days: int
    new_per_s: float
    """In the mean of the days looked at."""
    new_per_s_error: float
    """Standard error: from the spread between days; from the number of connections where there is one day only."""
    by_hour: tuple[float, ...]
    """New connections per second, by hour of the day (24) or of the week (168, Monday first)."""
    duration_s: float
    quantiles: dict[float, float]
    values: tuple[float, ...]
    """Durations, s, each as likely as any other."""
    fit: Fit
    endings: dict[str, float]
    """Shares of `closed`, `reset`, `idle` among the connections whose end is known."""
    bytes_out: int
    bytes_in: int
    concurrent: float
    """In the mean of the time looked at."""
    concurrent_peak: float
    concurrent_peak_s: int
    """When, seconds since 1970."""
    busiest_minute_per_s: float
    burstiness: float
    """Variance to mean of the connections a minute, about their hour's mean."""
    addresses: int
    busiest_address_share: float


def measured(summary: Summary, pairs: Pairs) -> list[Measured]:
    """Every pair with connections, the most first."""
    days = np.sort(summary.days.keys)
    numbers = np.unique(summary.starts.keys >> 34)
    found = [_pair(summary, pairs, int(number), days) for number in numbers]
    return sorted(found, key=lambda one: -one.connections)


def _pair(summary: Summary, pairs: Pairs, number: int, days: NDArray[np.int64]) -> Measured:
    low, high = bounds(number)
    subnet, destination = pairs.name(number)
    seconds, starts = summary.starts.within(low, high)
    seconds = seconds - low
    total, looked = int(starts.sum()), max(1, days.size)
    by_day = np.array([starts[seconds // _DAY == day].sum() for day in days], dtype=np.float64)
    rate = total / (looked * _DAY)
    error = float(np.std(by_day, ddof=1)) / math.sqrt(looked) / _DAY if looked > 1 else math.sqrt(total) / _DAY
    bins, counts = summary.durations.within(low, high)
    values, weights = value_of(bins - low), counts
    _, sums = summary.duration_ms.within(low, high)
    duration = float(sums.sum()) / 1e3 / max(1, total)
    concurrent, peak, when = _concurrency(summary, low, high, looked)
    minute, burst = _bursts(seconds, starts)
    _, of_address = summary.addresses.within(low, high)
    _, out = summary.bytes_out.within(low, high)
    _, back = summary.bytes_in.within(low, high)
    return Measured(
        subnet, destination, total, looked, rate, error, _by_hour(seconds, starts, days), duration,
        {q: _quantile(values, weights, q) for q in _QUANTILES},
        tuple(_quantile(values, weights, (n + 0.5) / _VALUES) for n in range(_VALUES)),
        _fitted(values, weights, duration), _endings(summary, low, high), int(out.sum()), int(back.sum()),
        concurrent, peak, when, minute, burst, int(of_address.size), float(of_address.max() / of_address.sum()),
    )  # fmt: skip


def _by_hour(seconds: NDArray[np.int64], starts: NDArray[np.int64], days: NDArray[np.int64]) -> tuple[float, ...]:
    """Rates by hour of the week from a whole week on, else by hour of the day; 1970 began on a Thursday."""
    if days.size >= 7:
        hours = ((seconds // _DAY + 3) % 7) * 24 + seconds % _DAY // _HOUR
        looked = np.bincount((days + 3) % 7, minlength=7)[np.arange(_WEEK) // 24]
    else:
        hours = seconds % _DAY // _HOUR
        looked = np.full(24, days.size)
    sums = np.bincount(hours, weights=starts, minlength=looked.size)
    return tuple(float(one) for one in sums / np.maximum(looked, 1) / _HOUR)


def _quantile(values: Floats, weights: NDArray[np.int64], share: float) -> float:
    """The value below which a share of the connections lies; bins are 2 % wide."""
    place = int(np.searchsorted(np.cumsum(weights), share * weights.sum(), side="left"))
    return float(values[min(place, values.size - 1)])


def _fitted(values: Floats, weights: NDArray[np.int64], mean: float) -> Fit:
    """The nearer of an exponential and a lognormal; the measured values themselves where neither is near."""
    share = np.cumsum(weights) / weights.sum()
    edges = values * 10 ** (0.5 * 10 / 1200)
    found = []
    if mean > 0:
        found.append(Fit({"mean": mean, "shape": "exponential"}, _distance(1 - np.exp(-edges / mean), share)))
    positive = values > 0
    if positive.any() and weights[positive].sum() > 1:
        logs, w = np.log(values[positive]), weights[positive]
        mu = float(np.average(logs, weights=w))
        sigma = math.sqrt(float(np.average((logs - mu) ** 2, weights=w)))
        if 0 < sigma < 3:
            with np.errstate(divide="ignore"):
                z = (np.log(np.maximum(edges, 1e-300)) - mu) / sigma
            normal = np.array([0.5 * math.erfc(-one / math.sqrt(2)) for one in z])
            law_mean = math.exp(mu + sigma**2 / 2)
            p95 = min(math.exp(mu + 1.6448536269514722 * sigma), law_mean * 3.868)
            found.append(Fit({"mean": law_mean, "shape": "lognormal", "p95": p95}, _distance(normal, share)))
    best = min(found, key=lambda one: one.distance, default=Fit({"shape": "measured"}, 1.0))
    return best if best.distance <= _GOOD else Fit({"shape": "measured"}, best.distance)


def _distance(law: Floats, share: Floats) -> float:
    before = np.concatenate([[0.0], share[:-1]])
    return float(np.max(np.maximum(np.abs(law - share), np.where(law < before, before - law, 0.0))))


def _endings(summary: Summary, low: int, high: int) -> dict[str, float]:
    keys, numbers = summary.endings.within(low, high)
    total = float(numbers.sum())
    names = {CLOSED: "closed", RESET: "reset", IDLE: "idle"}
    return {names[int(k - low)]: float(n) / total for k, n in zip(keys, numbers, strict=True) if int(k - low) in names}


def _concurrency(summary: Summary, low: int, high: int, days: int) -> tuple[float, float, int]:
    """The mean over the days looked at, the highest mean of any second, and when that is."""
    keys, moves = summary.changes.within(low, high)
    if not keys.size:
        return 0.0, 0.0, 0
    open_ms = np.cumsum(moves)
    lasts = np.diff(keys, append=keys[-1])
    top = int(np.argmax(open_ms))
    return float(np.dot(open_ms, lasts)) / 1e3 / (days * _DAY), float(open_ms[top]) / 1e3, int(keys[top] - low)


def _bursts(seconds: NDArray[np.int64], starts: NDArray[np.int64]) -> tuple[float, float]:
    """The busiest minute's connections per second, and the variance to mean of minutes about their hour."""
    minutes = np.bincount((seconds - seconds[0] // _HOUR * _HOUR) // 60, weights=starts)
    whole = np.resize(minutes, -(-minutes.size // 60) * 60)
    whole[minutes.size :] = 0
    hours = whole.reshape(-1, 60)
    busy = hours[hours.sum(axis=1) > 0]
    mean = busy.mean(axis=1, keepdims=True)
    spread = float(((busy - mean) ** 2).sum() / (busy.size - busy.shape[0]))
    return float(minutes.max()) / 60, spread / float(mean.mean())


def measured_file(found: list[Measured]) -> dict[str, Any]:
    """What flows refer to by `measured:`: the load of every pair, by subnet and destination."""
    return {
        "measured": 1,
        "pairs": {
            one.subnet: {other.destination: _entry(other) for other in found if other.subnet == one.subnet}
            for one in found
        },
    }


def _entry(one: Measured) -> dict[str, Any]:
    law = one.fit.law if one.fit.law["shape"] != "measured" else {"shape": "measured", "values": [*one.values]}
    return {
        "days": one.days,
        "connections": one.connections,
        "new_per_s": one.new_per_s,
        "new_per_s_error": one.new_per_s_error,
        "by_hour_per_s": [*one.by_hour],
        "duration_s": law,
        "fit_distance": one.fit.distance,
        "endings": one.endings,
        "out_kib_per_connection": one.bytes_out / 1024 / one.connections,
        "in_kib_per_connection": one.bytes_in / 1024 / one.connections,
        "concurrent_peak": one.concurrent_peak,
        "burstiness": max(1.0, one.burstiness),
        "addresses": one.addresses,
    }
