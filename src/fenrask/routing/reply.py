"""The return path. A reply is routed on its own; it must come back to every hop that keeps state, and to the host."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from fenrask.estate import Estate, Onward
from fenrask.prefixes import Address, Prefix, covers, fewest_prefixes, is_public
from fenrask.routing.packets import Hop, Packet, Source, Trace, Verdict, first_source
from fenrask.routing.tables import LOCAL, Routes, SubnetTable

__all__ = ["Replies", "ReturnPath", "return_path"]


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
class ReturnPath:
    """Why an answer is lost (None where it comes back), and its steps inside the estate."""

    lost: Verdict | None
    why: str
    hops: tuple[Hop, ...]

    def reply(
        self, subnet: str, packet: Packet, verdict: Verdict, hops: tuple[Hop, ...], onward: Onward | None, why: str
    ) -> Trace:
        """A walk that arrives, with its way back; its verdict changes where the answer is lost."""
        if self.lost is None:
            return Trace(subnet, packet, verdict, hops, onward, why, self.hops)
        return Trace(subnet, packet, self.lost, hops, None, self.why, self.hops)


class Replies:
    """Walks answers back through one estate; equal ways are walked once."""

    def __init__(self, routes: Routes) -> None:
        self.routes = routes
        self._known: dict[tuple[object, ...], ReturnPath] = {}

    def replied(self, trace: Trace) -> Trace:
        """The walk with its way back; its verdict changes where the answer is lost, or misses a keeper of state."""
        if not trace.verdict.arrives:
            return trace
        # On the internet and in a service all destinations answer alike.
        alike = trace.onward in (Onward.INTERNET, Onward.SERVICE)
        packet = trace.packet
        sender = (trace.subnet, packet.public_host, packet.address.version)
        key = (sender, trace.exits, trace.source.exit, trace.onward, None if alike else packet.address)
        if key not in self._known:
            self._known[key] = return_path(self.routes, trace)
        return self._known[key].reply(trace.subnet, packet, trace.verdict, trace.hops, trace.onward, trace.why)


def return_path(routes: Routes, trace: Trace) -> ReturnPath:
    """The return path of a trace that arrives."""
    legs = _legs(routes.estate, trace)
    back: list[Hop] = []
    try:
        _first_leg(routes, trace, legs[-1], back)
        for leg, owner in zip(legs[-2::-1], legs[:0:-1], strict=True):
            name = owner.source.exit
            places = routes.estate.exits[name].in_subnets
            if (own := routes.of_exit(name)) is not None:
                _along(routes, own, places[0] if places else "", leg, trace, back)
            elif places:
                _along(routes, routes.of(places[0]), places[0], leg, trace, back)
    except _Lost as lost:
        return ReturnPath(lost.verdict, lost.why, tuple(back))
    return ReturnPath(None, "", tuple(back))


def _legs(estate: Estate, trace: Trace) -> list[_Leg]:
    legs = [_Leg(first_source(estate, trace))]
    for hop in trace.hops:
        if hop.source.kind == "exit" and hop.source.exit == hop.exit:
            legs.append(_Leg(hop.source))
        elif hop.exit in estate.exits and estate.exits[hop.exit].keeps_state:
            legs[-1].keepers.append(hop.exit)
    return legs


def _first_leg(routes: Routes, trace: Trace, leg: _Leg, back: list[Hop]) -> None:
    """From the remote end to the owner of the last source."""
    estate = routes.estate
    if trace.onward is Onward.THIRD_PARTY:
        line = estate.exits[_answering_line(estate, trace.exits[-1], leg.source)]
        place = line.attached_to or ""
        table = routes.of(place) if place else routes.of_network(line.of_network or "")
        _along(routes, table, place, leg, trace, back)
    elif trace.onward in (None, Onward.JOINED):
        origin = _subnet_of(estate, trace.packet.address)
        if origin and not leg.source.public:
            _along(routes, routes.of(origin), origin, leg, trace, back)
        elif leg.keepers:
            raise _missed(leg.keepers[-1])
    else:
        last = trace.exits[-1]
        table_of_its_own = routes.of_exit(last) if leg.source.exit != last else None
        if table_of_its_own is not None and (target := _behind(estate, leg.source)) is not None:
            _along(routes, table_of_its_own, "", replace(leg, keepers=_without(leg, last)), trace, back, target)
            return
        missed = _without(leg, last)
        if missed:
            raise _missed(missed[-1])


def _without(leg: _Leg, name: str) -> list[str]:
    return [one for one in leg.keepers if one != name]


def _behind(estate: Estate, source: Source) -> Address | None:
    """Where an internet exit sends what comes back to a source: to the subnet of the host, or of the translator."""
    if source.exit and source.exit in estate.exits:
        places = estate.exits[source.exit].in_subnets
        return estate.subnets[places[0]].prefix[0] if places else None
    return _representative(source)


def _answering_line(estate: Estate, name: str, source: Source) -> str:
    """The line by which a third party replies: of all to it, that which advertises the longest prefix of the source."""
    line = estate.exits[name]
    if line.known_beyond is None:
        return name
    party = line.party
    rivals = [one for one, exit_ in estate.exits.items() if party and exit_.party == party and not exit_.fault]
    lines = [name, *(one for one in rivals if one != name)]
    lengths = {one: _advertised_length(estate.exits[one].known_beyond or (), source) for one in lines}
    best = max(lines, key=lambda one: lengths[one])
    if lengths[best] < 0:
        raise _Lost(Verdict.NO_RETURN, f"{name} does not advertise {_shown(source)}: no reply finds its way back")
    return best


def _advertised_length(advertised: Sequence[Prefix], source: Source) -> int:
    """The longest advertised prefix that holds a source, by its length; -1 where none does."""
    if source.prefix is not None:
        wanted: Sequence[Prefix] = (source.prefix,)
    elif source.addresses:
        wanted = fewest_prefixes(source.addresses)
    else:
        # Addresses that are yet to be bought: any public prefix may be theirs.
        return max((one.prefixlen for one in advertised if is_public(one)), default=-1)
    held = [max((one.prefixlen for one in advertised if covers(one, each)), default=-1) for each in wanted]
    return min(held, default=-1)


def _shown(source: Source) -> str:
    if source.prefix is not None:
        return str(source.prefix)
    return f"the addresses of {source.exit}" if source.exit else str(source)


def _along(
    routes: Routes,
    table: SubnetTable,
    place: str,
    leg: _Leg,
    trace: Trace,
    back: list[Hop],
    target: Address | None = None,
) -> None:
    """Follow tables from a place to the owner of a source, past exactly the keepers of its leg."""
    target = target or _representative(leg.source)
    owner = leg.source.exit
    due = list(reversed(leg.keepers))
    passed: list[str] = []
    while target is not None:
        matching = table.match(target)
        route = matching[0] if matching else None
        name = route.exit if route else ""
        back.append(Hop(place, route, name, leg.source))
        # An exit owns the pool that it rewrites to: it is found there, whatever route, or none, leads to it.
        if owner and name in ("", LOCAL, owner):
            break
        if not name:
            raise _Lost(Verdict.NO_RETURN, f"no route in {table.name} takes the reply back to {target}")
        following = _next_place(routes.estate, name, place, target, trace) if name != LOCAL else None
        if following is None:
            break
        if name in passed or len(back) > _MOST_HOPS:
            raise _Lost(Verdict.NO_RETURN, f"the reply to {target} runs in circles at {name}")
        if routes.estate.exits[name].keeps_state:
            passed.append(name)
        came_from = routes.estate.subnets[place].network if place in routes.estate.subnets else None
        place, table = following, routes.of(following, came_from)
    if strangers := [one for one in passed if one not in due]:
        raise _Lost(Verdict.OTHER_RETURN, f"the reply meets {strangers[0]}, which never saw the request")
    if missed := [one for one in due if one not in passed]:
        raise _missed(missed[0])


_MOST_HOPS = 64


def _next_place(estate: Estate, name: str, place: str, target: Address, trace: Trace) -> str | None:
    """Where an exit takes the answer; None where it is delivered in a peered network."""
    path = estate.exits.get(name)
    if path is None or path.fault:
        raise _Lost(Verdict.NO_RETURN, f"the reply to {target} ends at {name}")
    if path.onward is Onward.JOINED:
        if not path.takes_forwarded and not _inside(estate, place, trace.packet.address):
            raise _Lost(Verdict.NO_RETURN, f"{name} takes only packets from its own networks: the reply ends there")
        return None
    if path.onward is Onward.HUB:
        return name
    if path.is_machine:
        inside: str = path.in_subnets[0]
        return inside
    raise _Lost(Verdict.NO_RETURN, f"the reply to {target} is sent to {name}, which cannot deliver it")


def _missed(name: str) -> _Lost:
    return _Lost(Verdict.OTHER_RETURN, f"the reply does not come back through {name}, which keeps state")


def _representative(source: Source) -> Address | None:
    return source.prefix[0] if source.prefix is not None else None


def _subnet_of(estate: Estate, address: Address) -> str | None:
    """The subnet of our own that holds an address, if one does."""
    found = estate.subnet_table.match(address)
    return found[1] if found else None


def _inside(estate: Estate, place: str, address: Address) -> bool:
    """Whether an address belongs to the network of a place, so that its answers are not forwarded ones."""
    subnet = estate.subnets.get(place)
    return subnet is not None and any(address in one for one in estate.networks[subnet.network].prefixes)
