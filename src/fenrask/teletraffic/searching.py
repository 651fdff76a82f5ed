"""Loss where a free server is looked for only so many times: a birth-death chain that thins as it fills."""

from math import exp, lgamma, sqrt
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole, unusable

__all__ = ["limited_search_b", "refusal_when"]


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
    # Through a day many times have the same load: each is worked out once.
    cases, which = np.unique(np.stack([c.ravel(), load.ravel(), n.ravel()]), axis=1, return_inverse=True)
    found = np.array([_chain(*map(float, one)) for one in cases.T], dtype=np.float64)
    return found[which].reshape(c.shape)[()]


def _chain(c: float, load: float, tries: float) -> float:
    if load == 0:
        return 0.0
    # Nothing is lost by leaving out states that the chain is never in: forty deviations about its mean.
    middle = _balance(c, load, tries)
    spread = 40 * sqrt(middle) + 100
    low, high = max(0, int(middle - spread)), min(int(c), int(middle + spread))
    k = np.arange(low, high + 1, dtype=np.float64)
    log_f = _log_refusal(k, c, tries)
    blocked = np.exp(log_f)
    with np.errstate(divide="ignore"):
        steps = np.log(load) + np.log1p(-blocked[:-1]) - np.log(k[1:])
    log_p = np.concatenate([[0.0], np.cumsum(steps)])
    weight = np.exp(log_p - np.max(log_p))
    return float(np.sum(weight * blocked) / np.sum(weight))


def _balance(c: float, load: float, tries: float) -> float:
    """The state in which as many connections begin as end: a (1 - f(k)) = k; it rises to `load` or to all ports."""
    n = min(tries, c)
    low, high = 0.0, min(load, c)
    for _ in range(60):
        k = (low + high) / 2
        refused = exp(lgamma(k + 1) - lgamma(k - n + 1) - lgamma(c + 1) + lgamma(c - n + 1)) if k > n else 0.0
        low, high = (k, high) if load * (1 - refused) > k else (low, k)
    return high


def _log_refusal(k: Floats, c: float, tries: float) -> Floats:
    """log of `refusal_when` for rising k, one step apart: from the highest down by the ratio of neighbours."""
    n = min(tries, c)
    with np.errstate(divide="ignore", invalid="ignore"):
        i = np.arange(n)
        top = float(np.sum(np.log(np.maximum(k[-1] - i, 0.0)) - np.log(c - i)))
        ratios = np.log(np.maximum(k[1:] - n, 0.0)) - np.log(k[1:])
        log_f: Floats = top + np.concatenate([np.cumsum(ratios[::-1])[::-1], [0.0]])
    return np.where(k >= n, log_f, -np.inf)
