"""The trace of one packet from a subnet, exit by exit, to its verdict, and back."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction

from fenrask.estate import Described, ExitModel, Offer, Onward, Passing
from fenrask.prefixes import Address, Block, is_public, mapped_to_ipv6, unmapped, usable
from fenrask.routing.classes import Classes
from fenrask.routing.filters import Filters
from fenrask.routing.packets import Hop, Packet, Source, Trace, Verdict
from fenrask.routing.reply import return_path
from fenrask.routing.tables import LOCAL, Routes, TableRoute

__all__ = ["Tracer"]

Ending = tuple[Verdict, str]
_ALL = Fraction(1)


@dataclass(frozen=True, slots=True)
class _At:
    """Where a packet is, as what, and how it came there."""

    place: str
    network: str | None
    """None at a hub."""
    zone: str | None
    source: Source
    address: Address
    hops: tuple[Hop, ...] = ()
    came_from: str | None = None
    """The network from which a hub was entered."""


@dataclass(frozen=True, slots=True)
class _Ended:
    """A packet that goes no further: how its trace ends, after which hops, and where it is delivered."""

    verdict: Verdict
    reason: str
    hops: tuple[Hop, ...]
    onward: Onward | None = None
    there: str = ""


@dataclass(frozen=True)
class _Facts:
    """What is asked of an exit at every step, worked out once."""

    model: ExitModel
    network: str | None
    zones: tuple[str, ...]
    offer: Offer | None
    sources: tuple[tuple[Source, Fraction], ...]
    """The sources that it rewrites to, one of each class, with their shares."""

    @property
    def onward(self) -> Onward:
        return self.model.onward


class Tracer:
    """Follows single packets through one estate: each there, back, and past all filters.

    Longest prefix first, then origin (RFC 1812), then all equal routes; a matched route is final even
    where its exit is gone. An exit that is in a subnet looks that subnet's table up in turn. A
    packet arrives only where its reply comes back, past every hop that keeps state.
    """

    def __init__(self, described: Described) -> None:
        self.described = described
        self.estate = described.estate
        self.routes = Routes(described)
        self.filters = Filters(self.estate)
        self.classes = Classes(self.routes)
        self._facts = {name: self._facts_of(name) for name in self.estate.exits}
        self._known: dict[tuple[object, ...], list[tuple[Trace, Fraction]]] = {}

    def _facts_of(self, name: str) -> _Facts:
        model = self.estate.exits[name]
        network = self.estate.network_of(model)
        whole = Source("exit", name, model.listed_addresses, model.pool, network)
        blocks = [Block.of(model.pool)] if model.pool else [Block(a.version, int(a), int(a)) for a in whole.addresses]
        pieces = self.classes.sources.pieces(blocks)
        size = sum(piece.size for piece in pieces)
        shown = tuple((replace(whole, address=piece.blocks[0].address), Fraction(piece.size, size)) for piece in pieces)
        offer = self.described.offer_of(name)
        return _Facts(model, network, self.estate.zones_of(model), offer, shown or ((whole, _ALL),))

    def traces(self, subnet: str, packet: Packet, workload: str | None = None) -> list[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet, with the share of each.

        There are several where routes are equal, or where an exit shows it from addresses that are not treated alike.
        `workload`: whose filters count; default: of none.
        """
        packet, begun = self._begun(subnet, packet)
        return self._completed(subnet, packet, begun.source, [(begun, _ALL)], workload)

    def class_traces(self, subnet: str, packet: Packet, workload: str | None) -> list[tuple[Trace, Fraction]]:
        """The same of a packet that may be any of its classes, traced once: see `Trace.of`."""
        key = self.classes.key(subnet, packet, workload)
        if key not in self._known:
            self._known[key] = self.traces(subnet, packet, workload)
        return self._known[key]

    def origin(self, subnet: str, packet: Packet) -> tuple[Packet, Source]:
        """A packet with the address of its host, and its source as it leaves the host."""
        packet, begun = self._begun(subnet, packet)
        return packet, begun.source

    def through(self, subnet: str, packet: Packet, name: str) -> list[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet, were its route to name this exit: there and back."""
        packet, begun = self._begun(subnet, packet)
        return self._completed(subnet, packet, begun.source, self._entered(begun, None, name, packet), None)

    def _completed(
        self,
        subnet: str,
        packet: Packet,
        origin: Source,
        pending: list[tuple["_At | _Ended", Fraction]],
        workload: str | None,
    ) -> list[tuple[Trace, Fraction]]:
        found: list[tuple[Trace, Fraction]] = []
        while pending:
            here, share = pending.pop()
            if isinstance(here, _At):
                options = list(self._options(here, packet))
                for route, name in reversed(options):
                    for there, part in self._entered(here, route, name, packet):
                        pending.append((there, share * part / len(options)))
                continue
            trace = Trace(subnet, packet, here.verdict, here.hops, origin, here.onward, here.reason, (), here.there)
            if trace.verdict.arrives:
                trace = return_path(self.routes, trace)
            found.append((self.filters.passed(trace, workload), share))
        return found

    def _begun(self, subnet: str, packet: Packet) -> tuple[Packet, _At]:
        """The packet in its host: of a family that its subnet has, mapped where it has only IPv6."""
        stated = self.estate.subnets[subnet]
        prefixes = {one.version: one for one in stated.prefixes}
        address = packet.address
        if address.version not in prefixes and address.version == 4:
            address = mapped_to_ipv6(address)
        prefix = prefixes.get(address.version)
        host = packet.host if packet.host is not None or prefix is None else usable(prefix).address
        own_is_public = prefix is not None and prefix.version == 6 and is_public(prefix)
        kind = "host-public" if own_is_public else "host"
        public = packet.public_host and (prefix is None or prefix.version == 4)
        source = Source(kind, prefix=prefix, network=stated.network, address=host, may_be_public=public)
        return replace(packet, host=host), _At(subnet, stated.network, stated.zone, source, address)

    def _options(self, here: _At, packet: Packet) -> Iterator[tuple[TableRoute | None, str]]:
        """What may be entered next: by name at the start, else by the matching routes, else what is assigned."""
        if here.source.prefix is None and here.source.kind == "host":
            yield None, ""
            return
        if not here.hops and (name := self.estate.by_name.get((here.network, packet.destination), "")):
            yield None, name
            return
        matching = self.routes.of(here.place, here.came_from).match(here.address)
        for route in matching:
            yield route, route.exit
        if not matching:
            yield None, self.estate.fallback_of.get(here.network or "", "")

    def _entered(
        self, here: _At, route: TableRoute | None, name: str, packet: Packet
    ) -> list[tuple["_At | _Ended", Fraction]]:
        """The packet after one more step: one for each class of addresses that the exit shows it from."""
        if name not in self._facts:
            return [(self._beyond_exits(here, route, name), _ALL)]
        facts = self._facts[name]
        exit_ = facts.model
        via, unreached = self._reached(here, facts, name)
        passing = self._passing(here, packet)
        decision = exit_.decides(passing) if not unreached else None
        rule = decision.rule if decision else ""
        # A hub may be passed twice, from different places; anything else that is met again sends in circles.
        if any(hop.exit == name and (exit_.onward is not Onward.HUB or hop.subnet == here.place) for hop in here.hops):
            table = self.routes.of(here.place, here.came_from).name
            reason = f"{name} sends it back to itself by the table {table} of {here.place}"
            return [(self._stopped(here, route, name, facts, via, rule, (Verdict.LOOP, reason)), _ALL)]
        ending = unreached or self._not_carried(here, facts, name, passing)
        if ending is None and decision is not None and not decision.allowed:
            ending = Verdict.DENIED, f"{name} denies it by {decision.rule}"
        if ending is not None:
            return [(self._stopped(here, route, name, facts, via, rule, ending), _ALL)]
        return [
            (self._moved(here, route, name, facts, via, rule, source), share)
            for source, share in self._shown(here, facts)
        ]

    def _beyond_exits(self, here: _At, route: TableRoute | None, name: str) -> _Ended:
        """The packet where no exit takes it: inside its network, or nowhere."""
        hops = (*here.hops, Hop(here.place, route, name, here.source, here.zone))
        if name == LOCAL and route is not None:
            # At a hub the local routes are called by the networks that they belong to.
            return self._delivered(here, hops, here.network or route.key, None)
        if name:
            words = "has failed" if name in self.described.failed else "does not exist"
            return _Ended(Verdict.BLACK_HOLE, f"{name} {words}", hops)
        if here.source.prefix is None and here.source.kind == "host":
            return _Ended(Verdict.NO_ROUTE, f"the subnet has no IPv{here.address.version}", hops)
        table = self.routes.of(here.place, here.came_from).name
        return _Ended(Verdict.NO_ROUTE, f"no route in {table} matches, and nothing is assigned", hops)

    def _delivered(self, here: _At, hops: tuple[Hop, ...], network: str, onward: Onward | None) -> _Ended:
        """The packet inside a network of the estate: it arrives where a subnet holds its address."""
        there = self.routes.subnet_at(network, here.address)
        if there is None:
            return _Ended(Verdict.NO_HOST, "no subnet holds {to}", hops)
        return _Ended(Verdict.ARRIVES, "", hops, onward, there)

    def _shown(self, here: _At, facts: _Facts) -> tuple[tuple[Source, Fraction], ...]:
        """The sources that a packet has after an exit."""
        address = here.address
        if facts.model.maps_ipv6:
            address = unmapped(address) or address
        if facts.model.rewrites(address):
            return facts.sources
        if facts.onward is Onward.INTERNET and here.source.may_be_public:
            return ((replace(here.source, kind="host-public"), _ALL),)
        return ((here.source, _ALL),)

    def _stopped(
        self, here: _At, route: TableRoute | None, name: str, facts: _Facts, via: str, rule: str, ending: Ending
    ) -> _Ended:
        """The packet where an exit takes it no further, so that nothing is rewritten."""
        [source] = [here.source] if facts.model.rewrites(here.address) else [one for one, _ in self._shown(here, facts)]
        return _Ended(*ending, (*here.hops, self._hop(here, route, name, facts, via, rule, source)))

    def _moved(
        self, here: _At, route: TableRoute | None, name: str, facts: _Facts, via: str, rule: str, source: Source
    ) -> "_At | _Ended":
        """The step through an exit: into its subnet, into a hub, or out of the estate's tables."""
        exit_ = facts.model
        hop = self._hop(here, route, name, facts, via, rule, source)
        hops = (*here.hops, hop)
        if exit_.onward is Onward.JOINED:
            [other] = [one for one in exit_.joins if one != here.network] or [here.network or ""]
            return self._delivered(here, hops, other, Onward.JOINED)
        if exit_.onward not in (Onward.HUB, Onward.TABLE):
            return _Ended(Verdict.ARRIVES, "", hops, exit_.onward)
        address = here.address
        if exit_.maps_ipv6:
            address = unmapped(address) or address
        if exit_.onward is Onward.HUB:
            return _At(name, None, hop.to_zone, source, address, hops, here.network)
        return _At(exit_.in_subnets[0], facts.network, hop.to_zone, source, address, hops)

    def _hop(
        self, here: _At, route: TableRoute | None, name: str, facts: _Facts, via: str, rule: str, source: Source
    ) -> Hop:
        zone = here.zone if not facts.zones or here.zone in facts.zones else facts.zones[0]
        by_name = route is None and facts.model.found_by_name
        return Hop(here.place, route, name, source, here.zone, zone, by_name, via, rule)

    def _reached(self, here: _At, facts: _Facts, name: str) -> tuple[str, Ending | None]:
        """The peering crossed on the path to an exit, if any; and why the exit is out of reach, if it is."""
        exit_, target = facts.model, facts.network
        if target == here.network and target is not None:
            return "", None
        if here.network is None:
            hub = self.estate.exits[here.place]
            near = exit_.attached_to == here.place or target in hub.joins
            return "", None if near else (Verdict.BLACK_HOLE, f"{name} is not attached to {here.place}")
        if here.network in exit_.joins:
            crossed = name if exit_.onward is Onward.JOINED else ""
            return "", self._forwarding(here, crossed)
        for peering, other in self.estate.peers_of(here.network):
            if other == target:
                if not exit_.is_machine and not self.estate.exits[peering].lets_use_exits(here.network):
                    return peering, (Verdict.BLACK_HOLE, f"{peering} does not let the other side's exits be used")
                return peering, self._forwarding(here, peering)
        where = target or exit_.attached_to or "no network"
        return "", (Verdict.BLACK_HOLE, f"{name} belongs to {where}, not to {here.network} nor to a peer of it")

    def _forwarding(self, here: _At, peering: str) -> Ending | None:
        """Whether a peering takes a packet whose source lies outside the network that it leaves."""
        if peering and here.source.network != here.network and not self.estate.exits[peering].takes_forwarded:
            return Verdict.DENIED, f"{peering} takes only packets from the network that they leave"
        return None

    def _not_carried(self, here: _At, facts: _Facts, name: str, passing: Passing) -> Ending | None:
        """Why an exit does not carry a packet, if it does not."""
        exit_, offer = facts.model, facts.offer
        if exit_.fault:
            return Verdict.BLACK_HOLE, f"{name}: {exit_.fault}"
        address = here.address
        if address.version not in exit_.families and not (exit_.maps_ipv6 and unmapped(address)):
            return Verdict.FAMILY_NOT_CARRIED, f"{name} carries no IPv{address.version}"
        if exit_.onward is Onward.INTERNET and not is_public(unmapped(address) or address):
            return Verdict.PRIVATE_DESTINATION, f"{name} is an exit to the internet, where {{to}} is not reachable"
        if exit_.needs_public_source and not here.source.public:
            return Verdict.NO_PUBLIC_SOURCE, f"{name} lets out only public sources"
        if exit_.onward is Onward.JOINED and not self._beyond(here, exit_, address):
            other = " and ".join(one for one in exit_.joins if one != here.network)
            return Verdict.NOT_CARRIED, f"{name} reaches only the prefixes of {other}"
        if why := self._wrong_region(exit_, passing):
            return Verdict.NOT_CARRIED, f"{name} {why}"
        if exit_.carries and passing.destination not in exit_.carries:
            return Verdict.NOT_CARRIED, f"{name} leads to {', '.join(exit_.carries)} only"
        if exit_.onward is Onward.THIRD_PARTY and not any(address in one for one in exit_.announced):
            return Verdict.NOT_CARRIED, f"{name} has received no prefix that holds {{to}}"
        if offer is not None and exit_.rewrites(address) and passing.protocol not in offer.protocols:
            return Verdict.PROTOCOL_NOT_TRANSLATED, f"{name} does not translate {passing.protocol}"
        return None

    def _beyond(self, here: _At, exit_: ExitModel, address: Address) -> bool:
        """Whether a peering's other side has an address."""
        others = (name for name in exit_.joins if name != here.network)
        return any(address in prefix for name in others for prefix in self.estate.networks[name].prefixes)

    def _wrong_region(self, exit_: ExitModel, passing: Passing) -> str:
        """Why an endpoint does not reach a service of another region; empty where it does, or none is stated."""
        if exit_.onward is not Onward.SERVICE or passing.destination not in (exit_.carries or ()):
            return ""
        own, there = self.estate.region_of(exit_), self.estate.destinations[passing.destination].region
        return f"is in region {own}, {passing.destination} in {there}" if own and there and own != there else ""

    def _passing(self, here: _At, packet: Packet) -> Passing:
        stated = self.estate.destinations.get(packet.destination or "")
        if stated is None:
            return Passing(here.address, None, (), None, "tcp", here.source.address)
        names = stated.names if packet.names is None else packet.names
        return Passing(here.address, packet.destination, names, stated.port, stated.protocol, here.source.address)
