"""What the plan says of packets that come from outside: to hosts, to what exits publish, to a service's public name.

Who may send is the internet, a third party at the end of a line, another network of the estate, or any address, which
belongs to one of these.
"""

from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

from fenrask.estate import LAST_PORT, Described, Estate, Onward
from fenrask.estate.remotes import INTERNET
from fenrask.prefixes import Address, Block, is_public, parse_address
from fenrask.routing import Openings, Trace, Tracer, Verdict, flow_paths

__all__ = ["Attempt", "Outcome", "attempts", "holds", "host_of", "origin_of", "outcomes", "target_of"]

UNUSED_PORT = 9
"""A port that nothing of a plan names: of the discard service (RFC 863)."""


class Attempt(NamedTuple):
    """An attempt to open a connection from outside; to a workload, a service, or an address of an exit.

    origin: as flows state it. host: the sender's address, if known. target: the address that it is sent to, if known.
    """

    origin: str
    to: str
    port: int
    protocol: str = "tcp"
    host: Address | None = None
    target: Address | None = None


@dataclass(frozen=True)
class Outcome:
    """Whether an attempt gets there, and as what: of all packets, or of some of them.

    part: of which addresses it is told, in words; empty for all.
    """

    attempt: Attempt
    arrives: bool
    why: str
    source: str = ""
    part: str = ""
    traces: tuple[Trace, ...] = ()
    is_needed: bool = True
    """Whether a flow of the plan is this, so that it must arrive; else it can."""
    could: bool = False
    """Where it does not arrive: whether a route of the other end's own would let it (see `Opening.is_told`)."""


def origin_of(estate: Estate, stated: str) -> tuple[str, Address | None] | None:
    """Who an observation's sender is outside: `-` and `internet`, a third party, a network; or who has an address.

    None for one of the estate's own subnets, or what is not known.
    """
    if stated in ("-", INTERNET):
        return INTERNET, None
    if stated in _parties(estate) or stated in estate.networks:
        return stated, None
    try:
        address = parse_address(stated)
    except ValueError:
        return None
    if estate.subnets_at(address):
        return None
    for name, exit_ in estate.exits.items():
        if exit_.party and any(address in prefix for prefix in exit_.announced if prefix.prefixlen):
            return exit_.party or name, address
    return (INTERNET, address) if is_public(address) else None


def _parties(estate: Estate) -> dict[str, None]:
    """The third parties at the ends of lines."""
    return dict.fromkeys(exit_.party for exit_ in estate.exits.values() if exit_.party)


def target_of(estate: Estate, stated: str, origin: str, host: Address | None, port: int | None) -> list[Attempt]:
    """What an attempt from outside is to: a workload, a destination, or an address of one of these or of an exit."""
    if stated in estate.workloads:
        ports = [(port, "tcp")] if port is not None else _ports_of(estate, stated)
        return [Attempt(origin, stated, number, protocol, host) for number, protocol in ports]
    if stated in estate.destinations and estate.destinations[stated].service:
        destination = estate.destinations[stated]
        return [Attempt(origin, stated, port or destination.port or 443, destination.protocol, host)]
    if stated in _endpoints(estate):
        return [Attempt(origin, stated, port or _port_of(estate, stated), "tcp", host)]
    try:
        address = parse_address(stated)
    except ValueError:
        return []
    for name, exit_ in estate.exits.items():
        for entry in exit_.published.values():
            at = entry.address or next(iter(exit_.listed_addresses), None)
            if address == at and port in (None, entry.port):
                return [Attempt(origin, entry.to, entry.host_port, entry.protocol, host, address)]
        if address in exit_.every_listed:
            return [Attempt(origin, name, port or UNUSED_PORT, "tcp", host, address)]
    there = estate.subnets_at(address)
    owners = [name for name, one in estate.workloads.items() if {*one.subnets} & {*there}]
    return [Attempt(origin, name, port or UNUSED_PORT, "tcp", host, address) for name in owners]


def _endpoints(estate: Estate) -> list[str]:
    """The private endpoints that are entered at an address in a subnet."""
    return [name for name, one in estate.exits.items() if one.onward is Onward.SERVICE and one.in_subnets]


def _port_of(estate: Estate, endpoint: str) -> int:
    carried = estate.exits[endpoint].carries or ()
    return next((port for name in carried if (port := estate.destinations[name].port) is not None), 443)


def _ports_of(estate: Estate, workload: str) -> list[tuple[int, str]]:
    """The ports of a workload's hosts that flows come in to, or exits forward to."""
    flows = [(flow.port, flow.transport) for flow in estate.inward_flows.values() if flow.to == workload]
    forwarded = [
        (one.host_port, one.protocol)
        for exit_ in estate.exits.values()
        for one in exit_.published.values()
        if one.to == workload
    ]
    found = [(port, protocol) for port, protocol in (*flows, *forwarded) if port is not None]
    return list(dict.fromkeys(found)) or [(UNUSED_PORT, "tcp")]


def attempts(described: Described) -> Iterator[Attempt]:
    """Attempts from everybody outside, to every port that the plan names, and to one that it does not."""
    estate = described.estate
    for workload in estate.workloads:
        ports = [*dict.fromkeys((*_ports_of(estate, workload), *_filtered_ports(estate, workload)))]
        ports += [(UNUSED_PORT, "tcp")] if (UNUSED_PORT, "tcp") not in ports else []
        reached = estate.workloads[workload].public_address or any(
            one.to == workload for exit_ in estate.exits.values() for one in exit_.published.values()
        )
        for origin in (*([INTERNET] if reached else []), *_parties(estate)):
            yield from (Attempt(origin, workload, port, protocol) for port, protocol in ports)
    for name in _endpoints(estate):
        yield from (Attempt(origin, name, _port_of(estate, name)) for origin in _parties(estate))
    for name, exit_ in estate.exits.items():
        if exit_.listed_addresses and not exit_.published:
            yield Attempt(INTERNET, name, 443, "tcp", None, exit_.listed_addresses[0])
    for name, destination in estate.destinations.items():
        if destination.service and destination.is_guarded:
            yield Attempt(INTERNET, name, destination.port or 443, destination.protocol)


def _filtered_ports(estate: Estate, workload: str) -> Iterator[tuple[int, str]]:
    """The first port of each rule for what enters a workload's hosts, or their subnets, and the first one after it."""
    subnets = (estate.subnets[one].filters for one in estate.workloads[workload].subnets)
    for filters in (estate.workloads[workload].filters, *subnets):
        for filter_ in filters.values():
            for _, rule in filter_.toward("in").rules:
                for low, high in rule.ports:
                    yield from ((port, rule.protocol or "tcp") for port in (low, high + 1) if port <= LAST_PORT)


def outcomes(described: Described, asked: Iterable[Attempt]) -> dict[Attempt, list[Outcome]]:
    """What becomes of each attempt; for each class of addresses that behaves differently, one.

    To hosts they are flows of an estate that has them beside its own, so that one tracer judges all.
    """
    every, known = list(dict.fromkeys(asked)), Openings(Tracer(described))
    endpoints = _endpoints(described.estate)
    hosts = [one for one in every if one.to in (*described.estate.workloads, *endpoints)]
    wanted = list(dict.fromkeys(one._replace(host=None, target=None) for one in hosts))
    names = {one: f"attempt {number}" for number, one in enumerate(wanted)}
    stand_ins = {name: f"endpoint {name}" for name in endpoints}
    traced: dict[Attempt, list[Trace]] = {one: [] for one in wanted}
    if names:
        flows = {
            name: {
                "from": one.origin,
                "to": stand_ins.get(one.to, one.to),
                "port": one.port,
                "protocol": one.protocol,
                "per_host_per_s": 1,
            }
            for one, name in names.items()
        }
        asked_of = dict.fromkeys(one.to for one in wanted if one.to in stand_ins)
        patch: dict[str, Any] = {
            "flows": flows,
            "workloads": {stand_ins[name]: _as_workload(described, name) for name in asked_of},
        }
        paths = flow_paths(described.patched(patch, "attempts"), [*names.values()])
        of = {name: one for one, name in names.items()}
        for path in paths.inward:
            traced[of[path.flow]].append(path.trace)
    found: dict[Attempt, list[Outcome]] = {}
    untold = {
        (way.origin, way.subnet, way.workload)
        for way in (known.of_all() if hosts else ())
        if way.is_open and not way.is_told
    }
    needed = {(flow.from_, flow.to, flow.port, flow.transport) for flow in described.estate.inward_flows.values()}
    for attempt in every:
        if attempt.to in described.estate.workloads:
            is_needed = (attempt.origin, attempt.to, attempt.port, attempt.protocol) in needed
            some = _to_hosts(attempt, traced[attempt._replace(host=None, target=None)])
            found[attempt] = [
                replace(outcome, is_needed=is_needed, could=not outcome.arrives and _is_untold(outcome, untold))
                for outcome in some
            ]
        elif attempt.to in described.estate.destinations:
            found[attempt] = [_to_service(described.estate, attempt)]
        elif attempt.to in endpoints:
            found[attempt] = [
                *_to_endpoint(described, known, attempt, traced[attempt._replace(host=None, target=None)])
            ]
        else:
            found[attempt] = [Outcome(attempt, False, f"{attempt.to} forwards nothing to hosts")]
    return found


def _to_hosts(attempt: Attempt, traces: Sequence[Trace]) -> Iterator[Outcome]:
    """By class of senders and hosts; of those alone that the attempt's own addresses belong to."""
    own = [trace for trace in traces if holds(trace.portion.sources, attempt.host) and _at(trace, attempt.target)]
    classes: dict[Any, list[Trace]] = {}
    for trace in own:
        arrives = trace.verdict.arrives
        key = (arrives, "" if arrives else trace.verdict, trace.portion.sources, trace.portion.targets)
        classes.setdefault(key, []).append(trace)
    same: dict[tuple[bool, str, str], list[Trace]] = {}
    for (arrives, *_), some in classes.items():
        why = "" if arrives else f"{some[0].verdict.value}: {some[0].why}"
        same.setdefault((arrives, why, some[0].subnet), []).extend(some)
    for (arrives, why, _), some in same.items():
        portion = some[0].portion
        part = "" if len(same) == 1 or portion.is_all else some[0].part
        host = (
            portion.sources[0].address
            if portion.sources and portion.hosts != 1 and attempt.host is None
            else attempt.host
        )
        target = attempt.target or (host_of(portion.targets[0]) if portion.targets and len(same) > 1 else None)
        source = str(some[0].source) if arrives else ""
        yield Outcome(attempt._replace(host=host, target=target), arrives, why, source, part, tuple(some))


def host_of(block: Block) -> Address:
    """An address that answers: not the first of a range, which may be its network's."""
    return block.address + 1 if block.size > 2 else block.address


def holds(blocks: Sequence[Block], address: Address | None) -> bool:
    """Whether some blocks hold an address; any does where it, or they, are not known."""
    return address is None or not blocks or any(
        one.version == address.version and one.first <= int(address) <= one.last for one in blocks
    )  # fmt: skip


def _at(trace: Trace, target: Address | None) -> bool:
    """Whether a packet to an address is one of these: to a host's own, or to the address that an exit publishes."""
    if target is None:
        return True
    published = trace.inward is not None and bool(trace.inward.published_at)
    return is_public(target) == published or holds(trace.portion.targets, target) and not published


def _is_untold(outcome: Outcome, untold: Container[tuple[str, str, str]]) -> bool:
    """Whether only the lack of a route at the other end keeps it out."""
    asked = outcome.attempt
    return any(
        trace.verdict is Verdict.NO_ROUTE and (asked.origin, trace.subnet, asked.to) in untold
        for trace in outcome.traces
    )


def _as_workload(described: Described, endpoint: str) -> dict[str, Any]:
    """An endpoint in subnets as what it is to who asks it: something at an address there, behind filters of its own."""
    estate, stated = described.estate, described.data["exits"][endpoint]
    subnets = estate.exits[endpoint].in_subnets
    return {
        "subnets": [*subnets],
        "hosts": len(subnets),
        "hosts_in": [*map(str, estate.entries_of(estate.exits[endpoint]))],
        "filters": stated.get("filters") or {},
    }


def _to_endpoint(described: Described, known: Openings, attempt: Attempt, traces: Sequence[Trace]) -> Iterator[Outcome]:
    """A private endpoint, at its address in a subnet: as any host there, there and back; and by its policy."""
    exit_ = described.estate.exits[attempt.to]
    if attempt.origin == INTERNET:
        yield Outcome(attempt, False, f"{attempt.to} has a private address alone")
    elif exit_.lets_in is not None:
        yield Outcome(attempt, False, f"the policy of {attempt.to} does not list {attempt.origin}", is_needed=False)
    else:
        ways = [way for subnet in exit_.in_subnets for way in known.to(subnet) if way.origin == attempt.origin]
        untold = any(way.is_open and not way.is_told for way in ways)
        for outcome in _to_hosts(attempt, traces):
            could = not outcome.arrives and untold
            yield replace(outcome, why=outcome.why.replace("workload endpoint ", ""), is_needed=False, could=could)


def _to_service(estate: Estate, attempt: Attempt) -> Outcome:
    """A service of the provider, asked by its public name or address: by what it takes over the internet."""
    stated = estate.destinations[attempt.to]
    if stated.public_access == "listed":
        listed = attempt.host is not None and any(attempt.host in prefix for prefix in stated.allowed)
        return Outcome(attempt, listed, "" if listed else f"{attempt.to} takes what its list allows")
    is_open = stated.public_access == "open" and stated.only_through is None
    return Outcome(attempt, is_open, "" if is_open else f"{attempt.to} takes nothing over the internet")
