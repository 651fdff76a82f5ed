"""Engset's loss formula: few sources, each with one call at most (Engset 1918; Iversen, Teletraffic Engineering)."""

import math
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole
from fenrask.teletraffic.elementary import log1pmx, stirling_error

__all__ = ["engset_b"]

_SMALL = 16
_SMALL_ERRORS = np.array(
    [0.0, *(math.lgamma(n + 1) - (n + 0.5) * math.log(n) + n - 0.5 * math.log(2 * math.pi) for n in range(1, _SMALL))]
)


def engset_b(ports: ArrayLike, sources: ArrayLike, erlangs_per_idle_source: ArrayLike) -> Any:
    """The share of arriving connections that are refused, where each source holds one at most.

    ports: servers, whole, at least 0; sources: whole, at least 0; erlangs_per_idle_source: arrival rate
    of an idle source times the mean hold, at least 0. Broadcasts; returns floats of the broadcast shape.

    An arriving connection meets the state that the other sources leave: with M = sources - 1 of them and
    p = e / (1 + e) the refused share is P(X = c) / P(X <= c) for X binomial (M, p): call congestion, not
    the share of time that all ports are taken. As many ports as sources refuse nothing. Relative error
    below 1e-11 down to 1e-12, 1e-8 below. Raises UnusableInput for NaN, negative, or not whole counts.

    >>> round(float(engset_b(2, 4, 0.5)), 6)
    0.230769
    """
    c, n, load = broadcast(ports=ports, sources=sources, erlangs_per_idle_source=erlangs_per_idle_source)
    check_whole("ports", c)
    check_whole("sources", n)
    result = np.zeros(c.shape)
    result[(c == 0) & (n > 0)] = 1.0
    live = (c > 0) & (c < n) & (load > 0)
    if live.any():
        result[live] = _ratio(c[live], n[live] - 1, load[live])
    return result[()]


def _ratio(c: Floats, m: Floats, load: Floats) -> Floats:
    """P(X = c) / P(X <= c), X binomial (m, load / (1 + load)), 0 < c <= m."""
    result = np.empty(c.shape)
    below = c * 1.0 <= load * (m - c + 1)
    # Below the mean the terms under c fall off fast; above it those over c do.
    down, up = below, ~below
    if down.any():
        result[down] = 1 / (1 + _sum_below(c[down], m[down], load[down]))
    if up.any():
        at = np.exp(_log_binomial(c[up], m[up], load[up]))
        result[up] = at / (1 - at * _sum_above(c[up], m[up], load[up]))
    return result


def _sum_below(c: Floats, m: Floats, load: Floats) -> Floats:
    """Sum over j >= 1 of P(X = c - j) / P(X = c); the terms' ratios are at most 1 and fall."""
    term, total, j = np.ones(c.shape), np.zeros(c.shape), 0
    while np.any(term > 1e-18 * (1 + total)):
        term = term * np.maximum(c - j, 0.0) / (load * (m - c + 1 + j))
        total += term
        j += 1
    return total


def _sum_above(c: Floats, m: Floats, load: Floats) -> Floats:
    """Sum over j >= 1 of P(X = c + j) / P(X = c); the terms' ratios are below 1 and fall."""
    term, total, j = np.ones(c.shape), np.zeros(c.shape), 0
    while np.any(term > 1e-18 * (1 + total)):
        term = term * np.maximum(m - c - j, 0.0) * load / (c + 1 + j)
        total += term
        j += 1
    return total


def _log_binomial(c: Floats, m: Floats, load: Floats) -> Floats:
    """log P(X = c) by the saddle point (Loader 2000), 0 < c <= m."""
    all_taken = c == m
    rest = np.where(all_taken, 1.0, m - c)
    mean, idle = m * (load / (1 + load)), m / (1 + load)
    log_p = (
        _stirling(m)
        - _stirling(c)
        - _stirling(rest)
        - _deviance(c, mean)
        - _deviance(rest, idle)
        + 0.5 * np.log(m / (2 * np.pi * c * rest))
    )
    return np.where(all_taken, m * (np.log(load) - np.log1p(load)), log_p)


def _stirling(n: Floats) -> Floats:
    small = _SMALL_ERRORS[np.minimum(n, _SMALL - 1).astype(int)]
    return np.where(n < _SMALL, small, stirling_error(np.maximum(n, _SMALL)))


def _deviance(x: Floats, mean: Floats) -> Floats:
    """x log(x / mean) + mean - x."""
    d = (mean - x) / x
    near = np.abs(d) < 0.5
    return np.where(near, -x * log1pmx(np.where(near, d, 0.0)), x * np.log(x / mean) + mean - x)
