"""How unevenly connections come within the hour, from counts by second: in batches, and by a rate that varies.

Counts of windows of several widths are held against their hour's mean. Batches make the variance-to-mean ratio as much
larger at every width; a rate that keeps a level for some time makes it grow with the width up to that time (the index
of dispersion for counts: Cox & Lewis, "The Statistical Analysis of Series of Events", 1966).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Dispersion", "dispersion", "told_apart"]

Floats = NDArray[np.float64]
Counts = NDArray[np.int64]
_HOUR = 3600
_WIDTHS = np.array([1, 5, 20, 60, 180, 300, 600, 900, 1200])
_STEADY_S = np.array([10.0, 20.0, 30.0, 45.0, 60.0, 90.0, 120.0, 180.0, 240.0, 300.0, 450.0, 600.0, 900.0, 1200.0])
_SURE = 4.0
"""Standard errors of a Poisson process's dispersion that are more than chance."""


@dataclass(frozen=True)
class Dispersion:
    """How unevenly connections come within the hour.

    burstiness: variance-to-mean ratio of the numbers that come at one instant, 1 for single ones. rate_cv, steady_s:
    coefficient of variation of the rate about its hour's mean, 0 where chance alone explains it, and for how long it
    keeps a level, s.
    """

    burstiness: float = 1.0
    rate_cv: float = 0.0
    steady_s: float = 300.0

    def of_an_hour(self, rate_per_s: float) -> float:
        """The variance of an hour's rate that comes of chance alone, (1/s)^2."""
        varied = self.rate_cv * rate_per_s
        left = float(_left(np.array([_HOUR / self.steady_s]))[0])
        return self.burstiness * rate_per_s / _HOUR + varied * varied * left


def told_apart(by_hour: Sequence[float], chance: float) -> tuple[float, ...]:
    """Rates by hour, drawn to their mean by as much of their spread as chance explains, a variance of each.

    What is left is the shape that days have in common: the busiest of many equal hours is busiest by chance,
    and would be counted twice where the rate's variation is counted too (Stein 1956; Morris, "Parametric empirical
    Bayes inference", 1983).
    """
    rates = np.array(by_hour)
    spread = float(np.var(rates, ddof=1))
    share = max(0.0, 1 - chance / spread) if spread > 0 else 0.0
    drawn: Floats = rates.mean() + share * (rates - rates.mean())
    return tuple(drawn.tolist())


def dispersion(seconds: Counts, starts: Counts, hours: Counts) -> Dispersion:
    """What counts by second tell of the hours that were looked at from begin to end.

    seconds, starts: since 1970, rising, and the connections that began in each, of one length; hours: whole ones, by
    number since 1970.
    """
    kept = np.isin(seconds // _HOUR, hours)
    seconds = seconds[kept]
    counts: Floats = starts[kept].astype(np.float64)
    if seconds.size < 2:
        return Dispersion()
    place = np.searchsorted(hours, seconds // _HOUR)
    by_hour: Floats = np.bincount(place, weights=counts, minlength=hours.size).astype(np.float64)
    mean, square = float(by_hour.sum()), float(np.sum(by_hour**2))
    windows = _HOUR // _WIDTHS
    ratios = np.array([_ratio(seconds, counts, by_hour, int(width)) for width in _WIDTHS])
    # Of independent connections a ratio has this standard error (Fisher's index of dispersion).
    chance = np.sqrt(2 / (hours.size * (windows - 1)) + np.where(mean > 0, hours.size / (mean * windows), 0.0))
    if np.all(ratios - 1 < _SURE * chance):
        return Dispersion()
    # The variance of a window's count is its mean times the batches' ratio, and the square of the rate's variation.
    spread = _WIDTHS / _HOUR * square / mean
    best, found = np.inf, Dispersion()
    for steady_s in _STEADY_S:
        left = (_left(_WIDTHS / steady_s) - _left(np.array([_HOUR / steady_s]))) * windows / (windows - 1)
        weight = 1 / np.maximum(ratios * chance, 1e-12)
        columns = np.stack([weight, weight * spread * left], axis=1)
        (batch, variance), *_ = np.linalg.lstsq(columns, weight * ratios, rcond=None)
        if batch < 1:
            batch, variance = 1.0, float(np.dot(columns[:, 1], weight * (ratios - 1)) / np.sum(columns[:, 1] ** 2))
        if variance < 0:
            batch, variance = float(np.dot(weight**2, ratios) / np.sum(weight**2)), 0.0
        error = float(np.sum((columns @ [batch, variance] - weight * ratios) ** 2))
        if error < best:
            best, found = error, Dispersion(max(1.0, float(batch)), float(np.sqrt(variance)), float(steady_s))
    least = _SURE * float(np.min(chance / np.maximum(spread, 1e-300)))
    sure = found.burstiness - 1 >= _SURE * float(chance[0]), found.rate_cv**2 >= least
    return Dispersion(found.burstiness if sure[0] else 1.0, found.rate_cv if sure[1] else 0.0, found.steady_s)


def _ratio(seconds: Counts, starts: Floats, by_hour: Floats, width: int) -> float:
    """Variance to mean of windows of some seconds, about their hours' means."""
    window = seconds // width
    firsts = np.flatnonzero(np.r_[True, window[1:] != window[:-1]])
    counts = np.add.reduceat(starts, firsts)
    number = _HOUR // width
    squares = float(np.sum(counts**2)) - float(np.sum(by_hour**2)) / number
    return squares / (number - 1) * number / float(by_hour.sum())


def _left(width: Floats) -> Floats:
    """The variance of a rate's mean over a window, of that of the rate; the window in times that it keeps its level."""
    wide = np.maximum(width, 1e-12)
    left: Floats = np.where(wide <= 1, 1 - wide / 3, 1 / wide - 1 / (3 * wide**2))
    return left
