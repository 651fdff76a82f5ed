r"""Erlang's loss formula, on NumPy alone, from 1 to 10^7 servers and down to 1e-300 and below.

With `c` servers offered `a` Erlang the share of arrivals refused is

    B(c, a) = (a^c / c!) / sum_{k=0..c} a^k / k!                                   (Erlang 1917)

and for real c it is continued by 1 / B = a * integral_0^inf e^{-a t} (1 + t)^c dt (Fortet; Jagerman,
"Some properties of the Erlang loss function", Bell System Technical Journal 53, 1974).

From 120 servers on, up to 2.7 times as much load, a uniform expansion serves (`erlang_expansion`); else both
branches below integrate a positive, monotone, analytic function, exp(-d t + c (log(1 + s t) - s t))
with d = |a - c|, by Gauss-Legendre over the stretch where it exceeds e^-40 of its start. 24 nodes leave
an error near 2e-14 from 40 servers up, whatever their number; nothing cancels. Where a >= c, s = +1
and 1 / B is the integral itself; where a < c, s = -1 and 1 / B = 1 / p - S, with p the Poisson
probability of c and S the integral.
"""

from math import exp
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_target, unusable
from fenrask.teletraffic.elementary import log1pmx, stirling_error
from fenrask.teletraffic.erlang_expansion import MANY, inverse_blocking
from fenrask.teletraffic.erlang_scalar import log_erlang_b_of_one

__all__ = ["erlang_b", "erlangs_for", "log_erlang_b", "log_poisson", "ports_for"]


def _legendre(n: int) -> tuple[Floats, Floats]:
    nodes, weights = np.polynomial.legendre.leggauss(n)
    return (nodes + 1) / 2, weights / 2


_NODES, _WEIGHTS = _legendre(24)
_MORE_NODES, _MORE_WEIGHTS = _legendre(48)
_FAR_NODES, _FAR_WEIGHTS = np.polynomial.laguerre.laggauss(10)
_FAR = 500.0
"""Where (a - c)^2 / c is more than this ten nodes of Gauss-Laguerre leave an error near 1e-15."""
_DEPTH = 40.0
_DEEP = 60.0
_LEAST_OF, _MOST_TIMES = 0.01, 2.7
"""From a hundredth of the servers on 1 / B is a float, and up to so many times these the expansion serves."""
_CHUNK = 4096
_MOST_LOAD = 2.0**52
_TINY = 1e-300
_COUNTED = 120
"""Up to so many servers, a whole number, the recursion is as quick, and loses nothing that shows."""
_FEW = 40
"""Below this many servers the integrands are singular close by, and other forms serve."""


def erlang_b(ports: ArrayLike, erlangs: ArrayLike) -> Any:
    """The share of connections refused, by Erlang's loss formula.

    ports: servers (ports), at least 0, whole or not; erlangs: offered load, mean connections that
    would be held at once. Broadcasts; returns an array of the broadcast shape, or a float.
    Relative error below 1e-12 down to 1e-12, below 1e-11 down to 1e-300; smaller values become 0
    (see `log_erlang_b`). No load on at least one port refuses nothing; no port refuses everything.
    Raises UnusableInput (a ValueError) for NaN, infinite or negative input.

    >>> round(float(erlang_b(10, 4.461)), 6)
    0.009998
    """
    log_b = log_erlang_b(ports, erlangs)
    return exp(log_b) if type(log_b) is float else np.exp(log_b)[()]


def log_erlang_b(ports: ArrayLike, erlangs: ArrayLike) -> Any:
    """The natural logarithm of `erlang_b`, with nothing lost where that underflows; -inf for no load."""
    if isinstance(ports, float | int) and isinstance(erlangs, float | int):
        usable = 0 <= ports < np.inf and 0 <= erlangs < np.inf
        alone = log_erlang_b_of_one(float(ports), float(erlangs)) if usable else None
        if alone is not None:
            return alone
    servers, load = broadcast(ports=ports, erlangs=erlangs)
    flat_c, flat_a = servers.ravel(), load.ravel()
    result = np.zeros(flat_c.size)
    result[(flat_a == 0) & (flat_c > 0)] = -np.inf
    # Neighbours in size need like numbers of terms, so that a chunk of them wastes none; small integers sort quickest.
    live = np.flatnonzero((flat_a > 0) & (flat_c > 0))
    size = flat_c[live]
    size = np.where(size <= _COUNTED, np.ceil(size), _COUNTED + np.frexp(size)[1]).astype(np.int16)
    live = live[np.argsort(size, kind="stable")]
    for start in range(0, live.size, _CHUNK):
        part = live[start : start + _CHUNK]
        result[part] = _log_b(flat_c[part], flat_a[part])
    return result.reshape(servers.shape)[()]


def ports_for(erlangs: ArrayLike, blocking: ArrayLike) -> Any:
    """The least whole number of ports that refuses at most `blocking` of the offered `erlangs`.

    erlangs: at least 0; blocking: above 0 and below 1. Broadcasts; returns int64. No load needs no port.
    Raises UnusableInput for a target of 0 or 1 (no number of ports reaches 0; none is needed for 1).

    >>> int(ports_for(84.06, 0.01))
    100
    """
    load, target = broadcast(erlangs=erlangs, blocking=blocking)
    check_target(target)
    if np.any(load > _MOST_LOAD):
        raise unusable(
            "erlangs", f"{np.max(load):g}", f"at most {_MOST_LOAD:g}: beyond it no port is told from the next"
        )
    flat, goal = load.ravel(), np.log(target).ravel()
    result, open_ = np.zeros(flat.size), np.flatnonzero(flat > 0)
    at = _guess(flat[open_], goal[open_])
    for _ in range(_MOST_TURNS):
        if not open_.size:
            break
        a, wanted = flat[open_], goal[open_]
        log_b = log_erlang_b(at, a)
        before = _log_before(at, a, log_b)
        done = (log_b <= wanted) & (before > wanted)
        result[open_[done]] = at[done]
        # One port more makes log B fall by this, one less by that: both are known from B itself.
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            fall = np.where(log_b > wanted, np.log(at + 1 + a * np.exp(log_b)) - np.log(a), before - log_b)
            step = np.where(fall > 0, (log_b - wanted) / fall, at)
        enough = log_b <= wanted
        moved = at + np.where(enough, np.minimum(-1, np.ceil(step)), np.maximum(1, np.ceil(step)))
        open_, at = open_[~done], np.clip(moved, 1, _MOST_PORTS)[~done]
    if open_.size:
        result[open_] = _halved(flat[open_], goal[open_])
    return result.reshape(load.shape).astype(np.int64)[()]


_MOST_TURNS = 40
_MOST_PORTS = 2.0**53


def _guess(a: Floats, goal: Floats) -> Floats:
    """Whole numbers of ports near those that refuse e^goal: by the carried load, or by the Poisson tail's depth."""
    depth = np.maximum(-goal - 0.5 * np.log(2 * np.pi * np.maximum(a, 1.0)), 0.0)
    deviation = np.sqrt(2 * a * depth) + depth / 3
    carried = a * -np.expm1(goal)  # never more than the ports
    guess: Floats = np.maximum(1.0, np.ceil(np.maximum(carried, np.where(depth > 0, a + deviation, 0.0))))
    return guess


def _guess_of_load(c: Floats, target: Floats) -> Floats:
    """A load near the one of which c ports refuse the target: `_guess` the other way round."""
    depth = np.maximum(-np.log(target) - 0.5 * np.log(2 * np.pi * np.maximum(c, 1.0)), 0.0)
    room = np.maximum(c - depth / 3, 0.0)
    root = (np.sqrt(2 * depth + 4 * room) - np.sqrt(2 * depth)) / 2
    near = (depth > 0) & (c >= _FEW) & (root > 1)
    guess: Floats = np.where(near, root * root, c / (1 - target))
    return guess


def _log_before(c: Floats, a: Floats, log_b: Floats) -> Floats:
    """log B with one port less, from B(c) = a B(c-1) / (c + a B(c-1)); 0 where nothing can be told from 1."""
    with np.errstate(divide="ignore"):
        before: Floats = log_b + np.log(c) - np.log(a) - np.log(-np.expm1(log_b))
    return np.where(c <= 1, 0.0, np.minimum(before, 0.0))


def _halved(a: Floats, goal: Floats) -> Floats:
    """The least ports by halving, where steps by the slope do not settle."""
    low, high = np.zeros(a.shape), np.maximum(1.0, np.ceil(a))
    while (short := log_erlang_b(high, a) > goal).any():
        low, high = np.where(short, high, low), np.where(short, 2 * high, high)
    while (wide := high - low > 1).any():
        middle = np.where(wide, np.floor((low + high) / 2), high)
        enough = log_erlang_b(middle, a) <= goal
        high, low = np.where(wide & enough, middle, high), np.where(wide & ~enough, middle, low)
    return high


def erlangs_for(ports: ArrayLike, blocking: ArrayLike) -> Any:
    """The greatest load, in Erlang, of which `ports` refuse at most `blocking`.

    ports: at least 0, whole or not; blocking: above 0 and below 1. Broadcasts; returns floats. No
    port carries nothing. log B is concave in log a with slope c - a (1 - B) (Jagerman 1974), so that
    Newton's method, once left of the solution, climbs to it without overshoot.

    >>> round(float(erlangs_for(10, 0.01)), 3)
    4.461
    """
    servers, target = broadcast(ports=ports, blocking=blocking)
    check_target(target)
    shape = servers.shape
    servers, target = servers.ravel(), target.ravel()
    load = _guess_of_load(np.where(servers > 0, servers, 1.0), target)
    open_, last = np.arange(load.size), np.full(load.size, np.inf)
    for _ in range(200):
        c, now, most = np.where(servers[open_] > 0, servers[open_], 1.0), load[open_], target[open_]
        log_b = log_erlang_b(c, now)
        slope = c - now * -np.expm1(log_b)
        step = (np.log(most) - log_b) / np.maximum(slope, 1e-300)
        load[open_] = np.minimum(now * np.exp(np.clip(step, -50.0, 50.0)), c / (1 - most))
        # The last digit of log B moves the load by that over the slope: no nearer is ever come.
        settled = np.abs(step) <= np.maximum(4e-16, 2e-16 * np.maximum(np.abs(log_b), 1.0) / np.maximum(slope, 1e-300))
        # Nor where a step no longer shrinks, since only the last digits are left to move it.
        settled |= (np.abs(step) < 1e-9) & (np.abs(step) >= last / 2)
        open_, last = open_[~settled], np.abs(step)[~settled]
        if not open_.size:
            break
    return np.where(servers > 0, load, 0.0).reshape(shape)[()]


def _log_b(c: Floats, a: Floats) -> Floats:
    """log B for c > 0 and a > 0, arrays of shape (n,), c rising."""
    result = np.empty(c.shape)
    counted = (c <= _COUNTED) & (c == np.floor(c)) & (a >= 1)
    if counted.any():
        result[counted] = -np.log(_by_counting(c[counted], a[counted]))
    rest = ~counted
    if rest.any():
        result[rest] = _by_integrals(c[rest], a[rest])
    return result


def _by_counting(c: Floats, a: Floats) -> Floats:
    """1 / B for whole c, rising: by 1 / B(k) = 1 + k / (a B(k - 1)), all of whose terms are positive."""
    result, over_a = np.ones(c.shape), 1 / a
    firsts = np.searchsorted(c, np.arange(1, int(c[-1]) + 1))
    for k, first in enumerate(firsts, 1):
        result[first:] = 1 + k * over_a[first:] * result[first:]
    return result


def _by_integrals(c: Floats, a: Floats) -> Floats:
    """log B for any c > 0 and a > 0."""
    result = np.empty(c.shape)
    # Further below than this B is the Poisson probability to the last digit; further above ten nodes do.
    many = (c >= MANY) & (a <= _MOST_TIMES * c) & (np.maximum(c - a, 0.0) ** 2 <= 2 * _DEEP * c) & (a >= _LEAST_OF * c)
    if many.any():
        result[many] = -np.log(inverse_blocking(c[many], a[many]))
    over = (a >= c) & ~many
    if over.any():
        result[over] = -np.log(_overloaded(c[over], a[over]))
    under = ~(over | many)
    if under.any():
        c, a = c[under], a[under]
        log_p = log_poisson(c, a)
        # The tail is below a / d and a sqrt(pi / 2 c); where p takes it under a float's last digit B is p.
        bound = np.log(a) - np.log(np.maximum(c - a, np.sqrt(2 * c / np.pi)))
        tail = np.zeros(c.shape)
        few, some = c < _FEW, (c >= _FEW) & (log_p + bound > -_DEPTH)
        tail[few] = _series(c[few], a[few])
        tail[some] = _integral(c[some], a[some], -1.0)
        result[under] = log_p - np.log1p(-np.exp(log_p) * tail)
    return result


def _overloaded(c: Floats, a: Floats) -> Floats:
    """1 / B for a >= c > 0."""
    result = np.empty(c.shape)
    few, far = c < _FEW, a - c > np.sqrt(_FAR * c)
    far &= ~few
    near = ~few & ~far
    result[near] = _integral(c[near], a[near], 1.0)
    result[far] = _far(c[far], a[far])
    c, a = c[few], a[few]
    # With few servers (1 + t)^c is singular close by; t = e^w - 1 makes the integrand entire.
    end = np.log1p(_end(c, a - c))
    w = end[:, None] * _MORE_NODES
    result[few] = a * end * (np.exp((c[:, None] + 1) * w - a[:, None] * np.expm1(w)) @ _MORE_WEIGHTS)
    return result


def _far(c: Floats, a: Floats) -> Floats:
    """1 / B for a far above c: the integrand is nearly e^(-d t), and Gauss-Laguerre's few nodes do."""
    d = a - c
    t = _FAR_NODES / d[:, None]
    far: Floats = a / d * (np.exp(c[:, None] * log1pmx(t)) @ _FAR_WEIGHTS)
    return far


def _end(c: Floats, d: Floats) -> Floats:
    """Where -d t + c (log(1 + t) - t) has fallen to -_DEPTH, by Newton from its parabola's depth."""
    end = 2 * _DEPTH / (d + np.sqrt(d * d + 2 * c * _DEPTH))
    for _ in range(2):
        depth = -d * end + c * log1pmx(end)
        end = np.maximum(end + (depth + _DEPTH) / (d + c * end / (1 + end)), end)
    return end


def _integral(c: Floats, a: Floats, sign: float) -> Floats:
    """a * integral of exp(-|a - c| t + c (log(1 + sign t) - sign t)) from 0 to where nothing is left."""
    if not c.size:
        return c
    d = np.abs(a - c)
    # For sign -1 the exponent falls faster than its parabola, and the stretch ends before 1.
    end = _end(c, d) if sign > 0 else np.minimum(2 * _DEPTH / (d + np.sqrt(d * d + 2 * c * _DEPTH)), 1 - 1e-12)
    t = end[:, None] * _NODES
    values = np.exp(-d[:, None] * t + c[:, None] * log1pmx(sign * t))
    integral: Floats = a * end * (values @ _WEIGHTS)
    return integral


def _series(c: Floats, a: Floats) -> Floats:
    """sum over k >= 1 of a^k / ((c + 1) ... (c + k)), for a < c < _FEW."""
    term = a / (c + 1)
    total = term.copy()
    k = 1
    while np.any(term > 1e-17 * total):
        k += 1
        term = term * (a / (c + k))
        total += term
    return total


def log_poisson(c: Floats, a: Floats) -> Floats:
    """log of e^-a a^c / Gamma(c + 1), by the saddle point (Loader 2000); small c by shifting up to 16."""
    shift = np.where(c < 16, 16.0, 0.0)
    n = c + shift
    x = (a - n) / n
    deviance, near = n * _log_ratio(a, n) - (a - n), np.abs(x) < 0.5
    deviance[near] = n[near] * log1pmx(x[near])
    log_p = deviance - stirling_error(n) - 0.5 * np.log(2 * np.pi * n)
    low = shift > 0
    if low.any():
        steps = np.arange(1, 17)
        log_p[low] += -np.sum(_log_ratio(a[low, None], c[low, None] + steps), axis=1)
    return log_p


def _log_ratio(a: Floats, n: Floats) -> Floats:
    """log(a / n), also where a / n is too small to be a number."""
    with np.errstate(divide="ignore", over="ignore", under="ignore"):
        ratio: Floats = np.log(a / n)
    tiny = a <= _TINY * n
    if tiny.any():
        ratio[tiny] = (np.log(a) - np.log(n))[tiny]
    return ratio
