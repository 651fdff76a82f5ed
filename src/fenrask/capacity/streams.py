"""From the load on an exit to the streams that compete for its ports."""

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import numpy as np

from fenrask.capacity.assignments import Stream, View
from fenrask.demand import Demand, Load, Part, Series

__all__ = ["streams"]

Key = TypeVar("Key")


def streams(demand: Demand, exit_name: str, view: View, parts: Sequence[Part] | None = None) -> tuple[Stream, ...]:
    """The streams on an exit, of some of its parts or of all: by destination address, in all, or by host."""
    some = demand.at_exit.get(exit_name, ()) if parts is None else parts
    return tuple(_VIEWS[view](demand, some)) if some else ()


def _tuples(demand: Demand, parts: Sequence[Part]) -> Iterator[Stream]:
    """Toward each destination address, port and protocol; addresses with like shares of the load are one."""
    for name, its_parts in _grouped(parts, lambda part: part.destination).items():
        destination = demand.ways.described.estate.destinations[name]
        port = "" if destination.port is None else f":{destination.port}"
        label = f"{name}{port}/{destination.protocol}"
        reach = np.array([float(part.way.reach) for part in its_parts])
        rates = np.array([part.rate_per_s for part in its_parts])
        by_share = Counter(destination.address_shares)
        for share, number in by_share.items():
            each = share / reach
            reached = float(np.dot(rates, each))
            copies = number * float(np.sum(rates)) * share / reached if reached else float(number)
            own = label if len(by_share) == 1 else f"{label} (an address with {share:.3g} of it)"
            yield _stream(demand, own, destination.protocol, its_parts, each, copies, share)


def _whole(demand: Demand, parts: Sequence[Part]) -> Iterator[Stream]:
    """All of a transport protocol."""
    for protocol, its_parts in _grouped(parts, lambda part: _protocol(demand, part)).items():
        yield _stream(demand, f"all {protocol} connections", protocol, its_parts, np.ones(len(its_parts)), 1.0, 1.0)


def _hosts(demand: Demand, parts: Sequence[Part]) -> Iterator[Stream]:
    """One host of each workload in each subnet, for each transport protocol."""
    groups = _grouped(parts, lambda part: (*_host_group(demand, part), _protocol(demand, part)))
    for (workload, subnet, protocol), its_parts in groups.items():
        hosts = _hosts_in_a_subnet(demand, workload)
        if hosts:
            weights = np.full(len(its_parts), 1 / hosts)
            yield _stream(demand, f"{workload} in {subnet}", protocol, its_parts, weights, hosts, 1.0)


_VIEWS: dict[View, Callable[[Demand, Sequence[Part]], Iterator[Stream]]] = {
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
    return demand.ways.described.estate.destinations[part.destination].protocol


def _host_group(demand: Demand, part: Part) -> tuple[str, str]:
    return demand.ways.described.estate.flows[part.flow].from_, part.subnet


def _hosts_in_a_subnet(demand: Demand, workload: str) -> float:
    stated = demand.ways.described.estate.workloads[workload]
    return stated.hosts / len(stated.subnets)


def _stream(
    demand: Demand,
    label: str,
    protocol: str,
    parts: Sequence[Part],
    weights: Series,
    copies: float,
    share: float,
) -> Stream:
    """A stream with what the flows behind it say of its traffic; `share` is how thin it is drawn from them."""
    estate = demand.ways.described.estate
    flows = [estate.flows[part.flow] for part in parts]
    held = np.array([part.mean_held for part in parts]) * weights
    total = float(np.sum(held))
    burstiness = np.array([flow.burstiness for flow in flows])
    peakedness = 1.0
    if total and np.any(burstiness != 1.0):
        # A random part of a bursty stream is less bursty.
        peakedness = 1 + share * (float(np.dot(burstiness, held)) / total - 1)
    retry = np.array([flow.retry_share for flow in flows])
    largest = int(np.argmax(held))
    return Stream(
        label,
        protocol,
        Load.of(parts, weights),
        copies,
        _alike_hosts(demand, parts, held),
        peakedness,
        _sources(demand, parts, weights),
        float(np.dot(retry, held)) / total if total and np.any(retry) else 0.0,
        any(estate.has_needs(flow) and estate.needs_of(flow).one_source_per_host for flow in flows),
        flows[largest].rhythm or "",
    )


def _alike_hosts(demand: Demand, parts: Sequence[Part], held: Series) -> float:
    """So many hosts, all alike, are as uneven as those that are there: (sum)^2 / sum of squares."""
    by_group: dict[tuple[str, str], float] = {}
    for part, load in zip(parts, held, strict=True):
        group = _host_group(demand, part)
        by_group[group] = by_group.get(group, 0.0) + float(load)
    squares = sum(load**2 / max(1.0, _hosts_in_a_subnet(demand, group[0])) for group, load in by_group.items())
    return sum(by_group.values()) ** 2 / squares if squares else 1.0


def _sources(demand: Demand, parts: Sequence[Part], weights: Series) -> float | None:
    """Connections that the hosts open at most; None where any flow's hosts have no limit of their own."""
    estate = demand.ways.described.estate
    total = 0.0
    for part, weight in zip(parts, weights, strict=True):
        flow = estate.flows[part.flow]
        if flow.most_per_host is None:
            return None
        total += float(part.way.share) * estate.workloads[flow.from_].hosts * flow.most_per_host * weight
    return total
