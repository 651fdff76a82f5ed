"""Flows whose connections the other end opens: in by an exit, to the hosts, and the replies out again.

A packet from outside is followed by the same tables and exits as any other; no exit rewrites its source on the way in,
but for one that publishes a port and says so. It arrives where the replies leave by the exit that it came in by,
past every exit that keeps state and no other.
"""

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from fenrask.estate import Estate, Onward, Passing, Published, Remote
from fenrask.estate.suggestions import some
from fenrask.prefixes import Address, Block, Piece, Prefix, is_public
from fenrask.routing.packets import Hop, Inward, Packet, Portion, Source, Trace, Transport, Verdict
from fenrask.routing.portions import Box, merged, product
from fenrask.routing.reply import reply_paths
from fenrask.routing.tables import LOCAL
from fenrask.routing.tracing import Rest, Tracer

__all__ = ["Arriving", "Asked", "Way", "publishers"]

_ALL = Fraction(1)
_ONWARD = {"internet": Onward.INTERNET, "lines": Onward.THIRD_PARTY}
"""Where the other end is, by the way that it comes; nowhere beyond an exit for the others."""


@dataclass(frozen=True)
class Way:
    """How packets of one IP version get in: by an exit, and at the end by another one that publishes a port, if any.

    share: the part of a flow's packets that come this way.
    """

    share: Fraction
    version: int
    ingress: str
    """The exit by which they enter; empty for none."""
    publisher: str = ""
    as_: str = ""
    """The name of the published port."""
    target: Address | None = None
    """The address that they are sent to up to there; default: the host's own."""
    inner: Address | None = None
    """The publisher's own address inside its network."""
    sender: str = ""
    """The subnet of the estate that they come from."""
    lines: tuple[str, ...] = ()
    """Instead of `ingress`: the lines of which some are it, by the host's address."""


@dataclass(frozen=True)
class Asked:
    """What is asked for: hosts of a workload (None: whatever has an address) in a subnet, by whom, at which port."""

    subnet: str
    workload: str | None
    end: Remote
    transport: Transport
    remote: str | None = None
    """The other end's name among those of flows; None for one that no flow comes from."""

    @property
    def inward(self) -> Inward:
        return Inward(self.end.origin, str(self.end), self.transport.port)

    def packet(self, target: Address, host: Address) -> Packet:
        """To a host, from a sender."""
        return Packet(target, self.remote, host=host, transport=self.transport if self.remote is None else None)


class _Closed(Exception):
    """Nothing gets in; why, and with which verdict."""

    def __init__(self, verdict: Verdict, why: str) -> None:
        super().__init__(why)
        self.verdict, self.why = verdict, why


def publishers(estate: Estate, workload: str, port: int, protocol: str) -> Iterator[tuple[str, str, Published]]:
    """The exits that forward a port to a workload's hosts, each with the name of the entry and the entry."""
    for name, exit_ in estate.exits.items():
        for as_, published in exit_.published.items():
            if (published.to, published.host_port, published.protocol) == (workload, port, protocol):
                yield name, as_, published


class Arriving:
    """Follows what comes in, class by class of those who send and of the hosts that they send to."""

    def __init__(self, tracer: Tracer) -> None:
        self.tracer, self.estate = tracer, tracer.estate
        self.behaviour = tracer.described.catalogue.behaviour

    def boxes(self, workload: str, subnet: str, remote: str) -> list[Box]:
        """The outcomes of what comes from a remote end to a workload's hosts in a subnet, with the share of each."""
        end = self.estate.remotes[remote]
        assert isinstance(end, Remote)
        asked = Asked(subnet, workload, end, Transport(end.port or 0, end.protocol), remote)
        try:
            ways = [*self._ways(workload, subnet, end)]
        except _Closed as closed:
            return [self._lost(asked, closed)]
        found: list[Box] = []
        for number, way in enumerate(ways):
            hosts = self._pieces(self.estate.host_blocks(workload, subnet, way.version))
            senders = self.senders(end, way)
            if not hosts or not senders:
                why = (
                    f"{subnet} has no IPv{way.version}" if senders else f"no prefix of {end} is known for IPv4 or IPv6"
                )
                found.append(replace(self._lost(asked, _Closed(Verdict.NO_ROUTE, why)), within=way.share))
                continue
            boxes = [
                Box((s,), (t,), (number,), part, trace)
                for t, host in enumerate(hosts)
                for s, sender in enumerate(senders)
                for trace, part in self._traces(asked, way, host, sender)
            ]
            for box in merged(self.tracer, boxes, [None] * len(hosts)):
                found.append(self._whole(way, box, senders, hosts, len(ways) > 1))
        return found

    def first_packets(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[Trace]:
        """What becomes of a first packet that someone may send, whether its reply comes back or not."""
        for trace, _ in self._sent(asked, way, host, sender) if way.sender else self._there(asked, way, host, sender):
            yield self.tracer.filters.passed(trace, asked.workload)

    def unbarred_packets(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[Trace]:
        """The same, as if no filter, and no exit where it enters, stopped it: where routes lead."""
        if way.sender:
            found = self._sent(asked, way, host, sender)
        else:
            start, kind = self._start(asked, way, host, sender)
            found = self._past_boundary(start, way, kind)
        yield from (trace for trace, _ in found)

    def _lost(self, asked: Asked, closed: _Closed) -> Box:
        """All of it, lost before it is in."""
        prefix = self.estate.subnets[asked.subnet].prefix
        packet = Packet(prefix[0], asked.remote)
        trace = Trace(
            asked.subnet, packet, closed.verdict, (), Source("remote"), reason=closed.why, inward=asked.inward
        )  # fmt: skip
        return Box((0,), (0,), (0,), _ALL, trace)

    def _whole(self, way: Way, box: Box, senders: Sequence[Piece], hosts: Sequence[Piece], among_others: bool) -> Box:
        """A box with its shares, and with a trace that says which packets take it; among_others: ways in."""
        from_, to = [senders[one] for one in box.senders], [hosts[one] for one in box.targets]
        sent, held = _part(from_, senders), _part(to, hosts)
        within = product(product(product(sent, held), box.part), way.share)
        if way.sender:
            # Of all that the network sends.
            sent *= way.share
        portion = Portion(
            sources=Block.joined(block for one in from_ for block in one.blocks),
            hosts=sent,
            targets=Block.joined(block for one in to for block in one.blocks),
            reach=held,
            addresses=held,
            way=_in_words(way) if among_others and not way.sender else "",
        )
        trace = replace(box.trace, portion=portion)
        return replace(box, trace=trace, hosts=held, reach=sent, within=within)

    def _pieces(self, blocks: Sequence[Block]) -> list[Piece]:
        return self.tracer.classes.destinations.pieces(blocks) if blocks else []

    def senders(self, end: Remote, way: Way) -> list[Piece]:
        """Who sends by a way, by class."""
        if way.sender:
            return self._pieces(self.estate.host_blocks(None, way.sender, way.version))
        return self._pieces(Block.joined(Block.of(one) for one in end.prefixes if one.version == way.version))

    # The ways in.

    def _ways(self, workload: str, subnet: str, end: Remote) -> Iterator[Way]:
        if end.way == "internet":
            yield from self._from_internet(workload, subnet, end)
        elif end.way == "lines":
            yield from self._from_lines(workload, subnet, end)
        elif end.way == "service":
            for version, share in self._versions(workload, subnet, end):
                yield Way(share, version, "")
        else:
            yield from self._from_network(workload, subnet, end)

    def _versions(self, workload: str, subnet: str, end: Remote) -> list[tuple[int, Fraction]]:
        """The IP versions that both ends have, each with its share: IPv4, unless the workload states an IPv6 share."""
        own = {one.version for one in self.estate.subnets[subnet].prefixes}
        both = sorted(own & {one.version for one in end.prefixes})
        if not both:
            raise _Closed(Verdict.NO_ROUTE, f"{subnet} has no IP version of {end}")
        stated = self.tracer.classes.ipv6_share(workload)
        if len(both) == 1 or not stated:
            return [(both[0], _ALL)]
        return [one for one in ((4, 1 - stated), (6, stated)) if one[1]]

    def _published(
        self, workload: str, end: Remote, reached: Sequence[Prefix] | None
    ) -> list[tuple[str, str, Published]]:
        """The published ports for it; reached: where their addresses may lie, default: public ones."""
        found = []
        for name, as_, published in publishers(self.estate, workload, end.port or 0, end.protocol):
            address = self._published_address(name, published)
            if reached is None:
                if self._is_on_the_internet(name, published):
                    found.append((name, as_, published))
            elif address is not None and any(address in prefix for prefix in reached):
                found.append((name, as_, published))
        return found

    def _is_on_the_internet(self, name: str, published: Published) -> bool:
        """Whether a port is published at a public address."""
        address = self._published_address(name, published)
        return self.estate.exits[name].pool is None and (address is None or is_public(address))

    def published_on_the_internet(self, name: str, as_: str) -> Iterator[Way]:
        """The way from the internet to a port that an exit publishes; none where it is not reached from there."""
        if not self._is_on_the_internet(name, self.estate.exits[name].published[as_]):
            return
        try:
            yield self._to_published(name, as_, _ALL)
        except _Closed:
            return

    def _to_published(self, name: str, as_: str, share: Fraction) -> Way:
        inner = self._inner(name)
        ingress = name if inner is None else self._internet_exit(self._network(name))
        return Way(share, 4, ingress, name, as_, inner, inner)

    def published_over(self, lines: Sequence[str], name: str, as_: str) -> Iterator[Way]:
        """The ways over lines to a port that an exit publishes, whether they are told of its address or not."""
        target, inner = self._published_address(name, self.estate.exits[name].published[as_]), self._inner(name)
        if target is not None:
            yield from (Way(_ALL, target.version, line, name, as_, target, inner) for line in lines)

    def _unless_failed(self, workload: str, end: Remote) -> None:
        """_Closed where the exit that published the port is one that a case took away."""
        for name, exit_ in self.tracer.described.failed.items():
            for published in exit_.published.values():
                if (published.to, published.host_port, published.protocol) == (workload, end.port, end.protocol):
                    raise _Closed(Verdict.BLACK_HOLE, f"{name} {self.tracer.described.why_gone(name)}")

    def _published_address(self, name: str, published: Published) -> Address | None:
        exit_ = self.estate.exits[name]
        if published.address is not None:
            address: Address = published.address
            return address
        if exit_.pool is not None:
            return exit_.pool[0]
        return next(iter(exit_.listed_addresses), None)

    def _inner(self, name: str) -> Address | None:
        """An exit's own address inside its network, where it has one."""
        places = self.estate.exits[name].in_subnets
        return self.estate.subnets[places[0]].prefix[0] if places else None

    def _from_internet(self, workload: str, subnet: str, end: Remote) -> Iterator[Way]:
        ports = self._published(workload, end, None)
        for name, as_, _ in ports:
            yield self._to_published(name, as_, Fraction(1, len(ports)))
        if ports:
            return
        self._unless_failed(workload, end)
        ways = {}
        stated = self.estate.subnets[subnet]
        if self.estate.workloads[workload].public_address and stated.prefix.version == 4:
            ways[4] = _ALL
        share = self.tracer.classes.ipv6_share(workload)
        v6 = next((one for one in stated.prefixes if one.version == 6 and is_public(one)), None)
        if v6 is not None and (not ways or share):
            part = _ALL if not ways or share is None else share
            ways = {version: 1 - part for version in ways if part != 1} | {6: part}
        if not ways:
            raise _Closed(
                Verdict.NO_ROUTE,
                f"no exit publishes port {end.port} of {workload}, and its hosts have no public address",
            )
        for version, part in ways.items():
            yield Way(part, version, self._internet_exit(stated.network))

    def _internet_exit(self, network: str) -> str:
        """The exit by which public addresses of a network are reached from the internet."""
        for name, exit_ in self.estate.exits.items():
            if exit_.takes_public_sources and exit_.of_network == network:
                return name
        raise _Closed(Verdict.NO_ROUTE, f"{network} has no internet exit by which its public addresses are reached")

    def _network(self, name: str) -> str:
        return self.estate.network_of(self.estate.exits[name]) or ""

    def _from_lines(self, workload: str, subnet: str, end: Remote) -> Iterator[Way]:
        exits = self.estate.exits
        up = [name for name in end.lines if not exits[name].fault]
        if not end.lines:
            raise _Closed(Verdict.BLACK_HOLE, f"no line to {end} is left")
        if not up:
            raise _Closed(Verdict.BLACK_HOLE, f"{end.lines[0]}: {exits[end.lines[0]].fault}")
        advertised = [prefix for name in up for prefix in exits[name].known_beyond or ()]
        ports = self._published(workload, end, advertised)
        for name, as_, published in ports:
            target, inner = self._published_address(name, published), self._inner(name)
            way = Way(Fraction(1, len(ports)), 4 if target is None else target.version, "", name, as_, target, inner)
            yield from self._by_lines(up, end, way)
        if ports:
            return
        self._unless_failed(workload, end)
        for version, share in self._versions(workload, subnet, end):
            yield Way(share, version, "", lines=tuple(up))

    def _by_lines(self, up: Sequence[str], end: Remote, way: Way) -> Iterator[Way]:
        """To a published address, by each of the lines that advertise it."""
        lines = self._advertising(up, way.target)
        if way.target is None or not lines:
            raise _Closed(Verdict.NO_ROUTE, self._unadvertised(up, end))
        for line in lines:
            yield replace(way, share=way.share / len(lines), ingress=line)

    def _advertising(self, up: Sequence[str], target: Address | None) -> list[str]:
        """The lines that advertise the longest prefix for an address; none where none does."""
        lengths = {line: self._advertised(line, target) for line in up}
        longest = max(lengths.values())
        return [] if longest < 0 else [line for line in up if lengths[line] == longest]

    def _unadvertised(self, up: Sequence[str], end: Remote) -> str:
        return f"{some(up)} {'does' if len(up) == 1 else 'do'} not advertise {{to}}: {end} finds no way in"

    def _advertised(self, line: str, target: Address | None) -> int:
        advertised = self.estate.exits[line].known_beyond or ()
        return max((one.prefixlen for one in advertised if target is not None and target in one), default=-1)

    def _from_network(self, workload: str, subnet: str, end: Remote) -> Iterator[Way]:
        """From the hosts of every subnet of a network, by the number of their addresses."""
        [(version, _)] = self._versions(workload, subnet, end)[:1]
        sizes = {
            name: sum(block.size for block in self.estate.host_blocks(None, name, version))
            for name, one in self.estate.subnets.items()
            if one.network == end.network
        }
        whole = sum(sizes.values())
        if not whole:
            raise _Closed(Verdict.NO_ROUTE, f"{end.network} has no subnet with IPv{version}")
        for name, size in sizes.items():
            if size:
                yield Way(Fraction(size, whole), version, "", sender=name)

    # Along a way.

    def _traces(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[tuple[Trace, Fraction]]:
        if way.sender:
            for trace, part in self._sent(asked, way, host, sender):
                yield self.tracer.filters.passed(trace, asked.workload), part
            return
        target, source = host.blocks[0].address, sender.blocks[0].address
        ingresses = self._advertising(way.lines, target) if way.lines else [way.ingress]
        if not ingresses:
            yield self._unadvertised_trace(asked, way, target, source), _ALL
        for each in ingresses:
            for trace, part in self._entered(asked, replace(way, ingress=each), host, sender):
                yield self.tracer.filters.passed(trace, asked.workload), part / len(ingresses)

    def _unadvertised_trace(self, asked: Asked, way: Way, target: Address, source: Address) -> Trace:
        why, origin = self._unadvertised(way.lines, asked.end), Source("remote", address=source)
        packet = asked.packet(target, source)
        return Trace(asked.subnet, packet, Verdict.NO_ROUTE, (), origin, reason=why, inward=asked.inward)

    def _sent(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[tuple[Trace, Fraction]]:
        """From a host of the estate, there and back."""
        packet = asked.packet(host.blocks[0].address, sender.blocks[0].address)
        for trace, part in self.tracer.unjudged(way.sender, packet):
            crossed = [
                name for name in trace.exits if (exit_ := self.estate.exits.get(name)) is not None and exit_.joins
            ]
            inward = replace(asked.inward, sender=way.sender, ingress=crossed[0] if crossed else "")
            yield _at_its_subnet(replace(trace, subnet=asked.subnet, inward=inward)), part

    def _entered(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[tuple[Trace, Fraction]]:
        """From outside, there and back."""
        for trace, part in self._there(asked, way, host, sender):
            if not trace.verdict.arrives:
                yield trace, part
                continue
            for each, share in self._with_replies(replace(trace, onward=_ONWARD.get(asked.end.way)), way, asked.end):
                yield each, product(part, share)

    def _there(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> Iterator[tuple[Trace, Fraction]]:
        """From outside to the host."""
        start, kind = self._start(asked, way, host, sender)
        inward = start.inward
        port = 0 if inward is None else inward.published_port or inward.port
        if barred := self._barred(way, start.packet, port):
            yield replace(start, verdict=barred[0], reason=barred[1]), _ALL
        else:
            yield from self._past_boundary(start, way, kind)

    def _start(self, asked: Asked, way: Way, host: Piece, sender: Piece) -> tuple[Trace, Hashable]:
        """A packet at the exit where it enters, and what stands for its source."""
        exit_ = self.estate.exits.get(way.publisher)
        inward = replace(
            asked.inward,
            ingress=way.ingress,
            published_at=way.publisher,
            as_=way.as_,
            published_port=exit_.published[way.as_].port if exit_ else 0,
            entry=way.inner or way.target,
        )
        address = sender.blocks[0].address
        source, packet = Source("remote", address=address), asked.packet(host.blocks[0].address, address)
        start = Trace(asked.subnet, packet, Verdict.ARRIVES, (), source, inward=inward)
        if way.ingress:
            hub = self.estate.exits[way.ingress].attached_to
            at_hub = (Hop(way.ingress, None, hub, source),) if hub else ()
            start = replace(start, hops=(Hop("", None, way.ingress, source), *at_hub))
        return start, ("remote", asked.remote, sender.kind)

    def _past_boundary(self, start: Trace, way: Way, kind: Hashable) -> Iterator[tuple[Trace, Fraction]]:
        """A packet on to the subnet that it is for, or to where it ends."""
        for trace, part in self._onward(start, way, kind, start.packet):
            yield _at_its_subnet(trace), part

    def _barred(self, way: Way, packet: Packet, port: int) -> tuple[Verdict, str] | None:
        """Why the exit at the boundary, or the one that publishes, lets nothing in; port: where it is sent to there."""
        for name in dict.fromkeys((way.ingress, way.publisher)):
            exit_ = self.estate.exits.get(name)
            if exit_ is None:
                continue
            if exit_.fault:
                return Verdict.BLACK_HOLE, f"{name}: {exit_.fault}"
            if not exit_.forwards:
                return Verdict.BLACK_HOLE, f"{name} does not forward"
            if packet.address.version not in exit_.families:
                return Verdict.FAMILY_NOT_CARRIED, f"{name} carries no IPv{packet.address.version}"
            if exit_.lets_in_ports is not None and name == way.ingress and port not in exit_.lets_in_ports:
                return Verdict.DENIED, f"{name} lets in {some(map(str, exit_.lets_in_ports)) or 'replies'} only"
        publisher = self.estate.exits.get(way.publisher)
        if publisher is not None and publisher.one_for_each_subnet and not self.behaviour.gateways_publish:
            why = f"{way.publisher} publishes nothing: translation gateways of this provider do not (gateways_publish)"
            return Verdict.NOT_CARRIED, why
        return None

    def _onward(self, start: Trace, way: Way, kind: Hashable, packet: Packet) -> Iterator[tuple[Trace, Fraction]]:
        """A packet past the exit at the boundary: as far as the exit that publishes, if any, and on to its host."""
        source = start.origin
        if not way.ingress:
            # The provider's own network delivers it.
            zone = self.estate.subnets[start.subnet].zone
            yield replace(start, hops=(Hop("", None, LOCAL, source, None, zone),), there=start.subnet), _ALL
            return
        entry = self.estate.exits[way.ingress].attached_to or way.ingress
        if not way.publisher:
            for rest in self.tracer.entered(entry, None, (source, kind), packet):
                yield self._followed(start, rest), rest.share
            return
        for trace, part in self._to_publisher(start, way, entry, kind, packet):
            if not trace.verdict.arrives:
                yield trace, part
                continue
            for rest in self._past_publisher(trace, way, kind, packet):
                yield self._followed(trace, rest), product(part, rest.share)

    def _to_publisher(
        self, start: Trace, way: Way, entry: str, kind: Hashable, packet: Packet
    ) -> Iterator[tuple[Trace, Fraction]]:
        if way.ingress == way.publisher or way.target is None:
            yield start, _ALL
            return
        aimed = replace(packet, address=way.target)
        at = self.estate.exits[way.publisher].in_subnets[:1]
        port = start.inward.published_port if start.inward else 0
        for rest in self.tracer.entered(entry, None, (start.origin, kind), aimed, (way.publisher, port)):
            trace = self._followed(start, rest)
            if rest.verdict.arrives and trace.hops[-1].exit != way.publisher:
                if (rest.there,) != at:
                    why = f"{way.target} is delivered in {rest.there}, not to {way.publisher}"
                    yield replace(trace, verdict=Verdict.NO_HOST, reason=why, there=""), rest.share
                    continue
                last = replace(trace.hops[-1], exit=way.publisher, to_zone=self.estate.subnets[rest.there].zone)
                trace = replace(trace, hops=(*trace.hops[:-1], last))
            yield replace(trace, there=""), rest.share

    def _past_publisher(self, trace: Trace, way: Way, kind: Hashable, packet: Packet) -> Iterator[Rest]:
        """On from the exit that publishes, past its rules: they judge what it forwards."""
        exit_ = self.estate.exits[way.publisher]
        published = exit_.published[way.as_]
        named = self.estate.named_addresses.at(packet.address)
        passing = Passing(
            packet.address, None, (), published.host_port, published.protocol, trace.origin.address, named
        )
        decision = exit_.decides(passing)
        last = trace.hops[-1]
        source = trace.origin
        if published.rewrites_source and way.inner is not None:
            places = exit_.in_subnets
            own = self.estate.subnets[places[0]]
            source = Source("remote", way.publisher, (), own.prefix, own.network, way.inner)
            kind = (kind, way.publisher)
        rule = decision.rule if decision else ""
        hop = replace(last, source=source, rule=rule or way.as_)
        if decision is not None and not decision.allowed:
            yield Rest(Verdict.DENIED, f"{way.publisher} denies it by {decision.rule}", (hop,))
            return
        place = exit_.in_subnets[0] if exit_.in_subnets else way.publisher
        zone = self.estate.subnets[place].zone if exit_.in_subnets else None
        for rest in self.tracer.entered(place, zone, (source, kind), packet):
            yield rest.after(hop, way.publisher, _ALL)

    def _followed(self, trace: Trace, rest: Rest) -> Trace:
        """A trace with the rest of its path, whose first hop may replace the last one there."""
        hops = trace.hops
        if hops and rest.hops and hops[-1].exit == rest.hops[0].exit and hops[-1].exit != LOCAL:
            hops = hops[:-1]
        # What is known from others of its class has their addresses.
        own = tuple(hop if hop.source.exit else replace(hop, source=trace.origin) for hop in rest.hops)
        hops = (*hops, *own)
        if rest.verdict.arrives and hops and hops[-1].exit == LOCAL and rest.there:
            hops = (*hops[:-1], replace(hops[-1], to_zone=self.estate.subnets[rest.there].zone))
        return replace(trace, hops=hops, verdict=rest.verdict, reason=rest.reason, there=rest.there)

    def _with_replies(self, trace: Trace, way: Way, end: Remote) -> Iterator[tuple[Trace, Fraction]]:
        """A trace that gets there, with each way of the hosts' replies and its share."""
        if end.way == "service" and self.behaviour.service_replies == "direct":
            yield trace, _ALL
            return
        exit_ = self.estate.exits.get(way.publisher)
        own_source = exit_ is not None and exit_.published[way.as_].rewrites_source and way.inner is not None
        yield from reply_paths(self.tracer.routes, trace, self._ways_out(trace, way, end), way.publisher, own_source)

    def _ways_out(self, trace: Trace, way: Way, end: Remote) -> frozenset[str]:
        """The exits by which replies may leave: that of the request, or another line to the same third party."""
        if end.way == "lines":
            return frozenset(end.lines)
        if end.way != "service":
            return frozenset((way.ingress,))
        # A public IPv4 address would be put in the place of the host's own, which the service asked.
        host, network = trace.packet.address, self.estate.subnets[trace.subnet].network
        public = host.version == 6 and is_public(host)
        own = [
            name
            for name, one in self.estate.exits.items()
            if (one.carries is not None and end.origin in one.carries)
            or (public and one.takes_public_sources and one.of_network == network)
        ]
        return frozenset(own)


def _at_its_subnet(trace: Trace) -> Trace:
    """A trace as it is, or as one that ends elsewhere than in the hosts' subnet."""
    if not trace.verdict.gets_there or trace.there == trace.subnet:
        return trace
    where = f"is delivered in {trace.there}, not in {trace.subnet}" if trace.there else "is sent out again"
    return replace(trace, verdict=Verdict.NO_HOST, reason=f"it {where}", there="")


def _in_words(way: Way) -> str:
    """How packets get in, where there are several ways."""
    if way.publisher:
        return f"published at {way.publisher}"
    return f"over {way.ingress}" if way.ingress else f"over IPv{way.version}"


def _part(some_: Sequence[Piece], every: Sequence[Piece]) -> Fraction:
    """The share of addresses that some pieces have of all."""
    return Fraction(sum(one.size for one in some_), sum(one.size for one in every))
