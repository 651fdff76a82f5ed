"""Synchronised jobs: many connections at one time, again and again; how many are held at the worst moment, and refused.

Connections that begin together are as many as they are: no chance is in their number, so that a variance-to-mean ratio
says too much of them. What is held is their number, whole, and what is left of earlier times and of others, by chance.
"""

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.erlang import log_erlang_b, log_poisson
from fenrask.teletraffic.holding import HoldingTime

__all__ = ["excess", "fresh", "held_since", "left_over"]

_LONGEST, _MOST_TIMES = 60.0, 100_000


def fresh(law: HoldingTime, every_s: float, spread_s: float) -> float:
    """What is held of a burst at its end, as a factor of what bursts hold in the mean over time.

    law: of holds; every_s: from one burst's begin to the next's, s; spread_s: over which a burst's connections begin.
    """
    return _held(law, every_s, spread_s, np.zeros(1))


def left_over(law: HoldingTime, every_s: float, spread_s: float) -> float:
    """What is held of all earlier bursts at the end of one, as the same factor."""
    mean = float(np.max(law.mean_s))
    times = int(min(_MOST_TIMES, _LONGEST * mean / every_s)) + 1
    return _held(law, every_s, spread_s, np.arange(1.0, times + 1) * every_s)


def held_since(law: HoldingTime, every_s: float, spread_s: float, since_s: float) -> float:
    """What is held of all bursts some time after the end of the last, s, as the same factor."""
    mean = float(np.max(law.mean_s))
    times = int(min(_MOST_TIMES, _LONGEST * mean / every_s)) + 1
    return _held(law, every_s, spread_s, since_s + np.arange(0.0, times + 1) * every_s)


def _held(law: HoldingTime, every_s: float, spread_s: float, ago_s: Floats) -> float:
    mean = float(np.max(law.mean_s))
    if not mean:
        return 1.0
    if spread_s:
        still = (law.integrated_survival(ago_s + spread_s) - law.integrated_survival(ago_s)) / spread_s
    else:
        still = law.survival(ago_s)
    return every_s * float(np.sum(still)) / mean


def excess(servers: Floats, mean: Floats) -> Floats:
    """E (Y - servers)+ for Y Poisson of a mean: how many more than the servers there are; arrays of one shape.

    From P(Y <= c) = p(c) / B(c): M (1 - P(Y <= c - 1)) - c (1 - P(Y <= c)). Servers below 0 are all short.
    """
    result = np.maximum(mean - servers, 0.0)
    some = (servers >= 0) & (mean > 0)
    c, m = np.floor(servers[some]), mean[some]
    at_most = np.exp(log_poisson(np.maximum(c, 1e-9), m) - np.asarray(log_erlang_b(c, m)))
    at_most = np.minimum(1.0, np.where(c < 1, np.exp(-m), at_most))
    here = np.where(c < 1, np.exp(-m), np.exp(log_poisson(np.maximum(c, 1e-9), m)))
    more = m * (1 - np.maximum(at_most - here, 0.0)) - c * (1 - at_most)
    result[some] = np.maximum(more, np.maximum(m - c, 0.0))
    return result
