"""Loss where a free server is looked for only so many times: a birth-death chain that thins as it fills."""

from itertools import pairwise
from math import exp, lgamma, sqrt
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole, unusable

__all__ = ["limited_search_b", "refusal_when"]

_CELLS = 400_000
"""States of all chains that are worked out at once: what fits beside the processor."""


def refusal_when(taken: ArrayLike, ports: ArrayLike, tries: ArrayLike) -> Any:
    """The chance that a search of `tries` different ports, begun anywhere, meets none free with `taken` taken.

    With the taken ones anywhere alike it is C(taken, tries) / C(ports, tries), the product over i < tries of
    (taken - i) / (ports - i). Broadcasts. Whole numbers; tries at least 1.
    """
    k, c, n = broadcast(taken=taken, ports=ports, tries=tries)
    result = np.ones(k.shape)
    for i in range(int(np.max(n, initial=0.0))):
        step = np.maximum(k - i, 0.0) / np.maximum(c - i, 1.0)
        result = np.where(i < np.minimum(n, c), result * step, result)
    return result[()]


def limited_search_b(ports: ArrayLike, erlangs: ArrayLike, tries: ArrayLike) -> Any:
    """The refused share where each new connection tries at most `tries` ports before it gives up.

    ports: whole, at least 1; erlangs: offered load; tries: whole, at least 1. Broadcasts. The stationary
    chain has births at rate a (1 - f(k)), f being `refusal_when`, and deaths at rate k; the refused share is
    the mean of f. With tries = ports it is Erlang's formula. Refusals begin long before all is taken.

    >>> round(float(limited_search_b(10, 5, 10)), 6), round(float(limited_search_b(10, 5, 1)), 6)
    (0.018385, 0.333333)
    """
    c, load, n = broadcast(ports=ports, erlangs=erlangs, tries=tries)
    for name, values in (("ports", c), ("tries", n)):
        check_whole(name, values)
        if np.any(values < 1):
            raise unusable(name, f"{values[values < 1].flat[0]:g}", "a whole number of at least 1")
    flat = [one.ravel() for one in (c, n, load)]
    order = np.lexsort(flat[::-1])
    at_most, looked_at, loads = (one[order] for one in flat)
    begins = np.flatnonzero(np.diff(at_most, prepend=-1.0) + np.abs(np.diff(looked_at, prepend=-1.0)))
    result = np.empty(loads.size)
    for first, end in pairwise([*begins.tolist(), loads.size]):
        # Through a day many times have the same load: each is worked out once; all loads of the same ports together.
        different, which = np.unique(loads[first:end], return_inverse=True)
        result[order[first:end]] = _chains(float(at_most[first]), float(looked_at[first]), different)[which]
    return result.reshape(c.shape)[()]


def _chains(c: float, tries: float, loads: Floats) -> Floats:
    """The refused share of each load, shape (n_loads,), which rise."""
    refused = np.zeros(loads.size)
    chains = _windows(c, tries, loads[loads > 0])
    done = loads.size - sum(len(low) for low, _ in chains)
    for low, width in chains:
        some = loads[done : done + len(low)]
        refused[done : done + len(low)] = _means(c, tries, some, np.array(low), width)
        done += len(low)
    return refused


def _windows(c: float, tries: float, loads: Floats) -> list[tuple[list[int], int]]:
    """The lowest state looked at of each chain, and of how many states: loads in turn, as many at once as fit.

    Nothing is lost by leaving out states that a chain is never in. Both its weights and those times what each state
    refuses fall off at least as fast as Poisson's do: about the balance, and about at most `tries` above it. Of a
    Poisson variable's mean m, less than e^-40 lies further off than 9 sqrt(m) + 27 (Bennett 1962).
    """
    parts = list[tuple[list[int], int]]()
    lows, width, balance = list[int](), 0, 0.0
    for load in loads.tolist():
        balance = _balance(c, load, tries, balance)
        top = balance + 1 + min(tries, c)
        low = max(0, int(balance - 9 * sqrt(balance) - 27))
        wide = min(int(c), int(top + 9 * sqrt(top) + 28)) - low + 1
        if lows and max(width, wide) * (len(lows) + 1) > _CELLS:
            parts.append((lows, width))
            lows, width = [], 0
        lows.append(low)
        width = max(width, wide)
    return [*parts, (lows, width)] if lows else parts


def _means(c: float, tries: float, loads: Floats, low: NDArray[np.intp], width: int) -> Floats:
    """The mean of what the states refuse, of each load's chain: of `width` states from `low` on; shapes (n_loads,)."""
    first, last = int(low[0]), int(min(c, low[-1] + width - 1))
    k = np.arange(first, last + 1, dtype=np.float64)
    blocked = np.exp(_log_refusal(k, c, tries))
    with np.errstate(divide="ignore"):
        # log p(k) - log p(k - 1) but for the load; above the last state there is none.
        steps = np.log1p(-blocked[:-1]) - np.log(k[1:])
    beyond = int(low[-1]) + width - 1 - last
    steps = np.concatenate([[0.0], steps, np.full(beyond, -np.inf)])
    blocked = np.concatenate([blocked, np.zeros(beyond)])
    which = low[:, None] - first + np.arange(width)
    log_p = steps[which]
    log_p += np.log(loads)[:, None]
    log_p[:, 0] = 0.0
    np.cumsum(log_p, axis=1, out=log_p)
    log_p -= log_p.max(axis=1, keepdims=True)
    weight = np.exp(log_p, out=log_p)
    refused: Floats = np.sum(weight * blocked[which], axis=1) / np.sum(weight, axis=1)
    return refused


def _balance(c: float, load: float, tries: float, at_least: float) -> float:
    """The state in which as many connections begin as end, a (1 - f(k)) = k, or up to one above it.

    It rises with the load, to all ports; that of a smaller load is at least given.
    """
    n = min(tries, c)
    low, high = at_least, min(load, c)
    if load * (1 - _refusal(high, c, n)) > high - 1:
        return high
    while high - low > 1:
        k = (low + high) / 2
        low, high = (k, high) if load * (1 - _refusal(k, c, n)) > k else (low, k)
    return high


def _refusal(k: float, c: float, n: float) -> float:
    return exp(lgamma(k + 1) - lgamma(k - n + 1) - lgamma(c + 1) + lgamma(c - n + 1)) if k > n else 0.0


def _log_refusal(k: Floats, c: float, tries: float) -> Floats:
    """log of `refusal_when` for rising k, one step apart: from the highest down by the ratio of neighbours."""
    n = min(tries, c)
    with np.errstate(divide="ignore", invalid="ignore"):
        i = np.arange(n)
        top = float(np.sum(np.log(np.maximum(k[-1] - i, 0.0)) - np.log(c - i)))
        ratios = np.log(np.maximum(k[1:] - n, 0.0)) - np.log(k[1:])
        log_f: Floats = top + np.concatenate([np.cumsum(ratios[::-1])[::-1], [0.0]])
    return np.where(k >= n, log_f, -np.inf)
