"""The return path. A reply is routed on its own; it must come back to every hop that keeps state, and to the host."""

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import prod

from fenrask.estate import Estate, Onward
from fenrask.prefixes import Address, is_public
from fenrask.routing.classes import Classes
from fenrask.routing.packets import UNKNOWN, Hop, Source, Trace, Verdict
from fenrask.routing.reach import reached
from fenrask.routing.tables import LOCAL, Routes, SubnetTable, TableRoute

__all__ = ["Replies", "reply_paths", "return_paths"]

_MOST_HOPS = 64


@dataclass
class _Leg:
    """A stretch of the path with one source: who owns it, and what kept state on it without rewriting."""

    source: Source
    keepers: list[str] = field(default_factory=list)

    def without(self, name: str) -> list[str]:
        """What kept state, but for one exit."""
        return [one for one in self.keepers if one != name]


class _Lost(Exception):
    """The reply does not come back as it must."""

    def __init__(self, verdict: Verdict, why: str) -> None:
        super().__init__(why)
        self.verdict = verdict
        self.why = why


class Replies:
    """Return paths in one estate; paths whose replies are the same are followed back once."""

    def __init__(self, routes: Routes, classes: Classes) -> None:
        self.routes, self.classes = routes, classes
        self._known: dict[tuple[Hashable, ...], list[tuple[Trace, Fraction]]] = {}

    def returned(self, trace: Trace) -> list[tuple[Trace, Fraction]]:
        """A trace that arrives, with its return path; its verdict changes where the reply is lost.

        There are several, each with its share, where equal routes take replies to different ends.
        """
        # What is beyond the internet, or in a service, replies the same way wherever it is.
        beyond = trace.onward in (Onward.INTERNET, Onward.SERVICE)
        target = None if beyond else self.classes.target_kind(trace.packet)
        steps = tuple(
            (hop.exit, hop.source.exit, hop.source.address if hop.source.exit else None) for hop in trace.hops
        )
        entered = trace.hops[-1].subnet if trace.onward is Onward.SERVICE and len(trace.hops) > 1 else ""
        key = (self.classes.host_kind(trace.subnet, trace.packet), steps, trace.onward, trace.there, entered, target)
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = _by_outcome(return_paths(self.routes, trace))
        return [(self._own(trace, one), share) for one, share in known]

    @staticmethod
    def _own(trace: Trace, known: Trace) -> Trace:
        """What is known of a trace that is treated the same, as its own."""
        return Trace(
            trace.subnet,
            trace.packet,
            known.verdict,
            trace.hops,
            trace.origin,
            known.onward,
            known.reason,
            tuple(hop.of_origin(trace.origin) for hop in known.back),
            trace.there,
        )


def _by_outcome(some: Iterable[tuple[Trace, Fraction]]) -> list[tuple[Trace, Fraction]]:
    """Return paths with one outcome as one: the first of them, with the share of all."""
    found: dict[tuple[Verdict, str], tuple[Trace, Fraction]] = {}
    for trace, share in some:
        known, part = found.get((trace.verdict, trace.reason), (trace, Fraction(0)))
        found[trace.verdict, trace.reason] = (known, part + share)
    return list(found.values())


def return_paths(routes: Routes, trace: Trace) -> Iterator[tuple[Trace, Fraction]]:
    """The same of one trace, followed by itself, by each combination of equal routes."""
    yield from _each(routes, trace, _returned)


def _each(routes: Routes, trace: Trace, follow: "Callable[[_Reply], Trace]") -> Iterator[tuple[Trace, Fraction]]:
    """What follows by each combination of equal routes, with its share."""
    picks: list[int] = []
    while True:
        replies = _Reply(routes, trace, picks)
        yield follow(replies), Fraction(1, prod(replies.options))
        picks = [*picks, *[0] * (len(replies.options) - len(picks))]
        while picks and picks[-1] + 1 == replies.options[len(picks) - 1]:
            picks.pop()
        if not picks:
            return
        picks[-1] += 1


def _returned(replies: "_Reply") -> Trace:
    routes, trace = replies.routes, replies.trace
    legs = _legs(routes.estate, trace)
    try:
        replies.first_leg(legs[-1])
        for leg, owner in zip(legs[-2::-1], legs[:0:-1], strict=True):
            replies.from_translator(leg, owner.source.exit)
    except _Lost as lost:
        return replace(trace, verdict=lost.verdict, onward=None, reason=lost.why, back=tuple(replies.hops))
    return replace(trace, back=tuple(replies.hops))


def reply_paths(
    routes: Routes, trace: Trace, leaving: frozenset[str], publisher: str = "", own_source: bool = False
) -> Iterator[tuple[Trace, Fraction]]:
    """A path that comes in, with each path of the replies out by equal routes, and its share.

    Its verdict changes where they are lost. leaving: the exits by which they may leave. publisher: the exit that
    forwarded the packets to the hosts, from an address of its own if `own_source` says so.
    """
    yield from _each(routes, trace, lambda replies: _replied(replies, leaving, publisher, own_source))


def _replied(replies: "_Reply", leaving: frozenset[str], publisher: str, own_source: bool) -> Trace:
    routes, trace = replies.routes, replies.trace
    estate, passed = routes.estate, [hop.exit for hop in trace.hops if hop.exit in routes.estate.exits]
    keepers = [name for name in passed if estate.exits[name].keeps_state and name not in leaving]
    remote = trace.origin.address
    outside = Source("remote", address=remote, network="")
    try:
        place = trace.subnet
        if own_source:
            at = passed.index(publisher)
            behind = [name for name in passed[at + 1 :] if name in keepers]
            inner = trace.hops[-1].source
            replies.along((routes.of(place), place), _Leg(inner, behind))
            place, keepers = estate.exits[publisher].in_subnets[0], [name for name in passed[:at] if name in keepers]
        replies.along((routes.of(place), place), _Leg(outside, keepers), remote, leaving=leaving)
    except _Lost as lost:
        return replace(trace, verdict=lost.verdict, onward=None, reason=lost.why, back=tuple(replies.hops))
    return replace(trace, back=tuple(replies.hops))


def _legs(estate: Estate, trace: Trace) -> list[_Leg]:
    legs = [_Leg(trace.origin)]
    for hop in trace.hops:
        if hop.source.kind == "exit" and hop.source.exit == hop.exit:
            legs.append(_Leg(hop.source))
        elif hop.exit in estate.exits and estate.exits[hop.exit].keeps_state:
            legs[-1].keepers.append(hop.exit)
    return legs


class _Reply:
    """The reply to one packet, leg by leg, with the hops that it has taken."""

    def __init__(self, routes: Routes, trace: Trace, picks: Sequence[int] = ()) -> None:
        self.routes, self.estate, self.trace, self.picks = routes, routes.estate, trace, picks
        self.hops: list[Hop] = []
        self.options: list[int] = []
        """How many equal routes there were, each time that there were several."""

    def first_leg(self, leg: _Leg) -> None:
        """From the remote end to the owner of the last source."""
        onward, last = self.trace.onward, self.trace.exits[-1] if self.trace.exits else ""
        if onward is Onward.THIRD_PARTY:
            name = self._answering_line(last, leg.source)
            line = self.estate.exits[name]
            place = line.attached_to or ""
            own = self.routes.of_exit(name)
            table = self.routes.of(place) if place else own or self.routes.of_network(line.of_network or "")
            self.along((table, place), leg, by=name)
        elif self.trace.there:
            self.along((self.routes.of(self.trace.there), self.trace.there), leg)
        elif place := self._endpoint_place:
            self.along((self.routes.of(place), place), leg)
        else:
            table_of_its_own = self.routes.of_exit(last) if leg.source.exit != last else None
            if table_of_its_own is not None and (target := self._behind(leg.source)) is not None:
                self.along((table_of_its_own, ""), _Leg(leg.source, leg.without(last)), target)
            elif missed := leg.without(last):
                raise _missed(missed[-1])

    @property
    def _endpoint_place(self) -> str:
        """The subnet from which an endpoint of another network replies; empty where the path ends at no such one."""
        hops = self.trace.hops
        return hops[-1].subnet if len(hops) > 1 and hops[-1].by_name else ""

    def from_translator(self, leg: _Leg, name: str) -> None:
        """From an exit that rewrote the source to the owner of the source before it."""
        places = self.estate.exits[name].in_subnets
        table = self.routes.of_exit(name)
        if table is None:
            network = self.estate.network_of(self.estate.exits[name]) or ""
            table = self.routes.of(places[0]) if places else self.routes.of_network(network)
        self.along((table, places[0] if places else ""), leg)

    def _behind(self, source: Source) -> Address | None:
        """Where an internet exit sends what comes back to a source: to the host, or to the translator's subnet."""
        if not source.exit:
            return source.address
        places = self.estate.exits[source.exit].in_subnets
        return self.estate.subnets[places[0]].prefix[0] if places else None

    def _answering_line(self, name: str, source: Source) -> str:
        """The line by which a third party replies: of all to it, the one with the longest prefix for the source."""
        line = self.estate.exits[name]
        if line.known_beyond is None:
            return name
        party = line.party
        rivals = [one for one, exit_ in self.estate.exits.items() if party and exit_.party == party and not exit_.fault]
        lines = [name, *(one for one in rivals if one != name)]
        lengths = {one: self._advertised_length(one, source) for one in lines}
        best = max(lines, key=lambda line: lengths[line])
        if lengths[best] < 0:
            raise _Lost(Verdict.NO_RETURN, f"{name} does not advertise {_shown(source)}: no reply finds its path back")
        return best

    def _advertised_length(self, line: str, source: Source) -> int:
        """The longest advertised prefix that holds a source, by its length; -1 where none does."""
        advertised = self.estate.exits[line].known_beyond or ()
        if source.address is None:
            # An address that is yet to be bought: any public prefix may hold it.
            return max((one.prefixlen for one in advertised if is_public(one)), default=-1)
        return max((one.prefixlen for one in advertised if source.address in one), default=-1)

    def along(
        self,
        begin: tuple[SubnetTable, str],
        leg: _Leg,
        target: Address | None = None,
        by: str = "",
        leaving: frozenset[str] | None = None,
    ) -> None:
        """Follow tables from a place to the owner of a source, past exactly the keepers of its leg.

        begin: the first table, and the place. `by`: the line that the reply enters by, if it is one. leaving: the
        exits by which it may leave the estate.
        """
        table, place = begin
        shown = _shown(leg.source) if target is None or leg.source.kind == "remote" else str(target)
        by_itself = target is None and leg.source.prefix is None
        target = target or leg.source.address or UNKNOWN
        owner, passed = leg.source.exit, list[str]()
        while True:
            matching = table.match(target)
            route = matching[self._pick(len(matching))] if matching else None
            name = route.exit if route else ""
            self.hops.append(Hop(place, route, name, leg.source, via=by))
            by = ""
            # An exit's public address needs no route in its own network.
            if owner and by_itself and table.network == leg.source.network:
                break
            self._check_reach(name, place, table.network, shown)
            if owner and name == owner:
                break
            if leaving is not None and name in leaving:
                self._check_known(name, target, shown)
                break
            if route is None:
                raise _Lost(Verdict.NO_RETURN, f"no route in {table.name} takes the reply back to {shown}")
            if leaving is not None and name not in leg.keepers:
                self._check_leaving(name, shown)
            following = self._next_place(name, place, shown, leg) if name != LOCAL else None
            if following is None:
                self._check_network(leg, table, route, shown)
                break
            if name in passed or len(self.hops) > _MOST_HOPS:
                raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} runs in circles at {name}")
            if self.estate.exits[name].keeps_state:
                passed.append(name)
            came_from = self.estate.subnets[place].network if place in self.estate.subnets else None
            place, table = following, self.routes.of(following, came_from)
        _check_kept(leg.keepers, passed)

    def _pick(self, number: int) -> int:
        """Which of so many equal routes is followed: the first, unless `picks` says otherwise."""
        if number < 2:
            return 0
        self.options.append(number)
        return self.picks[len(self.options) - 1] if len(self.options) <= len(self.picks) else 0

    def _check_leaving(self, name: str, shown: str) -> None:
        """Lost where an exit other than those takes it out of the estate, or rewrites its source."""
        exit_ = self.estate.exits.get(name)
        if exit_ is None or exit_.fault:
            return
        out = exit_.onward in (Onward.INTERNET, Onward.SERVICE, Onward.THIRD_PARTY)
        if out or (exit_.keeps_state and not exit_.is_machine):
            came = f"not through {self.trace.boundary}" if self.trace.boundary else "by which the request did not come"
            raise _Lost(Verdict.OTHER_RETURN, f"the reply to {shown} leaves through {name}, {came}")

    def _check_reach(self, name: str, place: str, network: str | None, shown: str) -> None:
        """Lost where a route names an exit that is out of its reach."""
        if name in self.estate.exits and (why := reached(self.estate, place, network, name)[1]):
            raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} ends there: {why}")

    def _check_known(self, name: str, target: Address, shown: str) -> None:
        """Lost where it is to leave by a line whose other end has announced nothing that holds its target."""
        exit_ = self.estate.exits[name]
        if exit_.onward is Onward.THIRD_PARTY and not any(target in one for one in exit_.announced):
            raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} ends at {name}, which has received no prefix for it")

    def _check_network(self, leg: _Leg, table: SubnetTable, route: TableRoute, shown: str) -> None:
        """Lost where it is delivered in another network than that of its sender."""
        local = route.exit == LOCAL
        entered = (table.network or route.key) if local else self._other_side(route.exit, table.network)
        if leg.source.network not in (None, entered):
            raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} is delivered in {entered}, not to its sender")

    def _other_side(self, peering: str, network: str | None) -> str:
        """The network that a peering leads to from another one."""
        return next((one for one in self.estate.exits[peering].joins if one != network), "")

    def _next_place(self, name: str, place: str, shown: str, leg: _Leg) -> str | None:
        """Where an exit takes the reply; None where it is delivered in a peered network."""
        exit_ = self.estate.exits.get(name)
        if exit_ is None or exit_.fault:
            raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} ends at {name}")
        if exit_.onward is Onward.JOINED:
            if not exit_.takes_forwarded and not self._is_from(place):
                why = f"{name} takes only packets from its own networks: the reply ends there"
                raise _Lost(Verdict.NO_RETURN, why)
            return None
        if exit_.onward is Onward.HUB:
            return name
        # A gateway that published the port takes the replies to what it forwarded.
        if exit_.is_machine or (name in leg.keepers and exit_.in_subnets and leg.source.kind == "remote"):
            inside: str = exit_.in_subnets[0]
            return inside
        raise _Lost(Verdict.NO_RETURN, f"the reply to {shown} is sent to {name}, which cannot deliver it")

    def _is_from(self, place: str) -> bool:
        """Whether the remote end is in the network of a place, so that its replies are not forwarded ones."""
        subnet = self.estate.subnets.get(place)
        if self._endpoint_place:
            return subnet is not None and subnet.network == self.estate.subnets[self._endpoint_place].network
        address = self.trace.packet.address
        return subnet is not None and any(address in one for one in self.estate.networks[subnet.network].prefixes)


def _shown(source: Source) -> str:
    """A source in the words of a reason."""
    if source.kind != "exit":
        return "{from}"
    return str(source.prefix) if source.prefix is not None else f"the addresses of {source.exit}"


def _check_kept(due: list[str], passed: list[str]) -> None:
    """Lost where it met other exits that keep state than the request."""
    if strangers := [one for one in passed if one not in due]:
        raise _Lost(Verdict.OTHER_RETURN, f"the reply meets {strangers[0]}, which never saw the request")
    if missed := [one for one in reversed(due) if one not in passed]:
        raise _missed(missed[0])


def _missed(name: str) -> _Lost:
    return _Lost(Verdict.OTHER_RETURN, f"the reply does not come back through {name}, which keeps state")
