"""From the load on an exit to the streams that compete for its ports."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from fenrask.capacity.assignments import Stream, View
from fenrask.demand import Demand, Load, Part, Series

__all__ = ["Pool", "hosts_of", "pools", "streams"]

Key = TypeVar("Key")


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

    @property
    def load(self) -> Load:
        return Load.of(self.parts, self.weights)


def streams(demand: Demand, exit_name: str, view: View, parts: Sequence[Part] | None = None) -> tuple[Stream, ...]:
    """The streams on an exit, of some of its parts or of all: by destination address, in all, or by host."""
    return tuple(_stream(demand, pool) for pool in pools(demand, exit_name, view, parts))


def pools(demand: Demand, exit_name: str, view: View, parts: Sequence[Part] | None = None) -> Iterator[Pool]:
    """The same without what the flows say of their traffic."""
    some = demand.at_exit.get(exit_name, ()) if parts is None else parts
    return _VIEWS[view](demand, some)


def _tuples(demand: Demand, parts: Sequence[Part]) -> Iterator[Pool]:
    """Toward each destination address, port and protocol; addresses with equal shares of the load are one.

    Destinations with the same prefixes, port and protocol are one, whatever they are called.
    """
    destinations = demand.paths.described.estate.destinations
    for its_parts in _grouped(
        parts, lambda part: destinations[part.destination].tuple_key or part.destination
    ).values():
        names = list(dict.fromkeys(part.destination for part in its_parts))
        destination = destinations[names[0]]
        port = "" if destination.port is None else f":{destination.port}"
        label = f"{' and '.join(names)}{port}/{destination.protocol}"
        reach = np.array([float(part.path.reach) for part in its_parts])
        rates = np.array([part.rate_per_s for part in its_parts])
        by_share = destination.address_shares
        if len(names) > 1:
            # Which addresses two destinations share is not known: the busiest of each may be the same.
            top = {name: max(destinations[name].address_shares) for name in names}
            each = np.minimum(1.0, np.array([top[part.destination] for part in its_parts]) / reach)
            yield Pool(label, destination.protocol, its_parts, each, 1.0, max(top.values()))
            continue
        for share, number in by_share.items():
            each = np.minimum(1.0, share / reach)
            reached = float(np.dot(rates, each))
            copies = number * float(np.sum(rates)) * share / reached if reached else float(number)
            own = label if len(by_share) == 1 else f"{label} (an address with {share:.3g} of it)"
            yield Pool(own, destination.protocol, its_parts, each, copies, share)


def _whole(demand: Demand, parts: Sequence[Part]) -> Iterator[Pool]:
    """All of a transport protocol."""
    for protocol, its_parts in _grouped(parts, lambda part: _protocol(demand, part)).items():
        yield Pool(f"all {protocol} connections", protocol, its_parts, np.ones(len(its_parts)))


def _hosts(demand: Demand, parts: Sequence[Part]) -> Iterator[Pool]:
    """One host of each workload in each subnet, for each transport protocol."""
    groups = _grouped(parts, lambda part: (*_host_group(demand, part), _protocol(demand, part)))
    for (workload, subnet, protocol), its_parts in groups.items():
        each = np.array([hosts_of(demand, part) for part in its_parts])
        hosts = float(np.max(each))
        if hosts:
            # Where some flows come from a part of the hosts alone, these have the most: they stand for all.
            weights = 1 / each
            yield Pool(f"{workload} in {subnet}", protocol, its_parts, weights, hosts)


_VIEWS: dict[View, Callable[[Demand, Sequence[Part]], Iterator[Pool]]] = {
    "tuples": _tuples,
    "whole": _whole,
    "hosts": _hosts,
}


def _grouped(parts: Sequence[Part], key: Callable[[Part], Key]) -> dict[Key, list[Part]]:
    found: dict[Key, list[Part]] = {}
    for part in parts:
        found.setdefault(key(part), []).append(part)
    return found


def _protocol(demand: Demand, part: Part) -> str:
    return demand.paths.described.estate.destinations[part.destination].protocol


def _host_group(demand: Demand, part: Part) -> tuple[str, str]:
    return demand.paths.described.estate.flows[part.flow].from_, part.subnet


def hosts_of(demand: Demand, part: Part) -> float:
    """The hosts that a part comes from: those of its subnet, or some of them."""
    estate = demand.paths.described.estate
    workload = estate.flows[part.flow].from_
    share = estate.host_shares(workload)[part.subnet] * part.path.own.hosts
    return float(estate.workloads[workload].hosts * share)


def _stream(demand: Demand, pool: Pool) -> Stream:
    """A pool with what the flows behind it say of their traffic."""
    estate, parts = demand.paths.described.estate, pool.parts
    flows = [estate.flows[part.flow] for part in parts]
    concurrent = [part.mean_concurrent * float(weight) for part, weight in zip(parts, pool.weights, strict=True)]
    total = sum(concurrent)
    burstiness, retried = 1.0, 0.0
    if total and any(flow.burstiness != 1.0 or flow.retry_share for flow in flows):
        burstiness = sum(flow.burstiness * load for flow, load in zip(flows, concurrent, strict=True)) / total
        retried = sum(flow.retry_share * load for flow, load in zip(flows, concurrent, strict=True)) / total
    tied = any(estate.has_needs(flow) and estate.needs_of(flow).one_source_per_host for flow in flows)
    return Stream(
        label=pool.label,
        protocol=pool.protocol,
        load=pool.load,
        copies=pool.copies,
        hosts=_alike_hosts(demand, parts, concurrent) if tied or _hashes(demand, parts[0].exit) else 1.0,
        # A random part of a bursty stream is less bursty.
        peakedness=1 + pool.share * (burstiness - 1),
        sources=_sources(demand, parts, pool.weights),
        retry_share=retried,
        tied=tied,
        profile=flows[concurrent.index(max(concurrent))].profile or "",
    )


def _hashes(demand: Demand, exit_name: str) -> bool:
    """Whether an exit's offer sends hosts, not connections, to one of several places."""
    offer = demand.paths.described.offer_of(exit_name)
    return offer is not None and offer.ports is not None and offer.ports.hashes_hosts


def _alike_hosts(demand: Demand, parts: Sequence[Part], concurrent: Sequence[float]) -> float:
    """So many hosts, all alike, are as uneven as those that are there: (sum)^2 / sum of squares."""
    loads: dict[tuple[str, str], float] = {}
    hosts: dict[tuple[str, str], float] = {}
    for part, load in zip(parts, concurrent, strict=True):
        group = _host_group(demand, part)
        loads[group] = loads.get(group, 0.0) + load
        hosts[group] = max(hosts.get(group, 1.0), hosts_of(demand, part))
    squares = sum(load**2 / hosts[group] for group, load in loads.items())
    return sum(loads.values()) ** 2 / squares if squares else 1.0


def _sources(demand: Demand, parts: Sequence[Part], weights: Series) -> float | None:
    """Connections that the hosts open at most; None where any flow's hosts have no limit of their own."""
    estate = demand.paths.described.estate
    total = 0.0
    for part, weight in zip(parts, weights, strict=True):
        flow = estate.flows[part.flow]
        if flow.max_per_host is None:
            return None
        total += float(part.path.share) * estate.workloads[flow.from_].hosts * flow.max_per_host * weight
    return total
