"""Ports that hosts share of which each opens a maximum number of connections at once (truncated Poisson hosts)."""

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole

__all__ = ["capped_hosts_b", "held_back", "is_summable"]

_MOST_STATES = 2**21
_HALVINGS = 60


def capped_hosts_b(ports: ArrayLike, hosts: ArrayLike, most: ArrayLike, erlangs_per_host: ArrayLike) -> Any:
    """The share of the connections that hosts open which find no port, where each host has `most` open at most.

    ports, hosts, most: whole, at least 0; erlangs_per_host: what a host would hold in the mean with no limit
    at all, at least 0. Broadcasts; returns floats of the broadcast shape. Raises UnusableInput for NaN, negative, or
    not whole counts.

    Hosts want connections as independent Poisson streams and open one while they have fewer than `most`; a port is
    free when its connection ends. The numbers of the hosts then have the product form of truncated Poisson laws, cut
    off where the ports are all taken, whatever the law of the holding times (Kelly 1979); it is summed by convolution
    (Buzen 1973), by Fourier's transform, with the weights tilted toward the ports. Absolute error below 1e-12.

    One host with fewer ports than it may open is Erlang's loss:

    >>> round(float(capped_hosts_b(2, 1, 5, 1.0)), 6)
    0.2
    """
    return _each(ports, hosts, most, erlangs_per_host)[0]


def held_back(ports: ArrayLike, hosts: ArrayLike, most: ArrayLike, erlangs_per_host: ArrayLike) -> Any:
    """The share of the connections wanted that hosts do not open, having `most` open; arguments as above."""
    return _each(ports, hosts, most, erlangs_per_host)[1]


def _each(ports: ArrayLike, hosts: ArrayLike, most: ArrayLike, erlangs_per_host: ArrayLike) -> tuple[Any, Any]:
    c, n, m, load = broadcast(ports=ports, hosts=hosts, most=most, erlangs_per_host=erlangs_per_host)
    for name, values in (("ports", c), ("hosts", n), ("most", m)):
        check_whole(name, values)
    refused, back = np.zeros(c.shape), np.zeros(c.shape)
    known: dict[tuple[float, ...], tuple[float, float]] = {}
    for place in np.ndindex(c.shape):
        key = tuple(float(each[place]) for each in (c, n, m, load))
        if key not in known:
            known[key] = _one(int(c[place]), int(n[place]), int(m[place]), float(load[place]))
        refused[place], back[place] = known[key]
    return refused[()], back[()]


def is_summable(hosts: float, most: float) -> bool:
    """Whether there are few enough states to be summed."""
    return hosts * most <= _MOST_STATES


def _one(c: int, n: int, m: int, load: float) -> tuple[float, float]:
    """Refused of what is opened, and not opened of what is wanted."""
    if not load or not n * m:
        return 0.0, 0.0
    if not c:
        return 1.0, 0.0
    tilt = _tilt(c, n, m, load)
    own = _truncated(m, load * tilt)
    size = 1 << int(np.ceil(np.log2(n * m + 2)))
    others = np.maximum(np.fft.irfft(np.fft.rfft(own, size) ** (n - 1), size), 0.0)
    open_more = np.maximum(np.fft.irfft(np.fft.rfft(own[:m], size) * np.fft.rfft(others, size), size), 0.0)
    full = np.maximum(
        np.fft.irfft(np.fft.rfft(np.eye(1, m + 1, m)[0] * own, size) * np.fft.rfft(others, size), size), 0
    )
    top = min(c, n * m)
    # The weights as they were before they were tilted, by that of all ports taken.
    back = tilt ** np.arange(top, -1, -1.0)
    able, unable = float(np.dot(open_more[: top + 1], back)), float(np.dot(full[: top + 1], back))
    refused = float(open_more[c]) / able if c < n * m and able else 0.0
    return refused, unable / (able + unable)


def _truncated(m: int, load: float) -> Floats:
    """A host's number of connections: Poisson, no more than m."""
    k = np.arange(m + 1.0)
    logs = k * np.log(load) - np.concatenate([[0.0], np.cumsum(np.log(k[1:]))])
    weights = np.exp(logs - np.max(logs))
    found: Floats = weights / np.sum(weights)
    return found


def _tilt(c: int, n: int, m: int, load: float) -> float:
    """By how much the load is to be lowered so that hosts hold no more than the ports in the mean; 1 for nothing."""

    def mean(tilt: float) -> float:
        return n * float(np.dot(_truncated(m, load * tilt), np.arange(m + 1.0)))

    if mean(1.0) <= c:
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        low, high = (middle, high) if mean(middle) <= c else (low, middle)
    return max(low, 1e-300)
