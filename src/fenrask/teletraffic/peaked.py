"""Bursty arrivals and refused connections that come again."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.errors import NoAnswer
from fenrask.teletraffic.arguments import Floats, broadcast, unusable
from fenrask.teletraffic.erlang import erlang_b

__all__ = ["Retried", "batches_b", "hayward_b", "with_retries"]


def hayward_b(ports: ArrayLike, erlangs: ArrayLike, peakedness: ArrayLike) -> Any:
    """The refused share of bursty load, by Hayward's approximation: B(ports / z, erlangs / z).

    ports: servers, at least 0; erlangs: offered load; peakedness z: variance-to-mean ratio of the
    connections that would be held were there no limit, above 0 (1: Poisson). Broadcasts. The number of
    servers is continued to real values, never rounded. Source: Fredericks, "Congestion in blocking
    systems: a simple approximation technique", Bell System Technical Journal 59 (1980).

    It is meant for load / z of at least some ten; below that it is far too low (tens of per cent, in bad
    cases tenfold), and a simulation is the better witness.

    >>> round(float(hayward_b(100, 80, 2)), 4)
    0.0187
    """
    c, load, z = broadcast(ports=ports, erlangs=erlangs, peakedness=peakedness)
    if np.any(z <= 0):
        raise unusable("peakedness", f"{z[z <= 0].flat[0]:g}", "a ratio above 0")
    return erlang_b(c / z, load / z)


def batches_b(ports: ArrayLike, erlangs: ArrayLike, peakedness: ArrayLike, overlap: float) -> Any:
    """The refused share of load that comes in batches of a geometric size, of which what finds a server is served.

    ports: servers, at least 0; erlangs: offered load; peakedness z: above 1, as for `hayward_b`; overlap: of the law
    of holds, 1/2 for exponential ones, 1 for all alike (see `variation.overlap`). For exponential holds exact: what is
    held is negative binomial, cut off at the servers, as Erlang's is Poisson (M[X]/M/c/c; Kaufman & Rege: "Blocking in
    a shared resource environment with batched Poisson arrival processes", 1996). Batches whose holds are alike leave
    together, and meet each other less: between that and Hayward's, by an exponent and a divisor (`_MEETS`) fitted to
    simulations of loads from 30 to 500 and batches of 1.6 to 8, within a tenth of shares above a thousandth.
    """
    c, load, z = broadcast(ports=ports, erlangs=erlangs, peakedness=peakedness)
    hayward = np.asarray(erlang_b(c / z, load / z))
    alike = _ALIKE * (1 - (2 * (1 - min(1.0, max(0.5, overlap)))) ** 1.5)
    shape = hayward.shape
    flat = zip(c.ravel().tolist(), load.ravel().tolist(), z.ravel().tolist(), strict=True)
    # Of very many both are one: the sum is then left to Hayward's.
    each = (np.nan if load > _MANY * z else _negative_binomial(servers, load, z) for servers, load, z in flat)
    exact = np.array([*each]).reshape(shape)
    exact = np.where(np.isnan(exact), hayward, exact)
    some = (exact > 0) & (hayward > 0)
    mixed = np.where(some, exact, 1.0) ** (1 - alike) * np.where(some, hayward, 1.0) ** alike
    mixed = mixed / (1 + np.interp(overlap, *_MEETS) * (1 - mixed))
    return np.where(some, mixed, np.where(load > 0, exact * (alike < _ALIKE / 2), 0.0))[()]


_ALIKE, _FAR, _DEVIATIONS, _MANY = 0.72, 60.0, 12.0, 500.0
_MEETS = ((0.5, 0.625, 0.75, 0.875, 0.955, 1.0), (0.0, 0.03, 0.08, 0.1, 0.075, 0.015))
"""By overlap: by which part the mixture is too high, for small shares: most where holds are nearly alike, not quite."""


def _negative_binomial(servers: float, load: float, z: float) -> float:
    """Sum of p(j) q^(c - j) for j up to c: what of a connection's batch before it leaves no server for it."""
    if load <= 0:
        return 0.0
    c, deviation = int(servers), float(np.sqrt(load * z))
    if c > load + _FAR * deviation:
        return 0.0
    size, q = load / (z - 1), 1 - 1 / z
    steps = int(min(c, max(40 * z, c - load + _DEVIATIONS * deviation, _DEVIATIONS * deviation)))
    j = c - np.arange(steps, dtype=np.float64)
    logs = np.concatenate([[0.0], np.cumsum(np.log(j) - np.log(size + j - 1) - np.log(q))])
    weights = np.exp(logs - logs.max())
    return float(np.dot(weights, q ** np.arange(steps + 1)) / weights.sum())


@dataclass(frozen=True)
class Retried:
    """Load and refusals where refused connections come again. Floats, or arrays of one shape."""

    erlangs: Any
    """Offered load, attempts that come again included."""
    blocking: Any
    """The share of all attempts refused."""


def with_retries(
    ports: ArrayLike, erlangs: ArrayLike, retry_share: ArrayLike, formula: Callable[[Floats, Floats], Any] = erlang_b
) -> Retried:
    """The fixed point of refused connections that come again: a' = a + retry_share a' B(c, a').

    ports: servers, at least 0; erlangs: fresh load a; retry_share: the share of refused attempts that is
    tried again, 0 to 1; formula: the refused share of (ports, load), rising with load. Broadcasts. The
    retries are taken as Poisson (Cohen 1957 has the limit for long delays). NoAnswer where all is tried again
    and the fresh load is not below the ports: it never ends.
    """
    c, load, share = broadcast(ports=ports, erlangs=erlangs, retry_share=retry_share)
    if np.any(share > 1):
        raise unusable("retry_share", f"{share[share > 1].flat[0]:g}", "a share from 0 to 1")
    if np.any((share == 1) & (load >= c) & (load > 0)):
        raise NoAnswer(
            "every refused connection comes again, and the load is not below the ports: attempts grow without end",
            "Add ports, or let some of the refused give up.",
        )
    low = load.copy()
    high = np.where(share < 1, load / np.maximum(1 - share, 1e-300), load + 1)
    fresh = _fresh(c, high, share, formula)
    while np.any(short := (fresh < load)):
        high = np.where(short, 2 * high, high)
        fresh = _fresh(c, high, share, formula)
    above, below = fresh - load, _fresh(c, low, share, formula) - load
    for turn in range(200):
        # The Illinois form of regula falsi, with a halving now and then: quick, and never out of its bracket.
        span = np.where(above > below, above - below, 1.0)
        part = np.where(above > below, -below / span, 0.5) if turn % 4 != 3 else np.full(low.shape, 0.5)
        middle = np.clip(low + part * (high - low), low, high)
        value = _fresh(c, middle, share, formula) - load
        enough = value >= 0
        high, low = np.where(enough, middle, high), np.where(enough, low, middle)
        below = np.where(enough, below / 2, value)
        above = np.where(enough, value, above / 2)
        # A root that is met from below leaves the upper end where it was.
        met = np.abs(value) <= 1e-15 * load
        high = np.where(met, middle, high)
        if np.all((high - low <= 1e-15 * high) | met):
            break
    return Retried(high[()], formula(c, high))


def _fresh(c: Floats, offered: Floats, share: Floats, formula: Callable[[Floats, Floats], Any]) -> Floats:
    """The fresh load that leads to so much offered load: it rises with it."""
    fresh: Floats = offered * (1 - share * formula(c, offered))
    return fresh
