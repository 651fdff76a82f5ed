"""Load whose level varies: within the hour, about its profile, and from day to day.

Connections come at a rate of which a positive random level is a factor; given the level they come independently (a
doubly stochastic Poisson process: Cox 1955). What is held in the mean follows the level smoothed over the holding
times. Its slow part stays while a pool fills and empties: the formulas hold at each level (a quasi-stationary mixture:
Jagerman, Melamed & Willinger, "Stochastic modeling of traffic processes", 1997), and levels are lognormal, the product
of many small causes. Its fast part changes meanwhile: that is bursty load, by its variance (Fredericks 1980).
"""

from collections.abc import Callable
from math import exp, log1p, sqrt
from statistics import NormalDist

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding import HoldingTime

__all__ = ["day_level", "held_cv", "overlap", "varying"]

_BINS = 2000
_WIDEST, _FINEST = 1e5, 1e-5
_PHASES = 8
_MANY_BLOCKS = 400.0
_FAST = 0.15
_LEVELS = np.arange(-6.0, 8.01, 0.1)
_CHANCES = np.exp(-0.5 * _LEVELS**2) / np.sum(np.exp(-0.5 * _LEVELS**2))


def overlap(law: HoldingTime) -> float:
    """The integral of S(t)^2 over that of S(t), S the survival of holds: 1/2 for exponential, 1 for fixed ones.

    The share of two connections that come at one instant for which both are held. Connections that come in batches of
    b in the mean, geometrically, are held with a variance-to-mean ratio of 1 + 2 (b - 1) times it (Eckberg,
    "Generalized peakedness of teletraffic processes", 1983). 1 for holds of no length.
    """
    mean = float(np.max(law.mean_s))
    if not mean:
        return 1.0
    times = np.concatenate([[0.0], mean * np.geomspace(_FINEST, _WIDEST, _BINS)])
    held = np.diff(np.ravel(law.integrated_survival(times)))
    return float(np.sum(held**2 / np.diff(times)) / np.sum(held))


def held_cv(law: HoldingTime, cv: float, steady_s: float) -> tuple[float, float]:
    """The slow and the fast coefficient of variation of what is held in the mean, of a rate that varies with `cv`.

    The rate keeps a level for `steady_s` seconds, then has another, independent one. What is held is the mean of the
    levels weighted by what is left of each: its variation rises and falls between two changes, and counts as half way
    between its mean and its greatest. How much of that is slow depends on how long a level lasts beside a holding time:
    x^2 / (x^2 + `_FAST`), x = steady_s / mean hold, twice that for fixed holds. Fitted to simulations of 40 to 800
    connections, levels from a twentieth to six holds, cv of 0.3 and 0.8: shares refused within a fifth, most within a
    tenth. Their squares add up to the whole variation.
    """
    mean = float(np.max(law.mean_s))
    if not mean or not cv:
        return cv, 0.0
    shared = overlap(law)
    if mean > _MANY_BLOCKS * steady_s:
        return 0.0, cv * sqrt(steady_s * shared / mean)
    blocks = int(60 * mean / steady_s) + 2
    phases = np.arange(_PHASES + 1) / _PHASES
    edges = np.concatenate([np.zeros((_PHASES + 1, 1)), phases[:, None] + np.arange(blocks)], axis=1) * steady_s
    parts = np.diff(np.reshape(law.integrated_survival(edges.ravel()), edges.shape), axis=1) / mean
    squares = np.sum(parts[:-1] ** 2, axis=1)
    whole = cv * cv * float(np.mean(squares) + np.max(squares)) / 2
    lasts = (steady_s / mean * 2 ** (2 * min(1.0, shared) - 1)) ** 2
    slow = lasts / (lasts + _FAST)
    return sqrt(slow * whole), sqrt((1 - slow) * whole)


def varying(formula: Callable[[Floats], Floats], concurrent: Floats, cv: float) -> Floats:
    """The refused share where the load's level varies with a coefficient of variation `cv`; shape of `concurrent`.

    formula: the refused share at means held, shape (n,). Connections are more where the level is higher: each level
    counts by its chance times itself.
    """
    sigma = sqrt(log1p(cv * cv))
    levels = np.exp(sigma * _LEVELS - sigma * sigma / 2)
    weights = _CHANCES * levels
    found = formula(np.outer(concurrent, levels).ravel()).reshape(concurrent.size, levels.size)
    result: Floats = found @ (weights / weights.sum())
    return result


def day_level(cv: float, days: float) -> float:
    """The level that a share of days does not exceed, of a mean of 1 and a coefficient of variation `cv` between days.

    Never below 1: a plan for less than the mean day is none.
    """
    sigma = sqrt(log1p(cv * cv))
    return max(1.0, exp(sigma * NormalDist().inv_cdf(days) - sigma * sigma / 2))
