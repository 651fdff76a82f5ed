"""Ports that hosts share of which each opens a maximum number of connections at once (truncated Poisson hosts)."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole
from fenrask.teletraffic.kept_after import HostLaw, host_law, peakedness

__all__ = ["CappedHosts", "capped_hosts", "capped_hosts_b", "capped_peakedness"]

_HALVINGS = 60
_LITTLE = 1e-4
_NEAR = 0.95
"""The tilt is near enough where its lower bound is this share of the upper: it only keeps numbers in range."""


@dataclass(frozen=True)
class CappedHosts:
    """What becomes of the connections that hosts want, as shares; arrays of one shape.

    refused: of what the hosts open, what finds no port. held_back: of what is wanted, what a host does not open, having
    as many open as it may.
    """

    refused: Floats
    held_back: Floats


def capped_hosts(
    ports: ArrayLike,
    hosts: ArrayLike,
    most: ArrayLike,
    erlangs_per_host: ArrayLike,
    after: float = 0.0,
    nodes: int = 1,
) -> CappedHosts:
    """What is refused and what is held back, where each host has `most` connections open at most.

    ports, hosts, most: whole, at least 0; erlangs_per_host: what a host would have open in the mean with no limit
    at all, at least 0. Broadcasts. Raises UnusableInput for NaN, negative, or not whole counts. after: for how long a
    port is kept after its connection's end, as a factor of its life. nodes: a hash sends each connection to one of so
    many, with these ports each.

    Hosts want connections as independent Poisson streams and open one while they have fewer than `most`; a port is
    free when its connection ends. The numbers of the hosts then have the product form of truncated Poisson laws, cut
    off where the ports are all taken, whatever the law of the holding times (Kelly 1979); it is summed by convolution
    (Buzen 1973), by Fourier's transform, with the weights tilted toward the ports. Absolute error below 1e-12.

    Where ports are kept after, or are divided over nodes, the same is summed of what a host then holds, or holds of a
    node (`kept_after.host_law`), as if that had a product form: near, as docs/model.md says.
    """
    c, n, m, load = broadcast(ports=ports, hosts=hosts, most=most, erlangs_per_host=erlangs_per_host)
    for name, values in (("ports", c), ("hosts", n), ("most", m)):
        check_whole(name, values)
    refused, back = np.zeros(c.shape), np.zeros(c.shape)
    known: dict[tuple[float, ...], tuple[float, float]] = {}
    for place in np.ndindex(c.shape):
        key = tuple(float(each[place]) for each in (c, n, m, load))
        if key not in known:
            known[key] = _one(int(c[place]), int(n[place]), int(m[place]), float(load[place]), after, nodes)
        refused[place], back[place] = known[key]
    return CappedHosts(refused, back)


def capped_hosts_b(ports: ArrayLike, hosts: ArrayLike, most: ArrayLike, erlangs_per_host: ArrayLike) -> Any:
    """The share of the connections that hosts open which find no port: see `capped_hosts`.

    One host with fewer ports than it may open is Erlang's loss:

    >>> round(float(capped_hosts_b(2, 1, 5, 1.0)), 6)
    0.2
    """
    return capped_hosts(ports, hosts, most, erlangs_per_host).refused[()]


def capped_peakedness(most: int, erlangs_per_host: ArrayLike, after: float = 0.0) -> Any:
    """The variance over the mean of the ports that such hosts hold, where no port is refused; arguments as above."""
    loads = np.asarray(erlangs_per_host, dtype=np.float64)
    found = [peakedness(host_law(most, load, after)) if load else 1.0 for load in loads.ravel().tolist()]
    return np.reshape(found, loads.shape)[()]


def _one(c: int, n: int, m: int, load: float, after: float, nodes: int) -> tuple[float, float]:
    """Refused of what is opened, and not opened of what is wanted."""
    if not load or not n * m:
        return 0.0, 0.0
    if not c:
        return 1.0, 0.0
    found = _settled(c, n, m, load, after, 1 / nodes, 0.0)
    if nodes == 1 or found[0] < _LITTLE:
        return found
    # What other nodes refuse is not open there: the share refused that goes with itself.
    share = found[0] / 2
    for _ in range(_HALVINGS):
        found = _settled(c, n, m, load, after, 1 / nodes, share)
        if abs(found[0] - share) <= _LITTLE * share:
            break
        share = (share + found[0]) / 2
    return found


_ROUNDS = 6


def _settled(c: int, n: int, m: int, load: float, after: float, part: float, elsewhere: float) -> tuple[float, float]:
    """The same at one node, which gets this part; a share of what goes elsewhere is refused."""
    offered = part + (1 - part) * (1 - elsewhere)
    back: float | None = None
    for _ in range(_ROUNDS if after else 1):
        before = back
        refused, unable, back = _summed(c, n, host_law(m, load * offered, after, before), part / offered)
        if before is not None and abs(back - before) <= _LITTLE * back:
            break
    return refused, unable


def _summed(c: int, n: int, law: HostLaw, part: float) -> tuple[float, float, float]:
    """Refused, not opened, and not opened while there are ports: n hosts of a law, this part of whose ports is here."""
    thinning = _thinning(law.size, part) if part < 1 else None
    tilt = _tilt(c, n, law, thinning)
    own, able = _tilted(law, tilt, thinning)
    width = own.size - 1
    size = 1 << int(np.ceil(np.log2(n * width + 2)))
    of_one, of_able = np.fft.rfft(own, size), np.fft.rfft(able, size)
    others = of_one ** (n - 1)
    open_more = np.maximum(np.fft.irfft(of_able * others, size), 0.0)
    full = np.maximum(np.fft.irfft((of_one - of_able) * others, size), 0.0)
    top = min(c, n * width)
    # The weights as they were before they were tilted, by that of all ports taken.
    back = tilt ** np.arange(top, -1, -1.0)
    opens, unable = float(np.dot(open_more[: top + 1], back)), float(np.dot(full[: top + 1], back))
    refused = float(open_more[c]) / opens if c < n * width and opens else 0.0
    below = slice(0, min(c, top + 1))
    free = float(np.dot(open_more[below] + full[below], back[below]))
    alone = float(np.dot(full[below], back[below])) / free if free else 0.0
    return refused, unable / (opens + unable), alone


def _thinning(size: int, part: float) -> Floats:
    """By ports that a host holds in all (rows), how many of them are at a node: shape (size, size)."""
    found = np.zeros((size, size))
    found[0, 0] = 1.0
    for held in range(1, size):
        found[held] = found[held - 1] * (1 - part)
        found[held, 1:] += found[held - 1, :-1] * part
    return found


def _tilted(law: HostLaw, tilt: float, thinning: Floats | None) -> tuple[Floats, Floats]:
    """The weights of a host's numbers of ports, and with fewer open than it may have, times tilt to the number."""
    if thinning is None:
        return law.weights(tilt)
    own, able = (weights @ thinning for weights in law.weights())
    powers = tilt ** np.arange(own.size)
    whole = float(np.dot(own, powers))
    return own * powers / whole, able * powers / whole


def _tilt(c: int, n: int, law: HostLaw, thinning: Floats | None) -> float:
    """By how much the load is to be lowered so that hosts hold no more than the ports in the mean; 1 for nothing."""

    here = None if thinning is None else law.weights()[0] @ thinning

    def mean(tilt: float) -> float:
        if here is None:
            return n * law.mean(tilt)
        weights = here * tilt ** np.arange(here.size)
        return n * float(np.dot(weights, np.arange(here.size))) / float(np.sum(weights))

    if mean(1.0) <= c:
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        low, high = (middle, high) if mean(middle) <= c else (low, middle)
        if low > _NEAR * high:
            break
    return max(low, 1e-300)
