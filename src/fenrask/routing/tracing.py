"""The trace of one packet from a subnet, exit by exit, to its verdict, and back."""

from bisect import bisect_right
from collections.abc import Container, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from fenrask.estate import Described, ExitModel, Offer, Onward, Passing
from fenrask.prefixes import Address, Block, is_public, mapped_to_ipv6, unmapped, usable
from fenrask.routing.classes import Classes, IpStack
from fenrask.routing.filters import Filters
from fenrask.routing.packets import Hop, Packet, Source, Trace, Verdict
from fenrask.routing.policies import Policies
from fenrask.routing.reach import reached
from fenrask.routing.reply import Replies
from fenrask.routing.tables import LOCAL, Routes, TableRoute

__all__ = ["Rest", "Tracer"]

Ending = tuple[Verdict, str]
_ALL = Fraction(1)


Met = str | tuple[str, str]
"""An exit that was passed; a hub with the place that it was entered from, since it may be passed twice."""


@dataclass(frozen=True, slots=True)
class _At:
    """Where a packet is, and as what."""

    place: str
    network: str | None
    """None at a hub."""
    zone: str | None
    source: Source
    kind: Hashable
    """What stands for its source, and for the place if that is its host."""
    address: Address
    came_from: str | None = None
    """The network from which a hub was entered."""
    starts: bool = False
    """Whether it is still in its host."""
    bound: str = ""
    """The endpoint of another network that it is for, since a name resolved to it: its address is the endpoint's."""
    until: tuple[str, int] = ("", 0)
    """Where it comes from outside: the exit that forwards it to hosts, as far as which it is followed, and the port."""


@dataclass(frozen=True, slots=True)
class Rest:
    """The rest of a path, from a place to its end: the hops from there, and the exits that these pass."""

    verdict: Verdict
    reason: str
    hops: tuple[Hop, ...]
    onward: Onward | None = None
    there: str = ""
    """The subnet of the estate that they are delivered in."""
    share: Fraction = _ALL
    passed: frozenset[Met] = frozenset()

    def after(self, hop: Hop, met: Met, share: Fraction) -> "Rest":
        """The same, one hop earlier."""
        part = self.share if share == 1 else share * self.share
        return Rest(
            self.verdict, self.reason, (hop, *self.hops), self.onward, self.there, part, self.passed | {met}
        )  # fmt: skip


@dataclass(frozen=True)
class _Facts:
    """What is asked of an exit at every step, worked out once."""

    model: ExitModel
    network: str | None
    zones: tuple[str, ...]
    offer: Offer | None
    sources: tuple[tuple[Source, Hashable, Fraction], ...]
    """The sources that it rewrites to, one of each class, with what stands for it, and their shares."""
    own_sources: Mapping[str, tuple[tuple[Source, Hashable, Fraction], ...]]
    """The same by destination, for those that see addresses of their own."""

    @property
    def onward(self) -> Onward:
        return self.model.onward

    def toward(self, destination: str | None) -> tuple[tuple[Source, Hashable, Fraction], ...]:
        """What a destination sees."""
        return self.own_sources.get(destination or "", self.sources)


def _asked_as(address: Address, versions: Container[int]) -> Address | None:
    """An address as a host of these IP versions asks for it: mapped where it has only IPv6; None where it cannot."""
    if address.version in versions:
        return address
    return mapped_to_ipv6(address) if address.version == 4 and 6 in versions else None


class Tracer:
    """Follows single packets through one estate: each there, back, and past all filters.

    Where two packets are treated the same, in one place, the rest of their path is followed once.

    Longest prefix first, then origin (RFC 1812), then all equal routes; a matched route is final even
    where its exit is gone. An exit that is in a subnet looks that subnet's table up in turn. A
    packet arrives only where its reply comes back, past every hop that keeps state.
    """

    def __init__(self, described: Described) -> None:
        self.described = described
        self.estate = described.estate
        self.routes = Routes(described)
        self.filters = Filters(self.estate)
        self.policies = Policies(self.estate)
        self.classes = Classes(self.routes)
        self._facts = {name: self._facts_of(name) for name in self.estate.exits}
        self.replies = Replies(self.routes, self.classes)
        self._known: dict[tuple[Hashable, ...], list[tuple[Trace, Fraction]]] = {}
        self.boxes: dict[Hashable, Any] = {}
        """What is known of outcomes, by classes: see `routing.portions`."""
        self._followed: dict[tuple[Hashable, ...], list[Rest]] = {}
        self._asked: dict[tuple[str, IpStack], list[tuple[int, int]]] = {}
        self._steps: dict[Hashable, int] = {}
        self._signs: dict[str, dict[int, tuple[list[int], list[Hashable]]]] = {}
        self._entries: dict[tuple[str, str], tuple[Address | None, bool]] = {}

    def _facts_of(self, name: str) -> _Facts:
        model = self.estate.exits[name]
        network = self.estate.network_of(model)
        shown = {to: tuple(self._shown(name, model, network, to)) for to in ("", *model.own_addresses)}
        offer = self.described.offer_of(name)
        return _Facts(model, network, self.estate.zones_at_work(model), offer, shown.pop(""), shown)

    def _shown(
        self, name: str, model: ExitModel, network: str | None, toward: str
    ) -> Iterator[tuple[Source, Hashable, Fraction]]:
        """The sources that an exit rewrites to, toward one destination or (empty) the rest: see `_Facts.sources`."""
        whole = Source("exit", name, model.listed_toward(toward), model.pool, network, toward=toward)
        blocks = [Block.of(model.pool)] if model.pool else [Block(a.version, int(a), int(a)) for a in whole.addresses]
        pieces = self.classes.sources.pieces(blocks)
        size = sum(piece.size for piece in pieces)
        for piece in pieces:
            kind = (name, toward, piece.kind)
            yield replace(whole, address=piece.blocks[0].address), kind, Fraction(piece.size, size)
        if not pieces:
            yield whole, (name, toward, None), _ALL

    def traces(self, subnet: str, packet: Packet, workload: str | None = None) -> list[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet, with the share of each.

        There are several where routes are equal, or where an exit shows it from addresses that are treated differently.
        `workload`: whose filters count; default: of none.
        """
        packet, begun = self.origin(subnet, packet)
        return self._judged(subnet, packet, begun.source, self._onward(begun, packet, frozenset()), workload)

    def class_traces(self, subnet: str, packet: Packet, workload: str | None) -> list[tuple[Trace, Fraction]]:
        """The same of a packet that may be any of its classes, traced once: see `Trace.of`."""
        key = (self.classes.key(subnet, packet, workload), self.first_step(subnet, packet.address, packet.destination))
        if key not in self._known:
            self._known[key] = self.traces(subnet, packet, workload)
        return self._known[key]

    def first_steps(self, subnet: str, destinations: Iterable[str]) -> Iterator[int]:
        """For each destination a number for what a subnet's table does with its addresses, class by class."""
        if subnet not in self._signs:
            winners = self.routes.of(subnet).winners.sections
            self._signs[subnet] = {
                version: (starts, [self._sign(subnet, won[1] if won else ()) for won in some])
                for version, (starts, some) in winners.items()
            }
        signs = self._signs[subnet]
        stack = self.classes.stacks[subnet]
        for to in destinations:
            name = self._by_name(subnet, to)
            steps = name or tuple(
                signs[version][1][bisect_right(signs[version][0], number) - 1] if version else self._no_family(subnet)
                for version, number in self._numbers(to, stack)
            )
            yield self._steps.setdefault(steps, len(self._steps))

    def _numbers(self, to: str, stack: IpStack) -> list[tuple[int, int]]:
        """The addresses that stand for a destination's, as hosts of these IP versions ask for them; 0 for none."""
        key = (to, stack)
        if key not in self._asked:
            addresses = [_asked_as(one.address, stack.versions) for one in self.classes.targets_of(to, stack)]
            self._asked[key] = [(0, 0) if one is None else (one.version, int(one)) for one in addresses]
        return self._asked[key]

    def _sign(self, subnet: str, matching: Sequence[TableRoute]) -> Hashable:
        """What routes say to who asks no other table: which exits they name, and whether by a default."""
        table = self.routes.of(subnet)
        if not matching:
            return self.estate.fallback_of.get(table.network or "") or ("nothing", table.name)
        return tuple(
            (one.exit, not one.prefix.prefixlen)
            if one.exit in self._facts or one.exit == LOCAL
            else (one.exit, table.name)
            for one in matching
        )

    def _no_family(self, subnet: str) -> Hashable:
        return ("no family", self.routes.of(subnet).name)

    def first_step(self, subnet: str, address: Address, to: str | None = None) -> Hashable:
        """What may be entered first: see `first_steps`, of one address."""
        asked = _asked_as(address, self.classes.stacks[subnet].versions)
        if asked is None:
            return self._no_family(subnet)
        return self._by_name(subnet, to) or self._sign(subnet, self.routes.of(subnet).match(asked))

    def _by_name(self, subnet: str, to: str | None) -> Hashable:
        """The endpoint that a name resolves to, with what the subnet's table does with its address if it is far."""
        place = self.estate.subnets[subnet]
        name = self.estate.by_name.get((subnet, to))
        if name is None:
            return name
        entry, is_diverted = self._entry(subnet, name)
        if self._facts[name].network == place.network and not is_diverted:
            return name
        return name, entry is not None and self._sign(subnet, self.routes.of(subnet).match(entry))

    def _entry(self, subnet: str, name: str) -> tuple[Address | None, bool]:
        """Where hosts of a subnet enter what they find by name; and whether a route takes that elsewhere than there."""
        if (subnet, name) not in self._entries:
            exit_, zone = self._facts[name].model, self.estate.subnets[subnet].zone
            entry = self.estate.entry_of(exit_, zone, self.classes.stacks[subnet].versions)
            matching = self.routes.of(subnet).match(entry) if entry is not None else ()
            self._entries[subnet, name] = entry, any(one.exit != LOCAL for one in matching)
        return self._entries[subnet, name]

    def first_route(self, subnet: str, packet: Packet, exit_name: str) -> TableRoute | None:
        """The route by which a packet from a subnet is sent to an exit; None where no route is."""
        _, begun = self.origin(subnet, packet)
        begun, asked = self._aimed(begun, packet.destination)
        steps = self._options(subnet, None, begun.network, begun.address, asked)
        return next((route for route, name in steps if name == exit_name), None)

    def entered(
        self,
        place: str,
        zone: str | None,
        sender: tuple[Source, Hashable],
        packet: Packet,
        until: tuple[str, int] = ("", 0),
    ) -> list[Rest]:
        """The rest of the paths of a packet from outside, from a place that it came to: a hub, a subnet, or an exit.

        sender: with what stands for all of its class beside address and place. until: an exit at which they end, if
        they get there, and the port there that it is sent to; the exit's address is then the packet's.
        """
        network, (source, kind) = self._network_at(place), sender
        begun = _At(place, network, zone, source, (kind, *until), packet.address, until=until)
        return self._onward(begun, packet, frozenset())

    def _network_at(self, place: str) -> str | None:
        if place in self.estate.subnets:
            return self.estate.subnets[place].network
        return None if self.estate.exits[place].joins_many else self._facts[place].network

    def unjudged(self, subnet: str, packet: Packet) -> Iterator[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet there and back, past no filter yet, with the share of each."""
        packet, begun = self.origin(subnet, packet)
        for rest in self._onward(begun, packet, frozenset()):
            hops = tuple(hop.of_origin(begun.source) for hop in rest.hops)
            trace = Trace(subnet, packet, rest.verdict, hops, begun.source, rest.onward, rest.reason, (), rest.there)
            for each, part in self.replies.returned(trace) if trace.verdict.arrives else [(trace, _ALL)]:
                yield each, rest.share * part

    def through(self, subnet: str, packet: Packet, name: str) -> list[tuple[Trace, Fraction]]:
        """The paths of a packet from a subnet, were its route to name this exit: there and back."""
        packet, begun = self.origin(subnet, packet)
        found = list(self._entered(begun, (None, name), packet, frozenset(), _ALL))
        return self._judged(subnet, packet, begun.source, found, None)

    def _judged(
        self, subnet: str, packet: Packet, origin: Source, found: Sequence[Rest], workload: str | None
    ) -> list[tuple[Trace, Fraction]]:
        """Paths there with their return paths, past all filters."""
        traces = []
        for rest in found:
            # What is known from others has their hosts' addresses.
            hops = tuple(hop.of_origin(origin) for hop in rest.hops)
            trace = Trace(subnet, packet, rest.verdict, hops, origin, rest.onward, rest.reason, (), rest.there)
            known = [(trace, _ALL)]
            if trace.verdict.arrives and (why := self.policies.denial(trace, workload)):
                known = [(replace(trace, verdict=Verdict.DENIED, onward=None, reason=why), _ALL)]
            elif trace.verdict.arrives:
                known = self.replies.returned(trace)
            for each, part in known:
                traces.append((self.filters.passed(each, workload), rest.share if part == 1 else rest.share * part))
        return traces

    def origin(self, subnet: str, packet: Packet) -> tuple[Packet, _At]:
        """A packet in its host: of a family that its subnet has, mapped where it has only IPv6."""
        stated = self.estate.subnets[subnet]
        prefixes = {one.version: one for one in stated.prefixes}
        address = packet.address
        if address.version not in prefixes and address.version == 4:
            address = mapped_to_ipv6(address)
        prefix = prefixes.get(address.version)
        if packet.host is None and prefix is not None:
            host_address = usable(prefix).address
            packet = replace(packet, host=host_address)
        own_is_public = prefix is not None and prefix.version == 6 and is_public(prefix)
        kind = "host-public" if own_is_public else "host"
        public = packet.public_host and (prefix is None or prefix.version == 4)
        source = Source(kind, prefix=prefix, network=stated.network, address=packet.host, may_be_public=public)
        host = self.classes.host_kind(subnet, packet)
        return packet, _At(subnet, stated.network, stated.zone, source, host, address, starts=True)

    def _onward(self, here: _At, packet: Packet, met: frozenset[Met]) -> list[Rest]:
        """How a packet goes on from a place; what is treated the same is followed once, whichever way it came there.

        `met`: the exits that it passed before. Only what meets none of them again is known from others.
        """
        if here.starts and here.source.prefix is None and here.source.kind == "host":
            options: list[tuple[TableRoute | None, str]] = [(None, "")]
        else:
            here, asked = self._aimed(here, packet.destination if here.starts else None)
            # Of what comes from outside, only what a route matches goes on: no exit takes the rest inward.
            network = None if here.source.kind == "remote" else here.network
            options = list(self._options(here.place, here.came_from, network, here.address, asked))
        target = self.classes.target_kind(packet)
        key = (here.place, here.zone, here.kind, here.came_from, here.address.version, here.bound, target)
        # What is sent from a host is known by its class: see `class_traces`.
        known = None if here.starts else self._followed.get(key)
        if known is not None and not any(met & one.passed for one in known):
            return known
        share = _ALL if len(options) == 1 else Fraction(1, len(options))
        found = [one for step in options for one in self._entered(here, step, packet, met, share)]
        if known is None and not here.starts and not any(one.verdict is Verdict.LOOP for one in found):
            self._followed[key] = found
        return found

    def _aimed(self, here: _At, asked: str | None) -> tuple[_At, str | None]:
        """A packet in its host with the address that the name resolves to, where tables decide how it gets there.

        That is where the exit is another network's, or a route takes its address elsewhere. Second, what is still asked
        for by name: nothing then.
        """
        named = self.estate.by_name.get((here.place, asked), "") if asked is not None else ""
        if not named:
            return here, asked
        entry, is_diverted = self._entry(here.place, named)
        if self._facts[named].network == here.network and not is_diverted:
            return here, asked
        return replace(here, address=entry or here.address, bound=named), None

    def _options(
        self, place: str, came_from: str | None, network: str | None, address: Address, asked: str | None
    ) -> Iterator[tuple[TableRoute | None, str]]:
        """What may be entered next: by the name asked for, else by the matching routes, else what is assigned."""
        if asked is not None and (name := self.estate.by_name.get((place, asked), "")):
            yield None, name
            return
        matching = self.routes.of(place, came_from).match(address)
        for route in matching:
            yield route, route.exit
        if not matching:
            yield None, self.estate.fallback_of.get(network or "", "")

    def _entered(
        self, here: _At, step: tuple[TableRoute | None, str], packet: Packet, met: frozenset[Met], share: Fraction
    ) -> Iterator[Rest]:
        """How packets go on by a next hop: one path for each class of addresses that the exit shows them from.

        step: the route, if any, and the exit that it names.
        """
        route, name = step
        if name not in self._facts:
            ended = self._beyond_exits(here, route, name, share)
            is_asked = ended.verdict.arrives and here.bound and self._facts[here.bound].onward is Onward.TABLE
            yield from self._asking(here, ended, packet, met) if is_asked else (ended,)
            return
        facts = self._facts[name]
        exit_ = facts.model
        if here.until[0] == name:
            hop = Hop(here.place, route, name, here.source, here.zone, facts.zones[0] if facts.zones else here.zone)
            yield Rest(Verdict.ARRIVES, "", (hop,), None, exit_.in_subnets[0] if exit_.in_subnets else "", share)
            return
        via, unreached = self._reached(here, facts, name)
        passing = self._passing(here, packet)
        decision = exit_.decides(passing) if not unreached else None
        rule = decision.rule if decision else ""
        passed: Met = (here.place, name) if exit_.onward is Onward.HUB else name
        ending = unreached or self._not_carried(here, facts, name, passing)
        if passed in met:
            table = self.routes.of(here.place, here.came_from).name
            ending = Verdict.LOOP, f"{name} sends it back to itself by the table {table} of {here.place}"
        elif ending is None and decision is not None and not decision.allowed:
            ending = Verdict.DENIED, f"{name} denies it by {decision.rule}"
        zone = here.zone if not facts.zones or here.zone in facts.zones else facts.zones[0]
        by_name = route is None and exit_.found_by_name
        if ending is not None:
            ending = ending[0], self._aimed_at(here, ending[1])
            # It goes no further, so that nothing is rewritten.
            source = here.source if self._rewrites(here, exit_) else self._unwritten(here, facts)
            hop = Hop(here.place, route, name, source, here.zone, zone, by_name, via, rule)
            yield Rest(*ending, (hop,), share=share, passed=frozenset((passed,)))
            return
        opens_ipv4 = exit_.maps_ipv6 or exit_.asked_at is not None
        address = (unmapped(here.address) or here.address) if opens_ipv4 else here.address
        rewritten = self._rewrites(replace(here, address=address), exit_)
        unwritten = ((self._unwritten(here, facts), here.kind, _ALL),)
        shown = facts.toward(passing.destination) if rewritten else unwritten
        for source, kind, part in shown:
            hop = Hop(here.place, route, name, source, here.zone, zone, by_name, via, rule)
            whole = share if part == 1 else share * part
            if exit_.onward is Onward.HUB:
                there = _At(name, None, zone, source, kind, address, here.network, bound=here.bound, until=here.until)
            elif exit_.onward is Onward.TABLE:
                there = _At(
                    exit_.in_subnets[0], facts.network, zone, source, kind, address, bound=here.bound, until=here.until
                )
            else:
                yield self._left(here, facts, hop, whole, passed)
                continue
            for rest in self._onward(there, packet, met | {passed}):
                yield rest.after(hop, passed, whole)

    def _asking(self, here: _At, ended: Rest, packet: Packet, met: frozenset[Met]) -> Iterator[Rest]:
        """On from an exit that hosts ask, and that a packet came to by its address: to what they ask it for."""
        [hop], zone = ended.hops, self.estate.subnets[ended.there].zone
        at = replace(here, place=ended.there, zone=zone, address=packet.address, bound="", starts=False)
        for rest in self._entered(at, (None, here.bound), packet, met | ended.passed, ended.share):
            yield Rest(
                rest.verdict,
                rest.reason,
                (hop, *rest.hops),
                rest.onward,
                rest.there,
                rest.share,
                rest.passed | ended.passed,
            )

    def _rewrites(self, here: _At, exit_: ExitModel) -> bool:
        """Whether an exit shows a packet from an address of its own: not one that comes in."""
        return here.source.kind != "remote" and exit_.rewrites(here.address)

    def _left(self, here: _At, facts: _Facts, hop: Hop, share: Fraction, passed: Met) -> Rest:
        """A packet past the last exit: in a joined network, or beyond the estate."""
        exit_ = facts.model
        if exit_.onward is Onward.JOINED:
            other = next((one for one in exit_.joins if one != here.network), here.network or "")
            delivered = self._delivered(here, hop, other, Onward.JOINED, share)
            return replace(delivered, passed=delivered.passed | {passed})
        return Rest(Verdict.ARRIVES, "", (hop,), exit_.onward, "", share, frozenset((passed,)))

    def _beyond_exits(self, here: _At, route: TableRoute | None, name: str, share: Fraction) -> Rest:
        """A packet where no exit takes it: inside its network, or nowhere."""
        hop = Hop(here.place, route, name, here.source, here.zone)
        if name == LOCAL and route is not None:
            # At a hub the local routes are called by the networks that they belong to.
            return self._delivered(here, hop, here.network or route.key, None, share)
        if name:
            return Rest(Verdict.BLACK_HOLE, f"{name} {self.described.why_gone(name)}", (hop,), share=share)
        if here.source.prefix is None and here.source.kind == "host":
            return Rest(Verdict.NO_ROUTE, f"the subnet has no IPv{here.address.version}", (hop,), share=share)
        table = self.routes.of(here.place, here.came_from).name
        reason = f"no route in {table} matches, and nothing is assigned"
        return Rest(Verdict.NO_ROUTE, reason, (hop,), share=share)

    def _delivered(self, here: _At, hop: Hop, network: str, onward: Onward | None, share: Fraction) -> Rest:
        """A packet inside a network of the estate: it arrives where a subnet holds its address."""
        there = self.routes.subnet_at(network, here.address) or self._at_pool(here, network)
        if there is None:
            return Rest(Verdict.NO_HOST, self._aimed_at(here, "no subnet holds {to}"), (hop,), share=share)
        if here.bound and self._facts[here.bound].onward is not Onward.TABLE:
            return self._at_endpoint(here, hop, there, share)
        return Rest(Verdict.ARRIVES, "", (hop,), onward, there, share)

    def _at_pool(self, here: _At, network: str) -> str | None:
        """The subnet of the exit that forwards what comes in, where it is sent to its private pool in its network."""
        facts = self._facts.get(here.until[0])
        if (
            facts is None
            or facts.network != network
            or facts.model.pool is None
            or here.address not in facts.model.pool
        ):
            return None
        return facts.model.in_subnets[0] if facts.model.in_subnets else None

    def _aimed_at(self, here: _At, reason: str) -> str:
        """A reason with the address of the endpoint that a packet is for, where it is for one of another network."""
        return reason.replace("{to}", f"{here.bound} at {here.address}") if here.bound else reason

    def _at_endpoint(self, here: _At, hop: Hop, there: str, share: Fraction) -> Rest:
        """A packet that was sent to an endpoint of another network, in the subnet that holds its address."""
        facts = self._facts[here.bound]
        zone = self.estate.subnets[there].zone
        entered = Hop(there, None, here.bound, hop.source, hop.to_zone or here.zone, zone, True)
        passed: frozenset[Met] = frozenset((here.bound,))
        at = replace(here, place=there, network=facts.network)
        passing = Passing(here.address, (facts.model.carries or ("",))[0], (), None, "tcp", here.source.address)
        if ending := self._not_carried(at, facts, here.bound, passing):
            return Rest(*ending, (hop, entered), share=share, passed=passed)
        return Rest(Verdict.ARRIVES, "", (hop, entered), facts.onward, "", share, passed)

    def _unwritten(self, here: _At, facts: _Facts) -> Source:
        """The source of a packet after an exit that does not translate it: an internet exit shows public hosts so."""
        if facts.onward is Onward.INTERNET and here.source.may_be_public:
            return replace(here.source, kind="host-public")
        return here.source

    def _reached(self, here: _At, facts: _Facts, name: str) -> tuple[str, Ending | None]:
        """The peering crossed on the path to an exit, if any; and why the exit is out of reach, if it is."""
        peering, why = reached(self.estate, here.place, here.network, name)
        if why:
            return peering, (Verdict.BLACK_HOLE, why)
        if facts.model.onward is Onward.JOINED and here.network in facts.model.joins:
            return "", self._forwarding(here, name)
        return peering, self._forwarding(here, peering)

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
        if why := self._wrong_family(here, exit_, name):
            return Verdict.FAMILY_NOT_CARRIED, why
        if self._takes_replies_alone(here, exit_):
            return Verdict.NOT_CARRIED, f"{name} takes only replies from outside"
        if exit_.onward is Onward.INTERNET and not is_public(unmapped(address) or address):
            return Verdict.PRIVATE_DESTINATION, f"{name} is an exit to the internet, where {{to}} is not reachable"
        if exit_.needs_public_source and not here.source.public:
            return Verdict.NO_PUBLIC_SOURCE, f"{name} lets out only public sources"
        if exit_.onward is Onward.JOINED and not self._beyond(here, exit_, address):
            other = " and ".join(one for one in exit_.joins if one != here.network)
            return Verdict.NOT_CARRIED, f"{name} reaches only the prefixes of {other}"
        if why := self._not_served(exit_, passing):
            return Verdict.NOT_CARRIED, f"{name} {why}"
        if exit_.onward is Onward.THIRD_PARTY and not any(address in one for one in exit_.announced):
            return Verdict.NOT_CARRIED, f"{name} has received no prefix that holds {{to}}"
        if offer is not None and self._rewrites(here, exit_) and passing.protocol not in offer.protocols:
            return Verdict.PROTOCOL_NOT_TRANSLATED, f"{name} does not translate {passing.protocol}"
        return None

    def _wrong_family(self, here: _At, exit_: ExitModel, name: str) -> str:
        """Why an exit carries no packet of an IP version; empty where it does."""
        if here.starts and exit_.found_by_name and self._entry(here.place, name)[0] is None:
            return f"{name} has no address of an IP version that hosts of {here.place} have"
        mapped = unmapped(here.address) is not None
        if mapped and (exit_.maps_ipv6 or exit_.asked_at is not None):
            return ""
        if here.address.version not in exit_.families:
            return f"{name} carries no IPv{here.address.version}"
        # The well-known prefix is not routed on the internet (RFC 6052, section 3.2).
        return f"{name} takes no IPv6 to IPv4" if mapped and exit_.onward is Onward.INTERNET else ""

    @staticmethod
    def _takes_replies_alone(here: _At, exit_: ExitModel) -> bool:
        """Whether a packet comes in to an exit that keeps state and routes nothing."""
        return here.source.kind == "remote" and exit_.keeps_state and not exit_.is_machine

    def _beyond(self, here: _At, exit_: ExitModel, address: Address) -> bool:
        """Whether a peering's other side has an address."""
        others = (name for name in exit_.joins if name != here.network)
        return any(address in prefix for name in others for prefix in self.estate.networks[name].prefixes)

    def _not_served(self, exit_: ExitModel, passing: Passing) -> str:
        """Why an endpoint does not reach what a packet is for; empty where it does."""
        if why := self._wrong_region(exit_, passing):
            return why
        if exit_.carries and passing.destination not in exit_.carries and passing.named.isdisjoint(exit_.carries):
            return f"leads to {', '.join(exit_.carries)} only"
        return ""

    def _wrong_region(self, exit_: ExitModel, passing: Passing) -> str:
        """Why an endpoint does not reach a service of another region; empty where it does, or none is stated."""
        carried = exit_.carries or () if exit_.onward is Onward.SERVICE else ()
        own = self.estate.region_of(exit_)
        for to in carried:
            there = self.estate.destinations[to].region
            if (to == passing.destination or to in passing.named) and own and there and own != there:
                return f"is in region {own}, {to} in {there}"
        return ""

    def _passing(self, here: _At, packet: Packet) -> Passing:
        to, source = packet.destination, here.source.address
        stated, named = self.estate.remotes.get(to or ""), self.estate.named_addresses.at(here.address)
        port, protocol = packet.transport or ((None, "tcp") if stated is None else (stated.port, stated.protocol))
        if stated is None or here.source.kind == "remote":
            return Passing(here.address, None, (), here.until[1] or port, protocol, source, named)
        names = stated.names if packet.names is None else packet.names
        if to is not None and not stated.prefixes:
            named |= {to}
        return Passing(here.address, to, names, port, protocol, source, named)
