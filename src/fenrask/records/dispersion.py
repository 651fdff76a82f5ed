"""How unevenly connections come within the hour, from counts by second: in batches, and by a rate that varies.

Counts of windows of several widths are held against their hour's mean. Batches make the variance-to-mean ratio as much
larger at every width; a rate that keeps a level for some time makes it grow with the width up to that time (the index
of dispersion for counts: Cox & Lewis, "The Statistical Analysis of Series of Events", 1966).
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Dispersion", "dispersion", "dispersions", "of_an_hour", "told_apart"]

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
        columns = (np.array([one]) for one in (self.burstiness, self.rate_cv, self.steady_s, rate_per_s))
        return float(of_an_hour(*columns)[0])


def of_an_hour(burstiness: Floats, rate_cv: Floats, steady_s: Floats, rate_per_s: Floats) -> Floats:
    """The variance of an hour's rate that comes of chance alone, (1/s)^2, of several, shape (n,): see `Dispersion`."""
    return burstiness * rate_per_s / _HOUR + (rate_cv * rate_per_s) ** 2 * _left(_HOUR / steady_s)


def told_apart(by_hour: Floats, chance: Floats) -> Floats:
    """Rates by hour, drawn to their mean by as much of their spread as chance explains, a variance of each.

    by_hour: shape (..., n_hours); chance: shape (...).

    What is left is the shape that days have in common: the busiest of many equal hours is busiest by chance,
    and would be counted twice where the rate's variation is counted too (Stein 1956; Morris, "Parametric empirical
    Bayes inference", 1983).
    """
    spread, mean = np.var(by_hour, axis=-1, ddof=1), by_hour.mean(axis=-1, keepdims=True)
    share = np.where(spread > 0, np.maximum(0.0, 1 - chance / np.maximum(spread, 1e-300)), 0.0)
    drawn: Floats = mean + share[..., None] * (by_hour - mean)
    return drawn


def dispersion(seconds: Counts, starts: Counts, hours: Counts) -> Dispersion:
    """What counts by second tell of the hours that were looked at from begin to end.

    seconds, starts: since 1970, rising, and the connections that began in each, of one length; hours: whole ones, by
    number since 1970.
    """
    return dispersions(seconds, starts, np.array([0, seconds.size]), hours)[0]


def dispersions(seconds: Counts, starts: Counts, firsts: Counts, hours: Counts) -> list[Dispersion]:
    """The same of several, those of each from its `firsts` up to the next one's."""
    from fenrask.records.kernels.loads import dispersions_of

    ratios, total, square = dispersions_of(seconds, starts, firsts, hours, _WIDTHS)
    windows = _HOUR // _WIDTHS
    with_mean = np.maximum(total, 1e-300)[:, None] * windows
    # Of independent connections a ratio has this standard error (Fisher's index of dispersion).
    chance = np.sqrt(
        2 / (max(1, hours.size) * (windows - 1)) + np.where(total[:, None] > 0, hours.size / with_mean, 0.0)
    )
    found = [_EVEN] * total.size
    for place in np.flatnonzero(np.any(ratios - 1 >= _SURE * chance, axis=1) & (total > 0)).tolist():
        # The variance of a window's count is its mean times the batches' ratio, and the square of the rate's variation.
        found[place] = _uneven(ratios[place], chance[place], _WIDTHS / _HOUR * square[place] / total[place])
    return found


_EVEN = Dispersion()


def _uneven(ratios: Floats, chance: Floats, spread: Floats) -> Dispersion:
    """The batches and the varying rate that explain ratios best, each where it is more than chance.

    spread: what the square of the rate's variation adds to each, if it keeps its level.
    """
    windows = _HOUR // _WIDTHS
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


def _left(width: Floats) -> Floats:
    """The variance of a rate's mean over a window, of that of the rate; the window in times that it keeps its level."""
    wide = np.maximum(width, 1e-12)
    left: Floats = np.where(wide <= 1, 1 - wide / 3, 1 / wide - 1 / (3 * wide**2))
    return left
