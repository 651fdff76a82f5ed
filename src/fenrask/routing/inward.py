"""Who could open connections inward: over a private line, from a joined network, or from the internet."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import product

from fenrask.estate import ANY_PORT, Estate, ExitModel, Filtered, Passing, PortSpan
from fenrask.prefixes import Address, Block, Prefix, covers, parse_prefix
from fenrask.routing.packets import Packet
from fenrask.routing.tables import LOCAL
from fenrask.routing.tracing import Tracer

__all__ = ["INTERNET", "Opening", "openings"]

INTERNET = "the internet"
_EVERYWHERE = (parse_prefix("0.0.0.0/0"),)
_MOST_STEPS = 16


@dataclass(frozen=True)
class Opening:
    """Whether someone outside reaches the hosts of a subnet with a first packet, and what lets it in or stops it.

    That they can says nothing of whether they do: these are the flows that come in (`Flow.port`).
    """

    origin: str
    """Who: a third party, a network, or the internet."""
    through: str
    """The exit by which it enters."""
    subnet: str
    workload: str
    """Whose hosts; empty for a subnet without a workload."""
    is_open: bool
    why: str
    is_told: bool = False
    """Whether routes to it are given to who sends: then they lead here by themselves. Else a route of theirs must."""


@dataclass(frozen=True)
class _WayIn:
    """How someone may get to a subnet."""

    origin: str
    through: str
    sources: tuple[Prefix, ...]
    """Their prefixes."""
    names: tuple[str, ...] = ()
    """The destinations that name them."""
    stopped: str = ""
    """What stops them on the way; empty: nothing."""
    how: str = ""
    """What lets them get there, where it is not plain."""
    is_told: bool = True
    """Whether they have the route from us."""
    workload: str = ""
    """The only workload that they get to, and at which port; empty: any."""
    ports: PortSpan = ANY_PORT
    protocols: tuple[str, ...] = ("tcp", "udp")


def openings(tracer: Tracer, subnets: Iterable[str] | None = None) -> list[Opening]:
    """Every way in to subnets (default: those with workloads), whether it is open or where it is stopped."""
    estate = tracer.estate
    wanted = list(subnets) if subnets is not None else _with_hosts(estate)
    found = []
    for subnet in wanted:
        for way in _ways_in(tracer, subnet):
            for workload in [name for name, one in estate.workloads.items() if subnet in one.subnets] or [""]:
                only_public = way.origin == INTERNET and not way.workload
                if (only_public and not _is_public(estate, subnet, workload)) or way.workload not in ("", workload):
                    continue
                is_open, why = (False, way.stopped) if way.stopped else _filtered(estate, subnet, workload, way)
                why = "; ".join(filter(None, (way.how if is_open else "", why)))
                found.append(Opening(way.origin, way.through, subnet, workload, is_open, why, is_open and way.is_told))
    return [*dict.fromkeys(found)]


def _with_hosts(estate: Estate) -> list[str]:
    return list(dict.fromkeys(subnet for one in estate.workloads.values() for subnet in one.subnets))


def _ways_in(tracer: Tracer, subnet: str) -> Iterator[_WayIn]:
    estate = tracer.estate
    network = estate.subnets[subnet].network
    for name, exit_ in estate.exits.items():
        if exit_.known_beyond is not None and not exit_.fault:
            stopped = _from_line(tracer, name, exit_, subnet)
            for ports in _open_ports(exit_) if stopped is not None else ():
                named = _named(estate, exit_.announced)
                told = _is_advertised(estate, exit_, subnet)
                how = "" if told else _BY_STATIC_ROUTE
                shut = "" if ports else f"{name} lets in replies only"
                if not told and exit_.reached_by_announcement:
                    shut = f"{name} does not announce it, and they route by announcements alone"
                yield _WayIn(
                    exit_.party or name, name, exit_.announced, named, stopped or shut, how, told,
                    ports=ports or ANY_PORT,
                )  # fmt: skip
    yield from _from_networks(tracer, subnet, network)
    yield from _published(estate, subnet)
    for name in _public_exits(estate, subnet):
        yield _WayIn(INTERNET, name, _EVERYWHERE)


def _open_ports(line: ExitModel) -> list[PortSpan | None]:
    """The ports to which a line lets connections in, each by itself where they are listed; None for none."""
    listed = line.lets_in_ports
    if listed is None:
        return [ANY_PORT]
    return [(port, port) for port in listed] or [None]


_BY_STATIC_ROUTE = "not advertised: a static route of theirs suffices"


def _is_advertised(estate: Estate, line: ExitModel, subnet: str) -> bool:
    prefix = estate.subnets[subnet].prefix
    return any(covers(one, prefix) or covers(prefix, one) for one in line.known_beyond or ())


def _published(estate: Estate, subnet: str) -> Iterator[_WayIn]:
    """By ports that exits publish at public addresses."""
    for name, exit_ in estate.exits.items():
        if exit_.fault or exit_.pool is not None:
            continue
        for one in exit_.published.values():
            if subnet in estate.workloads[one.to].subnets:
                how = f"{name} publishes port {one.port}"
                at = (one.host_port, one.host_port)
                yield _WayIn(INTERNET, name, _EVERYWHERE, how=how, workload=one.to, ports=at, protocols=(one.protocol,))


def _named(estate: Estate, prefixes: tuple[Prefix, ...]) -> tuple[str, ...]:
    """The destinations that lie in what a third party announces."""
    return tuple(
        name
        for name, one in estate.destinations.items()
        if one.prefixes and all(any(covers(outer, inner) for outer in prefixes) for inner in one.prefixes)
    )


def _from_line(tracer: Tracer, name: str, line: ExitModel, subnet: str) -> str | None:
    """What stops packets from a line on their way to a subnet; empty: nothing, for some host; None: no route to any.

    Whether the third party is told of the prefix makes no difference: it may write a route of its own.
    """
    blocks = [Block.of(prefix) for prefix in tracer.estate.subnets[subnet].prefixes]
    targets = [piece.blocks[0].address for piece in tracer.classes.destinations.pieces(blocks)]
    each = [_to_host(tracer, name, line, target) for target in targets]
    return "" if "" in each else next(filter(None, each), None)


def _to_host(tracer: Tracer, name: str, line: ExitModel, target: Address) -> str | None:
    """The same toward one of the hosts."""
    routes, estate = tracer.routes, tracer.estate
    place = line.attached_to or ""
    table = routes.of(place) if place else routes.of_exit(name) or routes.of_network(line.of_network or "")
    for _ in range(_MOST_STEPS):
        matching = table.match(target)
        if not matching:
            return None
        exit_ = estate.exits.get(matching[0].exit)
        if matching[0].exit == LOCAL:
            return ""
        if exit_ is None or exit_.fault:
            return f"{matching[0].exit} does not carry it"
        if rule := _denying(tracer, exit_, line, target):
            return f"{matching[0].exit} denies it by {rule}"
        if exit_.joins and not exit_.joins_many:
            # Joined networks take packets of a third party only where the peering forwards others' sources.
            return "" if exit_.takes_forwarded else f"{matching[0].exit} takes only packets of its own networks"
        if not exit_.is_machine and not exit_.joins_many:
            return f"{matching[0].exit} lets nothing in"
        place = matching[0].exit if exit_.joins_many else exit_.in_subnets[0]
        table = routes.of(place)
    return "it runs in circles"


def _denying(tracer: Tracer, exit_: ExitModel, line: ExitModel, target: Address) -> str:
    """The rule by which an exit denies all that comes from a line to a host; empty where any of it passes.

    All senders, ports and protocols that rules tell apart are looked at.
    """
    blocks = Block.joined(Block.of(one) for one in line.announced if one.version == target.version)
    senders: list[Address | None] = [piece.blocks[0].address for piece in tracer.classes.sources.pieces(blocks)]
    ports = dict.fromkeys((None, *(port for rule in exit_.rules_in_order for port in rule.ports)))
    named, denied = tracer.estate.named_addresses.at(target), ""
    for sender, port, protocol in product(senders or [None], ports, ("tcp", "udp")):
        decision = exit_.decides(Passing(target, None, (), port, protocol, sender, named))
        if decision is None or decision.allowed:
            return ""
        denied = denied or decision.rule
    return denied


def _from_networks(tracer: Tracer, subnet: str, network: str) -> Iterator[_WayIn]:
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
                yield _WayIn(other, trace.exits[-1], estate.networks[other].prefixes)


def _public_exits(estate: Estate, subnet: str) -> list[str]:
    """The exits by which public addresses of hosts in a subnet are reached."""
    network = estate.subnets[subnet].network
    return [name for name, one in estate.exits.items() if one.takes_public_sources and one.of_network == network]


def _is_public(estate: Estate, subnet: str, workload: str) -> bool:
    return bool(workload) and estate.workloads[workload].public_address


def _filtered(estate: Estate, subnet: str, workload: str, way: _WayIn) -> tuple[bool, str]:
    """Whether the filters of a subnet and of hosts in it let any first packet in, and by which rule."""
    target = (estate.subnets[subnet].prefix,)
    owners = [("subnet", subnet, estate.subnets[subnet].filters)]
    if workload:
        owners.append(("workload", workload, estate.workloads[workload].filters))
    by = []
    for section, owner, filters in owners:
        for name, one in filters.items():
            asked = [Filtered(way.sources, target, frozenset(), way.ports, protocol) for protocol in way.protocols]
            meant = estate.named_addresses.prefixes_of
            verdicts = [one.lets_some_pass(packet, inward=True, meant=meant) for packet in asked]
            allowed = next((rule for passes, rule in verdicts if passes), None)
            if allowed is None:
                return False, f"filter {name} of {section} {owner} denies it"
            by.append(f"{name} of {owner} allows it by {allowed or 'default'}")
    return True, "; ".join(by) or "no filter"
