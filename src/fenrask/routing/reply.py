"""The way back. An answer is routed on its own; it must come to every hop that keeps state, and to the host."""

from collections.abc import Iterator
from dataclasses import dataclass, field

from fenrask.estate import Estate, Onward
from fenrask.prefixes import Address, Prefix
from fenrask.routing.packets import Hop, Packet, Source, Verdict, Walk
from fenrask.routing.tables import LOCAL, Routes, SubnetTable

__all__ = ["Replies", "WayBack", "way_back"]


@dataclass
class _Leg:
    """A stretch of the way with one source: who owns it, and what kept state on it without rewriting."""

    source: Source
    keepers: list[str] = field(default_factory=list)


class _Lost(Exception):
    """The answer does not come back as it must."""

    def __init__(self, verdict: Verdict, why: str) -> None:
        super().__init__(why)
        self.verdict = verdict
        self.why = why


@dataclass(frozen=True)
class WayBack:
    """Why an answer is lost (None where it comes back), and its steps inside the estate."""

    lost: Verdict | None
    why: str
    hops: tuple[Hop, ...]

    def answer(
        self, subnet: str, packet: Packet, verdict: Verdict, hops: tuple[Hop, ...], onward: Onward | None, why: str
    ) -> Walk:
        """A walk that arrives, with its way back; its verdict changes where the answer is lost."""
        if self.lost is None:
            return Walk(subnet, packet, verdict, hops, onward, why, self.hops)
        return Walk(subnet, packet, self.lost, hops, None, self.why, self.hops)


class Replies:
    """Walks answers back through one estate; equal ways are walked once."""

    def __init__(self, routes: Routes) -> None:
        self.routes = routes
        self._known: dict[tuple[object, ...], WayBack] = {}

    def answered(self, walk: Walk) -> Walk:
        """The walk with its way back; its verdict changes where the answer is lost, or misses a keeper of state."""
        if not walk.verdict.arrives:
            return walk
        # On the internet and in a service all destinations answer alike.
        alike = walk.onward in (Onward.INTERNET, Onward.SERVICE)
        packet = walk.packet
        sender = (walk.subnet, packet.public_host, packet.address.version)
        key = (sender, walk.exits, walk.source.exit, walk.onward, None if alike else packet.address)
        if key not in self._known:
            self._known[key] = way_back(self.routes, walk)
        return self._known[key].answer(walk.subnet, packet, walk.verdict, walk.hops, walk.onward, walk.why)


def way_back(routes: Routes, walk: Walk) -> WayBack:
    """The way back of a walk that arrives."""
    legs = _legs(routes.estate, walk)
    back: list[Hop] = []
    try:
        _first_leg(routes, walk, legs[-1], back)
        for leg, owner in zip(legs[-2::-1], legs[:0:-1], strict=True):
            place = routes.estate.exits[owner.source.exit].stands_in
            if place:
                _along(routes, routes.of(place[0]), place[0], leg, walk, back)
    except _Lost as lost:
        return WayBack(lost.verdict, lost.why, tuple(back))
    return WayBack(None, "", tuple(back))


def _legs(estate: Estate, walk: Walk) -> list[_Leg]:
    subnet = estate.subnets[walk.subnet]
    first = walk.hops[0].source if walk.hops else Source("host")
    if first.kind == "exit":
        wants_v6 = subnet.prefix.version != walk.packet.address.version and subnet.prefix_v6 is not None
        first = Source("host", prefix=subnet.prefix_v6 if wants_v6 else subnet.prefix, network=subnet.network)
    legs = [_Leg(first)]
    for hop in walk.hops:
        if hop.source.kind == "exit" and hop.source.exit == hop.exit:
            legs.append(_Leg(hop.source))
        elif hop.exit in estate.exits and estate.exits[hop.exit].keeps_state:
            legs[-1].keepers.append(hop.exit)
    return legs


def _first_leg(routes: Routes, walk: Walk, leg: _Leg, back: list[Hop]) -> None:
    """From the far side to the owner of the last source."""
    estate = routes.estate
    if walk.onward is Onward.THIRD_PARTY:
        name = walk.exits[-1]
        line = estate.exits[name]
        for prefix in _prefixes(leg.source):
            if line.known_beyond is not None and not any(_holds(known, prefix) for known in line.known_beyond):
                raise _Lost(Verdict.NO_RETURN, f"{name} does not advertise {prefix}: no answer finds its way back")
        place = line.attached_to or ""
        table = routes.of(place) if place else routes.of_network(line.of_network or "")
        _along(routes, table, place, leg, walk, back)
    elif walk.onward in (None, Onward.JOINED):
        origin = _subnet_of(estate, walk.packet.address)
        if origin and not leg.source.public:
            _along(routes, routes.of(origin), origin, leg, walk, back)
        elif leg.keepers:
            raise _missed(leg.keepers[-1])
    else:
        door = walk.exits[-1]
        missed = [one for one in leg.keepers if one != door]
        if missed:
            raise _missed(missed[-1])


def _along(routes: Routes, table: SubnetTable, place: str, leg: _Leg, walk: Walk, back: list[Hop]) -> None:
    """Follow tables from a place to the owner of a private source, past exactly the keepers of its leg."""
    target = _representative(leg.source)
    due = list(reversed(leg.keepers))
    passed: list[str] = []
    while target is not None:
        matching = table.match(target)
        route = matching[0] if matching else None
        name = route.exit if route else ""
        back.append(Hop(place, route, name, leg.source))
        if not name:
            raise _Lost(Verdict.NO_RETURN, f"no route in {table.name} leads the answer back to {target}")
        following = _next_place(routes.estate, name, place, target, walk) if name != LOCAL else None
        if following is None:
            break
        if name in passed:
            raise _Lost(Verdict.NO_RETURN, f"the answer to {target} runs in circles at {name}")
        if routes.estate.exits[name].keeps_state:
            passed.append(name)
        came_from = routes.estate.subnets[place].network if place in routes.estate.subnets else None
        place, table = following, routes.of(following, came_from)
    if strangers := [one for one in passed if one not in due]:
        raise _Lost(Verdict.OTHER_RETURN, f"the answer meets {strangers[0]}, which never saw the question")
    if missed := [one for one in due if one not in passed]:
        raise _missed(missed[0])


def _next_place(estate: Estate, name: str, place: str, target: Address, walk: Walk) -> str | None:
    """Where an exit takes the answer; None where it is delivered in a peered network."""
    way = estate.exits.get(name)
    if way is None or way.fault:
        raise _Lost(Verdict.NO_RETURN, f"the answer to {target} ends at {name}")
    if way.onward is Onward.JOINED:
        if not way.takes_forwarded and not _inside(estate, place, walk.packet.address):
            raise _Lost(Verdict.NO_RETURN, f"{name} takes no forwarded packets: the answer ends there")
        return None
    if way.onward is Onward.HUB:
        return name
    if way.is_machine:
        inside: str = way.stands_in[0]
        return inside
    raise _Lost(Verdict.NO_RETURN, f"the answer to {target} is sent to {name}, which cannot deliver it")


def _missed(name: str) -> _Lost:
    return _Lost(Verdict.OTHER_RETURN, f"the answer does not come back by {name}, which keeps state")


def _representative(source: Source) -> Address | None:
    return source.prefix[0] if source.prefix is not None else None


def _prefixes(source: Source) -> Iterator[Prefix]:
    """The prefixes that the far side has to know to answer a private source."""
    if source.prefix is not None:
        yield source.prefix


def _holds(outer: Prefix, inner: Prefix) -> bool:
    return outer.version == inner.version and inner.subnet_of(outer)  # type: ignore[arg-type]


def _subnet_of(estate: Estate, address: Address) -> str | None:
    """The subnet of our own that holds an address, if one does."""
    found = estate.subnet_table.match(address)
    return found[1] if found else None


def _inside(estate: Estate, place: str, address: Address) -> bool:
    """Whether an address belongs to the network of a place, so that its answers are not forwarded ones."""
    subnet = estate.subnets.get(place)
    return subnet is not None and any(address in one for one in estate.networks[subnet.network].prefixes)
