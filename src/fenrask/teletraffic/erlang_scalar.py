"""Erlang's loss formula for one pair of numbers, without the cost of arrays: the same branches as `erlang`."""

import math

import numpy as np

__all__ = ["log_erlang_b_of_one"]

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(24)
_NODES, _WEIGHTS = (_NODES + 1) / 2, _WEIGHTS / 2
_DEPTH = 40.0
_COUNTED = 120
"""Up to so many servers, a whole number, the recursion is as quick, and loses nothing that shows."""
_LEAST = 40
"""From this many servers on the integrands are smooth enough for the nodes."""
_BIG = 1e300


def log_erlang_b_of_one(c: float, a: float) -> float | None:
    """The logarithm of the blocking of `a` Erlang at `c` ports, both finite and at least 0; -inf for no load.

    None where only the forms for arrays serve: few ports that are not whole, loads that no float can count.
    """
    if c == 0 or a == 0:
        return 0.0 if c == 0 else -math.inf
    if c <= _COUNTED and c == int(c):
        inverse, over_a = 1.0, 1 / a
        for k in range(1, int(c) + 1):
            inverse = 1 + k * over_a * inverse
        return -math.log(inverse) if inverse < _BIG else None
    if c < _LEAST or a < c * 1e-3:
        return None
    d = abs(a - c)
    if a >= c:
        return -math.log(a * _integral(c, d, 1.0, _end(c, d)))
    log_p = _log_poisson(c, a)
    # Where the tail takes it under a float's last digit the blocking is the Poisson probability itself.
    if log_p + math.log(a / max(d, math.sqrt(2 * c / math.pi))) < -_DEPTH:
        return log_p
    end = min(2 * _DEPTH / (d + math.sqrt(d * d + 2 * c * _DEPTH)), 1 - 1e-12)
    return log_p - math.log1p(-math.exp(log_p) * a * _integral(c, d, -1.0, end))


def _end(c: float, d: float) -> float:
    """Where -d t + c (log(1 + t) - t) has fallen to -_DEPTH, by Newton from its parabola's depth."""
    end = 2 * _DEPTH / (d + math.sqrt(d * d + 2 * c * _DEPTH))
    for _ in range(2):
        depth = -d * end + c * (math.log1p(end) - end)
        end = max(end + (depth + _DEPTH) / (d + c * end / (1 + end)), end)
    return end


def _integral(c: float, d: float, sign: float, end: float) -> float:
    """The integral of exp(-d t + c (log(1 + sign t) - sign t)) from 0 to `end`.

    What log(1 + t) - t loses for small t is below 3e-20 times c, and as often too much as too little.
    """
    t = end * _NODES
    return end * float(np.exp(c * np.log1p(sign * t) - (sign * c + d) * t) @ _WEIGHTS)


def _log_poisson(c: float, a: float) -> float:
    """log of e^-a a^c / Gamma(c + 1), by the saddle point (Loader 2000), c at least 40."""
    x = (a - c) / c
    deviance = c * _log1pmx(x) if abs(x) < 0.5 else c * math.log(a / c) - (a - c)
    s = 1 / (c * c)
    stirling = (1 / 12 - s * (1 / 360 - s * (1 / 1260 - s * (1 / 1680 - s * (1 / 1188 - s * 691 / 360360))))) / c
    return deviance - stirling - 0.5 * math.log(2 * math.pi * c)


def _log1pmx(x: float) -> float:
    """log(1 + x) - x without cancellation, |x| < 0.5: with r = x / (2 + x), log(1 + x) = 2 (r + r^3/3 + ...)."""
    r = x / (2 + x)
    square, power, k, total = r * r, r * r, 3, 0.0
    while power > 1e-18:
        total += power / k
        power *= square
        k += 2
    return r * (2 * total - x)
