"""Who could open connections inward: over a private line, from a joined network, or from the internet."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from fenrask.estate import ANY_PORT, Estate, ExitModel, Filtered, Passing
from fenrask.prefixes import Address, Prefix, covers, parse_prefix
from fenrask.routing.packets import Packet
from fenrask.routing.tables import LOCAL, Routes
from fenrask.routing.tracing import Tracer

__all__ = ["INTERNET", "Opening", "openings"]

INTERNET = "the internet"
_EVERYWHERE = (parse_prefix("0.0.0.0/0"),)
_MOST_STEPS = 16


@dataclass(frozen=True)
class Opening:
    """Whether someone outside reaches the hosts of a subnet with a first packet, and what lets it in or stops it."""

    origin: str
    """Who: a third party, a network, or the internet."""
    through: str
    """The exit by which it enters."""
    subnet: str
    workload: str
    """Whose hosts; empty for a subnet without a workload."""
    is_open: bool
    why: str


def openings(tracer: Tracer, subnets: Iterable[str] | None = None) -> list[Opening]:
    """Every way in to subnets (default: those with workloads), whether it is open or where it is stopped."""
    estate = tracer.estate
    wanted = list(subnets) if subnets is not None else _with_hosts(estate)
    found = []
    for subnet in wanted:
        for origin, through, sources, names, stopped in _ways_in(tracer, subnet):
            for workload in [name for name, one in estate.workloads.items() if subnet in one.subnets] or [""]:
                if through in _public_exits(estate, subnet) and not _is_public(estate, subnet, workload):
                    continue
                is_open, why = (False, stopped) if stopped else _filtered(estate, subnet, workload, sources, names)
                found.append(Opening(origin, through, subnet, workload, is_open, why))
    return found


def _with_hosts(estate: Estate) -> list[str]:
    return list(dict.fromkeys(subnet for one in estate.workloads.values() for subnet in one.subnets))


WayIn = tuple[str, str, tuple[Prefix, ...], tuple[str, ...], str]
"""Who, the exit, their prefixes, the destinations that name them, and what stops them on the way; empty: nothing."""


def _ways_in(tracer: Tracer, subnet: str) -> Iterator[WayIn]:
    estate = tracer.estate
    network = estate.subnets[subnet].network
    for name, exit_ in estate.exits.items():
        if exit_.known_beyond is not None and not exit_.fault:
            stopped = _from_line(tracer.routes, name, exit_, subnet)
            if stopped is not None:
                yield exit_.party or name, name, exit_.announced, _named(estate, exit_.announced), stopped
    yield from _from_networks(tracer, subnet, network)
    for name in _public_exits(estate, subnet):
        yield INTERNET, name, _EVERYWHERE, (), ""


def _named(estate: Estate, prefixes: tuple[Prefix, ...]) -> tuple[str, ...]:
    """The destinations that lie in what a third party announces."""
    return tuple(
        name
        for name, one in estate.destinations.items()
        if one.prefixes and all(any(covers(outer, inner) for outer in prefixes) for inner in one.prefixes)
    )


def _from_line(routes: Routes, name: str, line: ExitModel, subnet: str) -> str | None:
    """What stops a packet from a line on its way to a subnet; empty: nothing; None where it has no route at all."""
    estate, prefix = routes.estate, routes.estate.subnets[subnet].prefix
    if not any(covers(one, prefix) or covers(prefix, one) for one in line.known_beyond or ()):
        return None
    place = line.attached_to or ""
    table = routes.of(place) if place else routes.of_exit(name) or routes.of_network(line.of_network or "")
    target: Address = prefix[0]
    for _ in range(_MOST_STEPS):
        matching = table.match(target)
        if not matching:
            return None
        exit_ = estate.exits.get(matching[0].exit)
        if matching[0].exit == LOCAL:
            return ""
        if exit_ is None or exit_.fault:
            return f"{matching[0].exit} does not carry it"
        decision = exit_.decides(Passing(target, None, (), None, "tcp"))
        if decision is not None and not decision.allowed:
            return f"{matching[0].exit} denies it by {decision.rule}"
        if exit_.joins and not exit_.joins_many:
            # Joined networks take packets of a third party only where the peering forwards others' sources.
            return "" if exit_.takes_forwarded else f"{matching[0].exit} takes only packets of its own networks"
        if not exit_.is_machine and not exit_.joins_many:
            return f"{matching[0].exit} lets nothing in"
        place = matching[0].exit if exit_.joins_many else exit_.in_subnets[0]
        table = routes.of(place)
    return "it runs in circles"


def _from_networks(tracer: Tracer, subnet: str, network: str) -> Iterator[WayIn]:
    """From the networks joined with a subnet's own: one sender stands for all with its table."""
    estate = tracer.estate
    target = estate.subnets[subnet].prefix[0]
    seen: set[tuple[str, str | None]] = set()
    for sender in _with_hosts(estate):
        other = estate.subnets[sender].network
        key = (other, estate.table_of(sender))
        if other == network or key in seen or estate.subnets[sender].prefix.version != target.version:
            continue
        seen.add(key)
        for trace, _ in tracer.traces(sender, Packet(target)):
            if trace.verdict.arrives and trace.exits:
                yield other, trace.exits[-1], estate.networks[other].prefixes, (), ""


def _public_exits(estate: Estate, subnet: str) -> list[str]:
    name = estate.internet_exit_of(subnet)
    return [name] if name else []


def _is_public(estate: Estate, subnet: str, workload: str) -> bool:
    return bool(workload) and estate.workloads[workload].public_address


def _filtered(
    estate: Estate, subnet: str, workload: str, sources: tuple[Prefix, ...], names: tuple[str, ...]
) -> tuple[bool, str]:
    """Whether the filters of a subnet and of hosts in it let any first packet in, and by which rule."""
    target = (estate.subnets[subnet].prefix,)
    owners = [("subnet", subnet, estate.subnets[subnet].filters)]
    if workload:
        owners.append(("workload", workload, estate.workloads[workload].filters))
    by = []
    for section, owner, filters in owners:
        for name, one in filters.items():
            asked = [
                Filtered(sources, target, remote, ANY_PORT, protocol)
                for remote in (*names, None)
                for protocol in ("tcp", "udp")
            ]
            verdicts = [one.lets_some_pass(packet, inward=True) for packet in asked]
            allowed = next((rule for passes, rule in verdicts if passes), None)
            if allowed is None:
                return False, f"filter {name} of {section} {owner} denies it"
            by.append(f"{name} of {owner} allows it by {allowed or 'default'}")
    return True, "; ".join(by) or "no filter"
