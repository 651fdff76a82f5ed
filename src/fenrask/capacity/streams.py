"""From the load on an exit to the streams that compete for its ports."""

from collections.abc import Callable, Hashable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenrask.capacity.assignments import Stream, View
from fenrask.demand import Demand, Load, Numbers, Part, Parts, Series, loads_by, starts
from fenrask.teletraffic.variation import held_cv, overlap

__all__ = ["Pool", "host_groups", "host_label", "hosts_behind", "parts_toward", "pools", "streams"]


@dataclass(frozen=True)
class Pool:
    """Parts that compete for the same ports, with the weight of each in one of `copies` pools that are alike."""

    label: str
    protocol: str
    parts: Sequence[Part]
    weights: Series
    copies: float = 1.0
    share: float = 1.0
    """How thin it is drawn from the flows behind it."""
    key: Hashable = None
    """What tells it from others of an exit, whichever of its flows are looked at."""

    @property
    def load(self) -> Load:
        return Load.of(self.parts, self.weights)


def parts_toward(demand: Demand, exit_name: str, toward: str = "") -> Sequence[Part]:
    """The parts on an exit that take the addresses of one destination alone, or (empty) those of all others."""
    parts, own = demand.at_exit.get(exit_name, ()), demand.paths.described.estate.exits[exit_name].own_addresses
    if not own or not parts:
        return parts
    some = Parts.of(parts)
    names = demand.laid.traffic.destinations
    numbers = [number for number, name in enumerate(names) if name in (own if not toward else (toward,))]
    rows = some.rows[np.isin(some.destination, numbers, invert=not toward)]
    return Parts(some.laid, rows) if rows.size else ()


def streams(
    demand: Demand, exit_name: str, view: View, parts: Sequence[Part] | None = None, toward: str = ""
) -> tuple[Stream, ...]:
    """The streams on an exit, of some of its parts or of all: by destination address, in all, or by host.

    All: those of the addresses that one destination alone sees, or (empty) of those that the others see.
    """
    some = list(pools(demand, exit_name, view, parts, toward))
    return tuple(_streams(some, _hashes(demand, exit_name), view == "tuples")) if some else ()


def pools(
    demand: Demand, exit_name: str, view: View, parts: Sequence[Part] | None = None, toward: str = ""
) -> Iterator[Pool]:
    """The same without what the flows say of their traffic."""
    some = parts_toward(demand, exit_name, toward) if parts is None else parts
    # Connections that come in are forwarded from a port that is published: they take none of those that are given out.
    outward = Parts.of(some).outward if some else ()
    return _VIEWS[view](demand, outward) if outward else iter(())


def _tuples(demand: Demand, parts: Parts) -> Iterator[Pool]:
    """Toward each destination address, port and protocol; addresses with equal shares of the load are one.

    Destinations with the same prefixes, port and protocol are one, whatever they are called.
    """
    destinations, traffic = demand.paths.described.estate.remotes, parts.laid.traffic
    for reached, its_parts in parts.by(traffic.reached[parts.destination]):
        numbers = list(dict.fromkeys(its_parts.destination.tolist()))
        names = [traffic.destinations[number] for number in numbers]
        destination = destinations[names[0]]
        port = "" if destination.port is None else f":{destination.port}"
        label = f"{' and '.join(names)}{port}/{destination.protocol}"
        reach, rates = parts.laid.reach[its_parts.rows], its_parts.rate_per_s
        by_share = destination.address_shares
        if len(names) > 1:
            # Which addresses two destinations share is not known: the busiest of each may be the same.
            top = {number: max(destinations[name].address_shares) for number, name in zip(numbers, names, strict=True)}
            each = np.minimum(1.0, np.array([top[number] for number in its_parts.destination.tolist()]) / reach)
            yield Pool(label, destination.protocol, its_parts, each, 1.0, max(top.values()), key=(reached, 0))
            continue
        for place, (share, addresses) in enumerate(by_share.items()):
            each = np.minimum(1.0, share / reach)
            held = float(np.dot(rates, each))
            copies = addresses * float(np.sum(rates)) * share / held if held else float(addresses)
            own = label if len(by_share) == 1 else f"{label} (an address with {share:.3g} of it)"
            yield Pool(own, destination.protocol, its_parts, each, copies, share, (reached, place))


def _whole(demand: Demand, parts: Parts) -> Iterator[Pool]:
    """All of a transport protocol."""
    protocols, numbers = parts.laid.traffic.protocols
    for number, its_parts in parts.by(numbers[parts.destination]):
        protocol = protocols[number]
        yield Pool(f"all {protocol} connections", protocol, its_parts, np.ones(len(its_parts)), key=protocol)


def _hosts(demand: Demand, parts: Parts) -> Iterator[Pool]:
    """One host of each workload in each subnet, for each transport protocol."""
    laid = parts.laid
    protocols, numbers = laid.traffic.protocols
    keys = host_groups(parts) * len(protocols) + numbers[parts.destination]
    for _, its_parts in parts.by(keys):
        each = laid.hosts[its_parts.rows]
        hosts = float(np.max(each))
        if hosts:
            first = its_parts[0]
            workload = laid.traffic.workloads[int(laid.traffic.workload[its_parts.flow[0]])]
            protocol = demand.paths.described.estate.remotes[first.destination].protocol
            # Where some flows come from a part of the hosts alone, these have the most: they stand for all.
            label = host_label(workload, first.subnet)
            yield Pool(label, protocol, its_parts, 1 / each, hosts, key=(label, protocol))


def host_label(workload: str, subnet: str) -> str:
    """What the hosts of a workload in a subnet are called, whose streams are those of one of them."""
    return f"{workload} in {subnet}"


_VIEWS: dict[View, Callable[[Demand, Parts], Iterator[Pool]]] = {
    "tuples": _tuples,
    "whole": _whole,
    "hosts": _hosts,
}


def host_groups(parts: Parts) -> Numbers:
    """A number for the workload and the subnet of each part."""
    laid = parts.laid
    groups: Numbers = laid.traffic.workload[parts.flow] * len(laid.subnets) + laid.subnet[parts.rows]
    return groups


def hosts_behind(parts: Parts) -> float:
    """The hosts of all workloads and subnets that parts come from: each counted once."""
    if not len(parts):
        return 0.0
    _, back = np.unique(host_groups(parts), return_inverse=True)
    most = np.zeros(int(back.max()) + 1)
    np.maximum.at(most, back, parts.laid.hosts[parts.rows])
    return float(most.sum())


def _streams(some: Sequence[Pool], hashes: bool, by_destination: bool) -> Iterator[Stream]:
    """Pools with what the flows behind them say of their traffic, at least one; all are summed in one pass."""
    each, weights = [Parts.of(pool.parts) for pool in some], np.concatenate([pool.weights for pool in some])
    parts = Parts(each[0].laid, np.concatenate([own.rows for own in each]))
    ends = np.cumsum([len(own) for own in each])
    group = np.repeat(np.arange(len(some)), [len(own) for own in each])
    laid, traffic, flows = parts.laid, parts.laid.traffic, parts.flow
    concurrent = laid.mean_concurrent[parts.rows] * weights

    def summed(values: Series) -> Series:
        return np.bincount(group, weights=values, minlength=len(some)).astype(np.float64)

    total = summed(concurrent)
    whole = np.where(total > 0, total, 1.0)
    none, ones = np.zeros(len(some)), np.ones(len(some))
    bursts, overlaps = _bursty(parts)
    bursty = np.where(total > 0, summed(bursts * concurrent) / whole, 1.0)
    in_batches = np.maximum(summed(np.where(overlaps > 0, bursts - 1, 0.0) * concurrent), 1e-300)
    shared = summed(overlaps * (bursts - 1) * concurrent) / in_batches if np.any(overlaps) else none
    varied = _of_what_moves(parts, concurrent, weights, summed) if traffic.is_varied else np.stack([none, none])
    retried = summed(traffic.retry_share[flows] * concurrent) / whole if traffic.is_retried else none
    again = np.round(summed(traffic.retries[flows] * concurrent) / whole) if np.any(traffic.retries) else none
    jobs = _jobs(some, parts, concurrent, weights, summed) if traffic.is_synchronised else None
    tied = summed(traffic.one_source[flows].astype(np.float64)) > 0 if traffic.is_tied else none > 0
    open_at_most = traffic.max_open[flows] * laid.share[parts.rows] * weights if traffic.is_capped else None
    sources = np.full(len(some), np.inf) if open_at_most is None else summed(open_at_most)
    shares, most = _open_at_once(parts, concurrent, summed) if open_at_most is not None else (ones, ones)
    owns = by_destination and np.any(traffic.ephemeral[0])
    host_ports = _own_ports(some, parts, concurrent, weights, summed) if owns else None
    top = np.lexsort((-concurrent, group))[ends - [len(own) for own in each]]
    profiles = traffic.profile[flows[top]].tolist()
    loads = loads_by(parts, group, len(some), weights)
    for number, pool in enumerate(some):
        own = slice(int(ends[number]) - len(each[number]), int(ends[number]))
        by_host = bool(tied[number]) or hashes
        yield Stream(
            label=pool.label,
            protocol=pool.protocol,
            load=loads[number],
            copies=pool.copies,
            hosts=_alike_hosts(each[number], concurrent[own]) if by_host else 1.0,
            # A random part of a bursty stream is less bursty.
            peakedness=1 + pool.share * (float((bursty if traffic.is_bursty else ones)[number]) - 1),
            overlap=float(shared[number]),
            level_cv=float(varied[0, number]),
            fast_cv=float(varied[1, number]),
            jobs=(0.0, 0.0, 0.0) if jobs is None else tuple(jobs[:, number].tolist()),
            sources=float(sources[number]) if np.isfinite(sources[number]) else None,
            own_ports=(0.0, 0.0)
            if host_ports is None
            else (float(host_ports[0, number]), float(host_ports[1, number])),
            open_share=float(shares[number]),
            open_at_most=float(most[number]),
            retry_share=float(retried[number]),
            retries=int(again[number]),
            tied=bool(tied[number]),
            profile=traffic.profiles[profiles[number]],
        )


def _jobs(
    some: Sequence[Pool], parts: Parts, concurrent: Series, weights: Series, summed: Callable[[Series], Series]
) -> Series:
    """What `Stream.jobs` says, by pool, shape (3, n_pools). Which address a connection goes to is chance."""
    moving = concurrent - parts.persistent * weights
    traffic, flows = parts.laid.traffic, parts.flow
    mine = np.where(traffic.every_s[flows] > 0, moving * traffic.job_share[flows], 0.0)
    total, synchronised = np.maximum(summed(moving), 1e-300), summed(mine)
    whole = np.where(synchronised > 0, synchronised, 1.0)
    certain = np.array([pool.share for pool in some])
    each = [(summed(mine * one.last), summed(mine * one.earlier)) for one in starts(parts.laid, parts.rows)]
    # Of all moments at which jobs start, for each pool that in which it holds most.
    most = np.argmax([last + earlier for last, earlier in each], axis=0)
    last, earlier = (
        np.array([each[moment][place][pool] for pool, moment in enumerate(most.tolist())]) for place in (0, 1)
    )
    held = last / whole
    return np.stack([synchronised / total, held * certain, earlier / whole + held * (1 - certain)])


def _own_ports(
    some: Sequence[Pool], parts: Parts, concurrent: Series, weights: Series, summed: Callable[[Series], Series]
) -> Series:
    """What `Stream.own_ports` says, by pool, shape (2, n_pools): of TCP, where every flow of a pool has a limit."""
    traffic, curves = parts.laid.traffic, parts.laid.curves
    ports, waits = (column[parts.flow] for column in traffic.ephemeral)
    moving = concurrent - parts.persistent * weights
    connected = np.array([one.connected for one in curves.families])[curves.family]
    means = np.where(curves.mean_profile > 0, curves.mean_concurrent / np.maximum(curves.mean_profile, 1e-300), 1.0)
    here = (connected * (curves.duration_s))[parts.curve] + connected[parts.curve] * waits
    total = np.maximum(summed(moving), 1e-300)
    each = summed(moving * here / np.maximum(means[parts.curve], 1e-300)) / total
    hosts = np.array([hosts_behind(Parts.of(pool.parts)) for pool in some])
    is_tcp = np.array([pool.protocol == "tcp" for pool in some])
    limited = (summed((ports == 0) & (moving > 0)) == 0) & is_tcp & (summed(moving) > 0)
    number = np.where(limited, summed(ports * moving) / total, 0.0)
    return np.stack([number, each / np.maximum(hosts, 1.0)])


def _open_at_once(parts: Parts, concurrent: Series, summed: Callable[[Series], Series]) -> tuple[Series, Series]:
    """By pool: the part of what is held that is open connections, and how many one host has of these at most."""
    traffic, curves, flows = parts.laid.traffic, parts.laid.curves, parts.flow
    families = np.array([one.connected for one in curves.families])[curves.family]
    lives = (families * curves.duration_s)[parts.curve]
    holds = np.where(curves.mean_profile > 0, curves.mean_concurrent / np.maximum(curves.mean_profile, 1e-300), 0.0)
    share = np.where(traffic.is_standing[flows], 1.0, lives / np.maximum(holds[parts.curve], 1e-300))
    total = np.maximum(summed(concurrent), 1e-300)
    hosts = summed(traffic.hosts[flows] * parts.laid.share[parts.rows])
    allowed = summed(np.minimum(traffic.max_open[flows], 1e300) * parts.laid.share[parts.rows])
    of_a_host = np.divide(allowed, hosts, out=np.full_like(allowed, np.inf), where=hosts > 0)
    return np.minimum(1.0, summed(share * concurrent) / total), of_a_host


def _bursty(parts: Parts) -> tuple[Series, Series]:
    """Variance to mean of what each part holds: stated, and that of batches by the law of holds.

    Second, what the connections of a batch share of their holds; 0 for no batches.
    """
    traffic, flows = parts.laid.traffic, parts.flow
    found, batch = traffic.burstiness[flows].copy(), traffic.batch[flows]
    rows, shared = np.flatnonzero((batch > 1) & ~traffic.is_standing[flows]), np.zeros(flows.size)
    shared[rows] = _by_law(parts, rows, [], overlap)
    found[rows] += 2 * (batch[rows] - 1) * shared[rows]
    return found, shared


def _by_law(parts: Parts, rows: Numbers, others: Sequence[Series], of: Callable[..., Any]) -> Series:
    """What follows from a law of holds and other figures, once for all rows that have the same; shape (n_rows, ...)."""
    if not rows.size:
        return np.zeros(0)
    keys, back = np.unique(np.stack([parts.curve[rows], *others]), axis=1, return_inverse=True)
    curves = parts.laid.curves
    each = [of(curves.curve(int(curve)).law, *figures) for curve, *figures in keys.T.tolist()]
    return np.array(each)[back.ravel()]


def _of_what_moves(parts: Parts, concurrent: Series, weights: Series, summed: Callable[[Series], Series]) -> Series:
    """The slow and the fast variation of each pool, of what is not always open; as in `_streams`, (2, n_pools)."""
    moving = concurrent - parts.persistent * weights
    total = summed(moving)
    return np.stack([summed(one * moving) / np.where(total > 0, total, 1.0) for one in _varied(parts)])


def _varied(parts: Parts) -> Series:
    """The slow and the fast variation of what each part holds in the mean, about its profile, shape (2, n_parts).

    That of its rate, smoothed by its holds. Those of a pool are added up as if they rose and fell together: what they
    have in common is not known.
    """
    traffic, flows = parts.laid.traffic, parts.flow
    stated = np.where(traffic.is_standing[flows], 0.0, traffic.rate_cv[flows])
    rows, found = np.flatnonzero(stated), np.zeros((2, flows.size))
    if rows.size:
        found[:, rows] = _by_law(parts, rows, [stated[rows], traffic.rate_steady_s[flows[rows]]], held_cv).T
    return found


def _hashes(demand: Demand, exit_name: str) -> bool:
    """Whether an exit's offer sends hosts, not connections, to one of several places."""
    offer = demand.paths.described.offer_of(exit_name)
    return offer is not None and offer.ports is not None and offer.ports.hashes_hosts


def _alike_hosts(parts: Parts, concurrent: Series) -> float:
    """So many hosts, all alike, are as uneven as those that are there: (sum)^2 / sum of squares."""
    numbers, back = np.unique(host_groups(parts), return_inverse=True)
    loads = np.bincount(back, weights=concurrent, minlength=numbers.size)
    hosts = np.ones(numbers.size)
    np.maximum.at(hosts, back, parts.laid.hosts[parts.rows])
    squares = float(np.sum(loads**2 / hosts))
    return float(loads.sum()) ** 2 / squares if squares else 1.0
