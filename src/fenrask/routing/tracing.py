"""The walk from a subnet to an address, exit by exit, to its verdict."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from ipaddress import IPv4Address

from fenrask.estate import Described, ExitModel, Offer, Onward, Passing
from fenrask.prefixes import Address, is_public, mapped_to_ipv6, unmapped
from fenrask.routing.packets import Hop, Packet, Source, Trace, Verdict
from fenrask.routing.reply import Replies, ReturnPath, return_path
from fenrask.routing.tables import LOCAL, Routes, TableRoute

__all__ = ["Tracer"]

Ending = tuple[Verdict, str]
_ALL = Fraction(1)
_UNKNOWN = IPv4Address(0)
"""Stands for an address that only the exit will know; no route but a default holds it."""


@dataclass(frozen=True)
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


@dataclass(frozen=True)
class _Facts:
    """What the walk asks of an exit at every step, worked out once."""

    model: ExitModel
    network: str | None
    zones: tuple[str, ...]
    offer: Offer | None
    source: Source
    """The source that it rewrites to."""

    @property
    def onward(self) -> Onward:
        return self.model.onward


@dataclass(frozen=True)
class _Head:
    """The first step of a subnet's hosts by one route, where it is the same whatever is sent."""

    at: _At
    name: str


@dataclass(frozen=True)
class _Tail:
    """How a way goes on after an exit that rewrote the source, whoever sent it."""

    hops: tuple[Hop, ...]
    exits: tuple[str, ...]
    verdict: Verdict
    why: str
    onward: Onward | None
    share: Fraction


class Tracer:
    """Follows packets through one estate.

    Longest prefix first, then origin (RFC 1812), then all equal routes; a matched route is final even
    where its exit is gone. An exit that stands in a subnet looks that subnet's table up in turn. A
    packet arrives only where its answer comes back, past every hop that keeps state.
    """

    def __init__(self, described: Described) -> None:
        self.described = described
        self.estate = described.estate
        self.routes = Routes(described)
        self._facts = {name: self._facts_of(name) for name in self.estate.exits}
        self._tails: dict[tuple[object, ...], list[_Tail]] = {}
        self._reply = Replies(self.routes)
        self._heads: dict[tuple[str, int], _Head | None] = {}
        self._backs: dict[tuple[str, int, tuple[str, ...]], ReturnPath] = {}

    def _facts_of(self, name: str) -> _Facts:
        model = self.estate.exits[name]
        network = self.estate.network_of(model)
        source = Source("exit", name, model.listed_addresses, model.pool, network)
        return _Facts(model, network, self.estate.zones_of(model), self.described.offer_of(name), source)

    def traces(self, subnet: str, packet: Packet) -> list[tuple[Trace, Fraction]]:
        """The ways of a packet from a subnet, with the share of each: several where routes are equal."""
        common = self._common(subnet, packet)
        if common is not None:
            return [(common, _ALL)]
        begun = self._begun(subnet, packet)
        found = [(begun, _ALL)] if isinstance(begun, Trace) else self._followed(begun, subnet, packet)
        return [(self._reply.replied(trace), share) for trace, share in found]

    def through(self, subnet: str, packet: Packet, name: str) -> list[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet, were its route to name this exit: there and back."""
        begun = self._begun(subnet, packet)
        if isinstance(begun, Trace):
            return [(begun, _ALL)]
        there = self._entered(begun, None, name, subnet, packet)
        found = [(there, _ALL)] if isinstance(there, Trace) else self._followed(there, subnet, packet)
        return [(self._reply.replied(trace), share) for trace, share in found]

    def _common(self, subnet: str, packet: Packet) -> Trace | None:
        """The common case put together from parts walked before: one route to a plain translator, then one way on.

        None where anything is out of the ordinary; the whole walk gives the same answer, only later.
        """
        if packet.public_host or packet.address.version != 4:
            return None
        matching = self.routes.of(subnet).match(packet.address)
        if len(matching) != 1 or self._by_name(self.estate.subnets[subnet].network, packet.destination):
            return None
        key = (subnet, id(matching[0]))
        if key not in self._heads:
            self._heads[key] = self._head(subnet, matching[0], packet)
        head = self._heads[key]
        if head is None:
            return None
        at = head.at
        tails = self._tails.get((head.name, at.place, at.zone, packet.address, packet.destination))
        if tails is None:
            here = _At(at.place, at.network, at.zone, at.source, packet.address, at.hops, at.came_from)
            tails = self._tail(here, subnet, packet)
        tail = tails[0]
        outside = tail.onward in (Onward.INTERNET, Onward.SERVICE)
        if len(tails) > 1 or not outside or head.name in tail.exits:
            return None
        hops = at.hops + tail.hops
        path = (*key, tail.exits)
        if path not in self._backs:
            self._backs[path] = return_path(
                self.routes, Trace(subnet, packet, tail.verdict, hops, tail.onward, tail.why)
            )
        return self._backs[path].reply(subnet, packet, tail.verdict, hops, tail.onward, tail.why)

    def _head(self, subnet: str, route: TableRoute, packet: Packet) -> _Head | None:
        """The first step by a route, if the exit treats all packets alike and rewrites their source."""
        facts = self._facts.get(route.exit)
        if facts is None or not facts.model.treats_all_alike or facts.offer is None or len(facts.offer.protocols) < 2:
            return None
        begun = self._begun(subnet, packet)
        if isinstance(begun, Trace) or begun.address.version != 4:
            return None
        there = self._entered(begun, route, route.exit, subnet, packet)
        if isinstance(there, Trace) or there.source.exit != route.exit:
            return None
        return _Head(there, route.exit)

    def traces_by_name(self, subnet: str, destination: str, public_host: bool) -> list[tuple[Trace, Fraction]]:
        """The ways to a destination of which only names are known: by an exit that is asked by name, or none."""
        packet = Packet(_UNKNOWN, destination, public_host)
        if self._by_name(self.estate.subnets[subnet].network, destination) or self._one_path_for_all(subnet):
            return self.traces(subnet, packet)
        why = f"{destination} has names, but no prefixes: `fenrask resolve` looks them up"
        return [(Trace(subnet, packet, Verdict.UNRESOLVED, (), None, why), _ALL)]

    def _one_path_for_all(self, subnet: str) -> bool:
        """Whether every public IPv4 address goes the same path: no route but a default names any of them."""
        routes = (*self.routes.of(subnet).routes, *self.routes.beyond.routes)
        public = [one for one in routes if one.prefix.version == 4 and is_public(one.prefix)]
        return all(one.prefix.prefixlen == 0 for one in public) and bool(self.routes.of(subnet).match(_UNKNOWN))

    def _followed(self, begun: _At, subnet: str, packet: Packet, memo: bool = True) -> list[tuple[Trace, Fraction]]:
        found: list[tuple[Trace, Fraction]] = []
        pending: list[tuple[_At | Trace, Fraction]] = [(begun, _ALL)]
        while pending:
            here, share = pending.pop()
            if isinstance(here, Trace):
                found.append((here, share))
                continue
            if memo and here.hops and here.hops[-1].exit == here.source.exit:
                tails = self._tail(here, subnet, packet)
                passed = {hop.exit for hop in here.hops[:-1]}
                if not any(hop.exit in passed for tail in tails for hop in tail.hops):
                    for tail in tails:
                        hops = here.hops + tail.hops
                        trace = Trace(subnet, packet, tail.verdict, hops, tail.onward, tail.why)
                        found.append((trace, share if tail.share is _ALL else share * tail.share))
                    continue
            options = list(self._options(here, packet))
            of_each = share if len(options) == 1 else share / len(options)
            for route, name in reversed(options):
                pending.append((self._entered(here, route, name, subnet, packet), of_each))
        return found

    def _tail(self, here: _At, subnet: str, packet: Packet) -> list[_Tail]:
        """How the way goes on from an exit that has just rewritten the source; followed once for all senders."""
        key = (here.source.exit, here.place, here.zone, here.address, packet.destination)
        if key not in self._tails:
            alone = _At(here.place, here.network, here.zone, here.source, here.address, here.hops[-1:], here.came_from)
            self._tails[key] = [
                _Tail(trace.hops[1:], trace.exits[1:], trace.verdict, trace.why, trace.onward, share)
                for trace, share in self._followed(alone, subnet, packet, memo=False)
            ]
        return self._tails[key]

    def _begun(self, subnet: str, packet: Packet) -> _At | Trace:
        """The packet in its host: of a family that its subnet has, mapped where it has only IPv6."""
        stated = self.estate.subnets[subnet]
        prefixes = {one.version: one for one in (stated.prefix, stated.prefix_v6) if one is not None}
        address = packet.address
        if address.version not in prefixes and isinstance(address, IPv4Address):
            address = mapped_to_ipv6(address)
        prefix = prefixes.get(address.version)
        own_is_public = packet.public_host or (prefix is not None and prefix.version == 6 and is_public(prefix))
        source = Source("host-public" if own_is_public else "host", prefix=prefix, network=stated.network)
        here = _At(subnet, stated.network, stated.zone, source, address)
        if prefix is None:
            hop = Hop(subnet, None, "", source, stated.zone)
            return _ended(replace(here, hops=(hop,)), subnet, packet, Verdict.NO_ROUTE, f"{subnet} has no IPv6")
        return here

    def _options(self, here: _At, packet: Packet) -> Iterator[tuple[TableRoute | None, str]]:
        """What may be entered next: by name at the start, else by the matching routes, else what is lent."""
        if not here.hops and (name := self._by_name(here.network, packet.destination)):
            yield None, name
            return
        matching = self.routes.of(here.place, here.came_from).match(here.address)
        for route in matching:
            yield route, route.exit
        if not matching:
            yield None, self.estate.fallback_of.get(here.network or "", "")

    def _by_name(self, network: str | None, destination: str | None) -> str:
        """The exit that a network's hosts reach by a destination's name."""
        return self.estate.by_name.get((network, destination), "")

    def _entered(self, here: _At, route: TableRoute | None, name: str, subnet: str, packet: Packet) -> _At | Trace:
        """The packet after one more step."""
        if not name or name == LOCAL or name not in self.estate.exits:
            hop = Hop(here.place, route, name, here.source, here.zone)
            there = replace(here, hops=(*here.hops, hop))
            if name == LOCAL:
                there = replace(there, hops=(*here.hops, replace(hop, source=_shown_by(None, here.source))))
                return self._delivered(there, subnet, packet, None)
            why = f"{name} has failed" if name in self.described.failed else f"{name} does not exist"
            if not name:
                why = f"no route in {self.routes.of(here.place, here.came_from).name} matches, and nothing is assigned"
            return _ended(there, subnet, packet, Verdict.BLACK_HOLE if name else Verdict.NO_ROUTE, why)
        facts = self._facts[name]
        exit_ = facts.model
        via, unreached = self._reached(here, facts, name)
        passing = self._passing(here.address, packet)
        decision = exit_.decides(passing) if not unreached else None
        there = self._moved(here, route, name, facts, via, decision.rule if decision else "")
        # A hub may be passed twice, from different places; anything else that is met again sends in circles.
        once = (here.place, name) if exit_.onward is Onward.HUB else name
        if once in [(hop.subnet, hop.exit) if isinstance(once, tuple) else hop.exit for hop in here.hops]:
            table = self.routes.of(here.place, here.came_from).name
            why = f"{name} sends it back to itself by the table {table} of {here.place}"
            return _ended(there, subnet, packet, Verdict.LOOP, why)
        ending = unreached or self._not_carried(here, facts, name, passing)
        if ending is None and decision is not None and not decision.allowed:
            ending = Verdict.DENIED, f"{name} denies it by {decision.rule}"
        if ending is not None:
            # It goes no further, so that nothing is rewritten.
            stopped = replace(there.hops[-1], source=here.source)
            return _ended(replace(there, source=here.source, hops=(*here.hops, stopped)), subnet, packet, *ending)
        if exit_.onward in (Onward.TABLE, Onward.HUB):
            return there
        if exit_.onward is Onward.JOINED:
            return self._delivered(there, subnet, packet, Onward.JOINED)
        return _ended(there, subnet, packet, Verdict.ARRIVES, "", exit_.onward)

    def _delivered(self, there: _At, subnet: str, packet: Packet, onward: Onward | None) -> Trace:
        """The packet inside the networks of the estate: it arrives where a subnet holds its address."""
        if self.estate.subnet_table.match(there.address) is None:
            why = f"no subnet holds {there.address}"
            return _ended(there, subnet, packet, Verdict.NO_HOST, why)
        return _ended(there, subnet, packet, Verdict.ARRIVES, "", onward)

    def _reached(self, here: _At, facts: _Facts, name: str) -> tuple[str, Ending | None]:
        """The peering crossed on the way to an exit, if any; and why the exit is out of reach, if it is."""
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
                    return peering, (
                        Verdict.BLACK_HOLE,
                        f"{peering} does not let the other side's exits be used",
                    )
                return peering, self._forwarding(here, peering)
        where = target or exit_.attached_to or "no network"
        return "", (
            Verdict.BLACK_HOLE,
            f"{name} belongs to {where}, not to {here.network} nor to a peer of it",
        )

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
            return Verdict.PRIVATE_DESTINATION, f"{name} is an exit to the internet, where {address} is not reachable"
        if exit_.needs_public_source and not here.source.public:
            return Verdict.NO_PUBLIC_SOURCE, f"{name} lets out only public sources"
        if exit_.onward is Onward.JOINED and not self._beyond(here, exit_, address):
            other = " and ".join(one for one in exit_.joins if one != here.network)
            return Verdict.NOT_CARRIED, f"{name} reaches only the prefixes of {other}"
        if why := self._wrong_region(exit_, facts, passing):
            return Verdict.NOT_CARRIED, f"{name} {why}"
        if exit_.carries and passing.destination not in exit_.carries:
            return Verdict.NOT_CARRIED, f"{name} leads to {', '.join(exit_.carries)} only"
        if exit_.onward is Onward.THIRD_PARTY and not any(address in one for one in exit_.announced):
            return Verdict.NOT_CARRIED, f"{name} has received no prefix that holds {address}"
        if offer is not None and exit_.rewrites(address) and passing.protocol not in offer.protocols:
            return Verdict.PROTOCOL_NOT_TRANSLATED, f"{name} does not translate {passing.protocol}"
        return None

    def _beyond(self, here: _At, exit_: ExitModel, address: Address) -> bool:
        """Whether a peering's other side has an address."""
        others = (name for name in exit_.joins if name != here.network)
        return any(address in prefix for name in others for prefix in self.estate.networks[name].prefixes)

    def _wrong_region(self, exit_: ExitModel, facts: _Facts, passing: Passing) -> str:
        """Why an endpoint does not reach a service of another region; empty where it does, or where none is told."""
        if exit_.onward is not Onward.SERVICE:
            return ""
        stated = self.estate.destinations.get(passing.destination or "")
        own, there = self.estate.region_of(exit_), stated.region if stated else ""
        return f"is in region {own}, {passing.destination} in {there}" if own and there and own != there else ""

    def _moved(self, here: _At, route: TableRoute | None, name: str, facts: _Facts, via: str, rule: str) -> _At:
        """The step into an exit: its zone, its network, the source and the address as it rewrites them."""
        exit_, zones = facts.model, facts.zones
        zone = here.zone if not zones or here.zone in zones else zones[0]
        address = here.address
        if exit_.maps_ipv6:
            address = unmapped(address) or address
        source = facts.source if exit_.rewrites(address) else _shown_by(exit_.onward, here.source)
        by_name = route is None and exit_.found_by_name
        hop = Hop(here.place, route, name, source, here.zone, zone, by_name, via, rule)
        if exit_.onward is Onward.HUB:
            return _At(name, None, zone, source, address, (*here.hops, hop), here.network)
        if exit_.onward is Onward.TABLE:
            return _At(exit_.in_subnets[0], facts.network, zone, source, address, (*here.hops, hop))
        return _At(here.place, here.network, zone, source, address, (*here.hops, hop), here.came_from)

    def _passing(self, address: Address, packet: Packet) -> Passing:
        stated = self.estate.destinations.get(packet.destination or "")
        if stated is None:
            return Passing(address, None, (), None, "tcp")
        return Passing(address, packet.destination, stated.names, stated.port, stated.protocol)


def _shown_by(onward: Onward | None, source: Source) -> Source:
    """A host's public IPv4 address is its door's: an endpoint, a joined network or a private line sees its own one."""
    own = source.kind == "host-public" and source.prefix is not None and source.prefix.version == 4
    return replace(source, kind="host") if own and onward not in (Onward.INTERNET, Onward.TABLE) else source


def _ended(here: _At, subnet: str, packet: Packet, verdict: Verdict, why: str, onward: Onward | None = None) -> Trace:
    return Trace(subnet, packet, verdict, here.hops, onward, why)
