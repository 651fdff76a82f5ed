"""Ports that hosts share of which each opens a maximum number of connections at once (truncated Poisson hosts)."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, check_whole
from fenrask.teletraffic.erlang import erlang_b
from fenrask.teletraffic.kept_after import HostLaw, host_law, peakedness, truncated
from fenrask.teletraffic.open_and_kept import Shared, balanced, cut_off

__all__ = ["CappedHosts", "PortsKept", "capped_hosts", "capped_hosts_b", "capped_peakedness"]

_HALVINGS = 60
_LITTLE = 1e-4
_NEAR = 0.9999
"""The tilt is near enough where its lower bound is this share of the upper."""


@dataclass(frozen=True)
class CappedHosts:
    """What becomes of the connections that hosts want, as shares; arrays of one shape.

    refused: of what the hosts open, what finds no port. held_back: of what is wanted, what a host does not open, having
    as many open as it may.
    """

    refused: Floats
    held_back: Floats


@dataclass(frozen=True)
class PortsKept:
    """How ports are kept and divided.

    after: for how long a port is kept after its connection's end, as a factor of its life. nodes: a hash sends each
    connection to one of so many, with as many ports each.
    """

    after: float = 0.0
    nodes: int = 1


def capped_hosts(
    ports: ArrayLike,
    hosts: ArrayLike,
    most: ArrayLike,
    erlangs_per_host: ArrayLike,
    kept: PortsKept = PortsKept(),
) -> CappedHosts:
    """What is refused and what is held back, where each host has `most` connections open at most.

    ports, hosts, most: whole, at least 0; erlangs_per_host: what a host would have open in the mean with no limit
    at all, at least 0. Broadcasts. Raises UnusableInput for NaN, negative, or not whole counts.

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
            pool = _Pool(int(c[place]), int(n[place]), int(m[place]), float(load[place]), kept.after)
            known[key] = _of(pool, kept.nodes)
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


@dataclass(frozen=True)
class _Pool:
    """Ports, hosts, the connections that a host may have open, those that it wants, and how long ports are kept after.

    part: of what a host opens, what comes to this pool; elsewhere: the share of the rest that is refused.
    """

    ports: int
    hosts: int
    most: int
    load: float
    after: float
    part: float = 1.0
    elsewhere: float = 0.0


def _of(pool: _Pool, nodes: int) -> tuple[float, float]:
    """Refused of what is opened, and not opened of what is wanted."""
    c, n, m, load = pool.ports, pool.hosts, pool.most, pool.load
    if not load or not n * m:
        return 0.0, 0.0
    if not c:
        return 1.0, 0.0
    if nodes == 1 and c < m:
        # No host comes to its limit. Erlang's loss asks for nothing of a hold but its mean.
        return float(erlang_b(c, n * load * (1 + pool.after))), 0.0
    pool = replace(pool, part=1 / nodes)
    found = _settled(pool)
    if nodes == 1 or found[0] < _LITTLE:
        return found
    # What other nodes refuse is not open there: the share refused that goes with itself.
    share = found[0] / 2
    for _ in range(_HALVINGS):
        found = _settled(replace(pool, elsewhere=share))
        if abs(found[0] - share) <= _LITTLE * share:
            break
        share = (share + found[0]) / 2
    return found


_MOST_WORK = 4e7


def _settled(pool: _Pool) -> tuple[float, float]:
    """The same at one node."""
    c, n, m, load, after = pool.ports, pool.hosts, pool.most, pool.load, pool.after
    tilt = _tilt(pool)
    offered, here = _offered(pool, tilt)
    held = _at_node(host_law(m, load * offered, after), here)
    refused, unable = _product(c, n, held, tilt)
    if not after or refused < _FAINT:
        return refused, unable
    open_, wanted = _at_node(host_law(m, load * offered, 0.0), here), load * pool.part
    ports, fewer, mean = c, n, _moments(held.own)[0]
    shared = _shared(replace(pool, ports=ports, hosts=fewer), open_, held)
    while shared.work > _MOST_WORK and fewer > 1:
        # How far the product form is off is seen at fewer hosts, whose ports are as many deviations from the mean.
        fewer = max(1, min(fewer - 1, int(fewer * (_MOST_WORK / shared.work) ** 0.5)))
        ports = max(1, round(fewer * mean + (c - n * mean) * (fewer / n) ** 0.5))
        shared = _shared(replace(pool, ports=ports, hosts=fewer), open_, held)
    cut = cut_off(shared, tilt)
    if shared.work > _MOST_WORK or not cut:
        return refused, unable
    share, opened = balanced(shared)
    corrected = min(refused * share / cut, 1.0)
    if fewer == n:
        # The more is refused, the less hosts' own law tells, and the nearer is the balance by itself.
        of_balance = share**0.5
        corrected = share**of_balance * corrected ** (1 - of_balance)
    return corrected, max(0.0, 1 - opened / (fewer * wanted))


def _at_node(law: HostLaw, here: float) -> HostLaw:
    """What a host holds at one node, where each of its ports is with this chance."""
    if here == 1:
        return law
    thinning = _thinning(law.own.size, here)
    return HostLaw(law.own @ thinning, law.able @ thinning)


def _product(c: int, n: int, law: HostLaw, tilt: float) -> tuple[float, float]:
    """Refused and not opened, by the product form of hosts' laws that are tilted so."""
    open_more, full = _together(n, law)
    top = min(c, open_more.size - 1)
    # The weights as they were before they were tilted, by that of all ports taken.
    back = tilt ** np.arange(top, -1, -1.0)
    opens, unable = float(np.dot(open_more[: top + 1], back)), float(np.dot(full[: top + 1], back))
    refused = float(open_more[c]) / opens if c < open_more.size - 1 and opens else 0.0
    return refused, unable / (opens + unable)


def _together(n: int, law: HostLaw) -> tuple[Floats, Floats]:
    """By ports that all hosts hold: the probability with the first host below its limit, and with it at its limit."""
    width = law.own.size - 1
    size = 1 << int(np.ceil(np.log2(n * width + 2)))
    of_one, of_able = np.fft.rfft(law.own, size), np.fft.rfft(law.able, size)
    others = of_one ** (n - 1)
    open_more = np.maximum(np.fft.irfft(of_able * others, size), 0.0)
    full = np.maximum(np.fft.irfft((of_one - of_able) * others, size), 0.0)
    return open_more[: n * width + 1], full[: n * width + 1]


_FAINT = 1e-11
"""Of the greatest, what Fourier's transform no longer tells from nothing."""


def _shared(pool: _Pool, open_: HostLaw, held: HostLaw) -> Shared:
    """The ports as numbers open and kept, of hosts' laws of both."""
    n, wanted = pool.hosts, pool.load * pool.part
    open_more, full = _together(n, open_)
    either = open_more + full
    known = either > _FAINT * np.max(either)
    opens = np.interp(np.arange(either.size), np.flatnonzero(known), n * wanted * open_more[known] / either[known])
    (mean, varied), (_, variance) = _moments(open_.own), _moments(held.own)
    return Shared(pool.ports, opens, pool.after, n * mean, max(n * varied, _FAINT), max(n * variance, _FAINT))


def _moments(weights: Floats) -> tuple[float, float]:
    k = np.arange(weights.size)
    mean = float(np.dot(weights, k))
    return mean, float(np.dot(weights, k * k)) - mean * mean


def _offered(pool: _Pool, tilt: float) -> tuple[float, float]:
    """What a host opens, as a factor of what it wants, where this part is lowered by a tilt; what of it is here."""
    offered = pool.part * tilt + (1 - pool.part) * (1 - pool.elsewhere)
    return offered, pool.part * tilt / offered


def _thinning(size: int, part: float) -> Floats:
    """By ports that a host holds in all (rows), how many of them are at a node: shape (size, size)."""
    found = np.zeros((size, size))
    found[0, 0] = 1.0
    for held in range(1, size):
        found[held] = found[held - 1] * (1 - part)
        found[held, 1:] += found[held - 1, :-1] * part
    return found


def _tilt(pool: _Pool) -> float:
    """By how much the load is to be lowered so that hosts hold no more than the ports in the mean; 1 for nothing.

    What is kept goes with what is open, so that where many are refused, the ports are divided between both as a
    connection's time is.
    """
    c, k = pool.ports, np.arange(pool.most + 1)

    def held(tilt: float) -> float:
        offered, here = _offered(pool, tilt)
        open_ = float(np.dot(truncated(pool.most, pool.load * offered), k))
        return pool.hosts * here * (1 + pool.after) * open_

    if held(1.0) <= c:
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        low, high = (middle, high) if held(middle) <= c else (low, middle)
        if low > _NEAR * high:
            break
    return max(low, 1e-300)
