"""Who could open connections inward: over a private line, from another network, or from the internet.

First packets are followed by the engine of the flows that come in (`routing.arriving`): from each class of senders to
each class of hosts, at each port and protocol that a rule, filter or line of the estate tells apart.
"""

from collections.abc import Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from fenrask.estate import ANY_PORT, Filtered
from fenrask.estate.remotes import Remote
from fenrask.prefixes import Block, Piece, Prefix, parse_prefix
from fenrask.routing.arriving import Arriving, Asked, Way
from fenrask.routing.packets import Packet, Protocol, Trace, Transport, Verdict
from fenrask.routing.tracing import Tracer
from fenrask.routing.ways_in import WayIn, WaysIn

__all__ = ["INTERNET", "Opening", "Openings"]

INTERNET = "the internet"
_ANYWHERE = (parse_prefix("0.0.0.0/0"), parse_prefix("::/0"))
_NO_WAY = (Verdict.NO_ROUTE, Verdict.NO_HOST, Verdict.PRIVATE_DESTINATION)
"""Verdicts on packets without a route to hosts: nothing has to stop them."""


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

    @property
    def _key(self) -> tuple[str, str, str, str]:
        return (self.origin, self.through, self.subnet, self.workload)


class Openings:
    """Every way in to hosts of one estate, and whether any packet gets in by it: asks the engine for first packets."""

    def __init__(self, tracer: Tracer) -> None:
        self.tracer, self.estate = tracer, tracer.estate
        self.arriving = Arriving(tracer)
        self.ways = WaysIn(self.arriving)
        self._known: dict[Hashable, list[tuple[Way, Piece, Hashable]]] = {}
        self._to: dict[str, list[Opening]] = {}

    def of_all(self) -> list[Opening]:
        """Those to all subnets with workloads."""
        places = dict.fromkeys(subnet for one in self.estate.workloads.values() for subnet in one.subnets)
        return [one for subnet in places for one in self.to(subnet)]

    def to(self, subnet: str) -> list[Opening]:
        """Those to a subnet. Senders without a route to the hosts are not counted."""
        if subnet not in self._to:
            found: dict[tuple[str, str, str, str], Opening] = {}
            for workload in [name for name, one in self.estate.workloads.items() if subnet in one.subnets] or [""]:
                for opening in self._openings(subnet, workload):
                    known = found.get(opening._key)
                    if known is None or (opening.is_open, opening.is_told) > (known.is_open, known.is_told):
                        found[opening._key] = opening
            self._to[subnet] = [*found.values()]
        return self._to[subnet]

    def _openings(self, subnet: str, workload: str) -> Iterator[Opening]:
        """The ways in to a workload's hosts in a subnet."""
        for way_in in self.ways.to(subnet, workload):
            stopped = way_in.stopped or self._filtered(subnet, workload, way_in)
            open_, closed = self._found(subnet, workload, way_in, stopped)
            for through, trace in open_.items():
                why = "; ".join(filter(None, (way_in.how, self._let_in(trace, workload))))
                yield Opening(str(way_in.end), through, subnet, workload, True, why, way_in.is_told)
            # What is stopped on its way has not entered yet: one such packet speaks for a network that is kept out.
            for through, why in [*closed.items()][:1] if not open_ else ():
                yield Opening(str(way_in.end), through, subnet, workload, False, why)

    def _found(
        self, subnet: str, workload: str, way_in: WayIn, stopped: str
    ) -> tuple[dict[str, Trace], dict[str, str]]:
        """By the exit that they enter by: a first packet that gets in; and why some other does not.

        stopped: why none does, where that is known: only a route to the hosts is looked for then.
        """
        open_: dict[str, Trace] = {}
        closed: dict[str, str] = {}
        for traces in self._traces(subnet, workload, way_in, stopped):
            for trace in traces:
                through = way_in.through or _through(trace)
                if trace.verdict.gets_there and not stopped:
                    open_.setdefault(through, trace)
                elif _is_led_here(trace, way_in):
                    closed.setdefault(through, stopped or trace.why)
            is_known = bool(closed) if stopped else bool(way_in.through and open_)
            if is_known:
                break
        return open_, closed

    def _traces(self, subnet: str, workload: str, way_in: WayIn, stopped: str) -> Iterator[list[Trace]]:
        """What becomes of packets of each kind. Ports change no route: one says what becomes of all that lack one."""
        follow = self.arriving.unbarred_packets if stopped else self.arriving.first_packets
        transports = self._transports_of(way_in)
        for way, sender, host in self._ends(subnet, workload, way_in):
            for transport in transports:
                asked = Asked(subnet, workload or None, way_in.end, transport)
                traces = [*follow(asked, way, host, sender)]
                yield traces
                if stopped or all(one.verdict.gets_there or one.verdict in _NO_WAY for one in traces):
                    break

    def _ends(self, subnet: str, workload: str, way_in: WayIn) -> Iterator[tuple[Way, Piece, Piece]]:
        """One sender and one host of each kind, with the way between them."""
        seen: set[Hashable] = set()
        hosts = {version: self._hosts(subnet, workload, way_in, version) for version in (4, 6)}
        for way, sender, kind in self._senders(way_in.end, way_in.ways):
            for host in hosts[way.version]:
                step = way.sender and self.tracer.first_step(way.sender, host.blocks[0].address)
                if (kind, step, host.kind) not in seen:
                    seen.add((kind, step, host.kind))
                    yield way, sender, host

    def _senders(self, end: Remote, ways: tuple[Way, ...]) -> list[tuple[Way, Piece, Hashable]]:
        """One sender of each kind, by the way that it comes; with what stands for its kind, but for the first route."""
        key = (end.origin, end.way, () if end.way == "network" else ways)
        if key not in self._known:
            found: dict[Hashable, tuple[Way, Piece, Hashable]] = {}
            for way in ways:
                for sender in self.arriving.senders(end, way):
                    kind: Hashable = (way.ingress, sender.kind)
                    if way.sender:
                        packet = Packet(sender.blocks[0].address, host=sender.blocks[0].address)
                        kind = self.tracer.classes.host_kind(way.sender, packet)
                    table = self.estate.table_of(way.sender) if way.sender else None
                    found.setdefault((kind, table), (way, sender, kind))
            self._known[key] = [*found.values()]
        return self._known[key]

    def _hosts(self, subnet: str, workload: str, way_in: WayIn, version: int) -> list[Piece]:
        """The hosts that are reached by a way in, by class."""
        held = self.estate.host_blocks(workload or None, subnet, version)
        targets = [Block.of(one) for one in way_in.targets if one.version == version]
        blocks = [both for one in held for other in targets if (both := one.common(other)) is not None]
        return self.tracer.classes.destinations.pieces(Block.joined(blocks))

    @cached_property
    def _transports(self) -> list[Transport]:
        """One port and protocol of each kind that rules, filters and lines of the estate tell apart."""
        exits, filters = self.estate.exits.values(), self.estate.filters
        of_exits = [rule for exit_ in exits for rule in exit_.rules_in_order]
        of_filters = [rule for each in filters for rule in (*each.out.values(), *each.in_.values())]
        alone = {port for rule in of_exits for port in rule.ports}
        alone |= {port for exit_ in exits for port in exit_.lets_in_ports or ()}
        spans = {(port, port) for port in alone} | {span for rule in of_filters for span in rule.ports}
        edges = {1, *(edge for first, last in spans for edge in (first, last + 1) if edge <= ANY_PORT[1])}
        named = any(rule.protocol for rule in of_exits) or any(rule.protocol for rule in of_filters)
        both: tuple[Protocol, ...] = ("tcp", "udp")
        return [Transport(port, one) for port in sorted(edges) for one in (both if named else both[:1])]

    def _transports_of(self, way_in: WayIn) -> Sequence[Transport]:
        """Those that are asked for over a way in."""
        low, high = way_in.ports
        if low == high:
            return [Transport(low, protocol) for protocol in way_in.protocols]
        return self._transports

    def _filtered(self, subnet: str, workload: str, way_in: WayIn) -> str:
        """Which filter lets nothing in to the hosts, whoever sends, to whatever port; empty where each lets in some.

        The quick answer for most that is closed; what each filter by itself lets in is looked at packet by packet.
        """
        sources = _ANYWHERE if way_in.end.way == "internet" else (*way_in.end.prefixes, *self._shown)
        owners = [("subnet", subnet, self.estate.subnets[subnet].filters)]
        if workload:
            owners.append(("workload", workload, self.estate.workloads[workload].filters))
        meant = self.estate.named_addresses.prefixes_of
        for section, owner, filters in owners:
            for name, filter_ in filters.items():
                asked = [
                    Filtered(_of(version, sources), targets, frozenset(), way_in.ports, protocol)
                    for version in (4, 6)
                    if (targets := _of(version, way_in.targets))
                    for protocol in way_in.protocols
                ]
                if not any(filter_.toward("in").lets_some_pass(packet, meant) for packet in asked):
                    return f"filter {name} of {section} {owner} denies it"
        return ""

    @cached_property
    def _shown(self) -> tuple[Prefix, ...]:
        """From where packets may seem to come that an exit on their path rewrites."""
        exits = self.estate.exits.values()
        places = [self.estate.subnets[place].prefixes for exit_ in exits for place in exit_.in_subnets]
        pools = [exit_.pool for exit_ in exits if exit_.pool is not None]
        public = [parse_prefix(str(one)) for exit_ in exits for one in exit_.listed_addresses]
        return tuple(dict.fromkeys([*(one for some in places for one in some), *pools, *public]))

    def _let_in(self, trace: Trace, workload: str) -> str:
        """The filters of hosts and their subnet that let a packet in, each with the rule."""
        own = {("subnets", trace.subnet), ("workloads", workload)}
        by = [
            f"{one.filter} of {one.crossing.owner} allows it by {one.rule or 'default'}"
            for one in self.tracer.filters.judged(trace, workload or None)
            if not one.is_reply and one.crossing.direction == "in" and (one.crossing.section, one.crossing.owner) in own
        ]
        return "; ".join(by) or "no filter"


def _of(version: int, prefixes: Iterable[Prefix]) -> tuple[Prefix, ...]:
    return tuple(one for one in prefixes if one.version == version)


def _is_led_here(trace: Trace, way_in: WayIn) -> bool:
    """Whether routes lead a packet to hosts, so that something has to stop it.

    In other networks most have a route out for all that they do not know, which comes to nothing by itself.
    """
    if way_in.end.way == "network":
        return trace.verdict is Verdict.DENIED or trace.verdict.gets_there
    return trace.verdict not in _NO_WAY


def _through(trace: Trace) -> str:
    """The exit by which a packet from another network enters: the first that joins networks."""
    crossed = trace.inward.ingress if trace.inward is not None else ""
    return crossed or next((hop.via for hop in trace.hops if hop.via), "") or next(iter(trace.exits), "")
