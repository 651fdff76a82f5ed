"""Which packets stand for each class: some of those that the plan treats alike, with what it says of them."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from fenrask.estate import Described, Estate, Filter, Remote
from fenrask.estate.filters import ANY_PORT, DIRECTIONS, EPHEMERAL
from fenrask.prefixes import Address, Block, mapped_to_ipv6
from fenrask.rehearsal.attempts import Class, Planned, Try, client_at, party_of, service_at
from fenrask.routing import Packet, SubnetPath, Trace, Tracer, Verdict, flow_paths

__all__ = ["classes_of"]

_NONE_LEFT = "every address of these is another one's, such as an endpoint's"
_LOOKED_AT = 8
"""Addresses at either end of a block that are looked at for one that is free."""


def free_port(estate: Estate) -> int:
    """A port that no rule, filter or destination names: what is sent to a destination that states none goes there."""
    taken = {one.port for one in estate.destinations.values()}
    taken |= {port for exit_ in estate.exits.values() for rule in exit_.rules_in_order for port in rule.ports}
    return next(port for port in range(9, 1024) if port not in taken)


def _every_filter(estate: Estate) -> Iterator[Mapping[str, Filter]]:
    """The filters of every place."""
    yield from (one.filters for one in estate.subnets.values())
    yield from (one.filters for one in estate.workloads.values())
    yield from (one.own_filters for one in estate.exits.values())


def _filters(estate: Estate) -> Iterator[tuple[tuple[int, int], bool]]:
    """The spans of ports that filters tell apart, each with whether its filter keeps no state."""
    for filters in _every_filter(estate):
        for filter_ in filters.values():
            rules = (rule for direction in DIRECTIONS for _, rule in filter_.toward(direction).rules)
            yield from ((span, not filter_.stateful) for rule in rules for span in rule.ports)


def _edges(spans: Iterable[tuple[int, int]], low: int, high: int) -> list[int]:
    """A port of each kind that spans tell apart, between two ports."""
    edges = {edge for first, last in spans for edge in (first, last + 1) if low < edge <= high}
    return [low, *sorted(edges)]


def classes_of(described: Described) -> list[Class]:
    """The classes of all flows, each once, in the order of the estate: those that hosts open, then what comes in."""
    between: dict[tuple[str, ...], list[SubnetPath]] = {}
    inward: dict[tuple[str, ...], list[SubnetPath]] = {}
    for path in flow_paths(described).owns:
        if path.trace.inward is None:
            between.setdefault((path.workload, path.subnet, path.to), []).append(path)
        else:
            inward.setdefault((path.workload, path.to), []).append(path)
    chooser = _Chooser(described)
    found = [one for some in between.values() for one in chooser.classes(some)]
    return found + [one for some in inward.values() for one in chooser.inward_classes(some)]


class _Chooser:
    """Chooses what is tried for each class."""

    def __init__(self, described: Described) -> None:
        self.estate = estate = described.estate
        self._tracer = Tracer(described)
        spans = [*_filters(estate)]
        self._spans = [span for span, _ in spans]
        stateless = [span for span, is_stateless in spans if is_stateless]
        low, high = EPHEMERAL
        self._source_ports = _edges(stateless, low, high) if stateless else [0]
        self._free = free_port(estate)
        self._taken = {one for exit_ in estate.exits.values() for one in estate.entries_of(exit_)}
        self._space_of: dict[Address, str] = {}
        """Whose an address is, once it is given away."""

    def classes(self, paths: Sequence[SubnetPath]) -> Iterator[Class]:
        """Packets of a workload from a subnet to a destination, by the paths that each of them may take."""
        first = paths[0]
        tried: dict[tuple[int, ...], list[Try]] = {}
        for path in paths:
            if why := self._not_tried(path):
                yield Class(first.subnet, first.to, (_planned(path.trace),), (), why, path.words)
                continue
            if not (tries := self._tries(path)):
                yield Class(first.subnet, first.to, (_planned(path.trace),), (), _NONE_LEFT, path.words)
            for try_ in tries:
                may_take = tuple(number for number, each in enumerate(paths) if self._holds(each, try_))
                some = tried.setdefault(may_take, [])
                if try_ not in some:
                    some.append(try_)
        for numbers, own in tried.items():
            planned = self._outcomes([paths[number] for number in numbers], own[0])
            part = paths[numbers[0]].words if len(numbers) == 1 else _part(own)
            limit = next(filter(None, (self._mistaken(paths[number]) for number in numbers)), "")
            yield Class(first.subnet, first.to, planned, tuple(own), "", part, limit=limit)

    def _outcomes(self, paths: Sequence[SubnetPath], try_: Try) -> tuple[Planned, ...]:
        """What the plan says of a try; of one IP version of two also what it loses, which goes on by the other."""
        traces = [path.trace for path in paths]
        if traces[0].portion.family is not None:
            public = self.estate.workloads[try_.workload].public_address
            packet = Packet(try_.target, paths[0].to, public, try_.sender, (try_.name,) if try_.name else None)
            traces = [trace for trace, _ in self._tracer.traces(paths[0].subnet, packet, try_.workload)]
        return tuple(dict.fromkeys(map(_planned, traces)))

    def _holds(self, path: SubnetPath, try_: Try) -> bool:
        """Whether a try is one of the packets of a path."""
        portion = path.trace.portion
        aimed = (path.subnet, path.to) in self.estate.by_name or _among(portion.targets, try_.target)
        named = not portion.names or try_.name in portion.names
        return aimed and named and _among(portion.sources, try_.sender)

    def _not_tried(self, path: SubnetPath) -> str:
        """Why packets of a path cannot be sent here; empty where they can."""
        trace = path.trace
        if trace.verdict is Verdict.UNRESOLVED or not trace.portion.targets:
            return "it has no address yet"
        named = self.estate.exits.get(self.estate.by_name.get((path.subnet, path.to), ""))
        versions = {one.version for one in self.estate.subnets[path.subnet].prefixes}
        if named is not None and self.estate.entry_of(named, self.estate.subnets[path.subnet].zone, versions) is None:
            return "it resolves to no address of an IP version that these hosts have"
        return ""

    def _tries(self, path: SubnetPath) -> list[Try]:
        estate, portion = self.estate, path.trace.portion
        stated = estate.destinations[path.to]
        targets = [one for block in portion.targets for one in self._ends(block) if one not in self._taken]
        asked: dict[Address, Address] = {}
        named = estate.exits.get(estate.by_name.get((path.subnet, path.to), ""))
        versions = {one.version for one in estate.subnets[path.subnet].prefixes}
        if named is not None:
            zone = estate.subnets[path.subnet].zone
            entry = estate.entry_of(named, zone, {portion.targets[0].version} & versions or versions)
            if named.asked_at is None:
                targets = [entry] if entry is not None else targets
            elif entry is not None:
                asked = dict.fromkeys(targets, entry)
        elif versions == {6}:
            asked = {one: mapped_to_ipv6(one) for one in targets if one.version == 4}
        space = client_at(path.workload, path.subnet)
        own = [
            block for block in portion.sources if targets and block.version == asked.get(targets[0], targets[0]).version
        ]
        senders = [one for block in own for one in self._hosts(block, space)]
        names = portion.names or stated.names or ("",)
        ports = [stated.port] if stated.port is not None else [self._free, *_edges(self._spans, *ANY_PORT)[1:]]
        return [
            Try(
                space, sender, target, port, stated.protocol, path.workload, name, source_port,
                asked=asked.get(target), asked_at=(named.asked_at or 0) if named is not None else 0,
            )
            for sender, target, name in _each_once(senders, targets, names)
            for port, source_port in _each_once(ports, self._source_ports)
        ]  # fmt: skip

    def inward_classes(self, paths: Sequence[SubnetPath]) -> Iterator[Class]:
        """What comes in to a workload from one other end."""
        end = self.estate.remotes[paths[0].to]
        assert isinstance(end, Remote)
        tried: dict[tuple[int, ...], list[Try]] = {}
        for path in paths:
            if why := _not_sent(path):
                yield Class(str(end), path.subnet, (_planned(path.trace),), (), why, path.words, True)
                continue
            if not (tries := self._coming(path, end)):
                yield Class(str(end), path.subnet, (_planned(path.trace),), (), _NONE_LEFT, path.words, True)
            for try_ in tries:
                may_take = tuple(number for number, each in enumerate(paths) if _brings(each, try_))
                some = tried.setdefault(may_take, [])
                if try_ not in some:
                    some.append(try_)
        for numbers, own in tried.items():
            planned = tuple(dict.fromkeys(_planned(paths[number].trace) for number in numbers))
            part = paths[numbers[0]].words if len(numbers) == 1 else _part(own)
            to = ", ".join(dict.fromkeys(paths[number].subnet for number in numbers))
            yield Class(str(end), to, planned, tuple(own), "", part, True)

    def _coming(self, path: SubnetPath, end: Remote) -> list[Try]:
        portion, inward = path.trace.portion, path.trace.inward
        assert inward is not None
        space = "internet"
        if inward.sender:
            space = client_at("", inward.sender)
        elif end.way == "lines":
            space = f"party {party_of(self.estate, end.lines[0])}" if end.lines else space
        elif end.way == "service":
            space = service_at(end.origin, self._only_network(path))
        hosts = [one for block in portion.targets for one in self._hosts(block, client_at(path.workload, path.subnet))]
        senders = [one for block in portion.sources for one in self._hosts(block, space)]
        versions = [
            [[one for one in some if one.version == version] for some in (senders, hosts)] for version in (4, 6)
        ]
        pairs = [pair for some in versions for pair in _each_once(*some)]
        published = self.estate.exits[inward.published_at].published[inward.as_] if inward.published_at else None
        if published is not None:
            port, host_port = published.port, published.host_port
        else:
            port, host_port = inward.port, 0
        return [
            Try(
                space, sender, host, port, end.protocol, path.workload, "", source_port, host_port,
                inward.published_at, inward.as_,
            )
            for sender, host in pairs
            for source_port in self._source_ports
        ]  # fmt: skip

    def _only_network(self, path: SubnetPath) -> str:
        """The network of a path's subnet, where another one has the same addresses; else empty."""
        stated = self.estate.subnets
        own = stated[path.subnet]
        others = [one for one in stated.values() if one.network != own.network]
        shared = any(
            one.overlaps(each)
            for other in others
            for one in own.prefixes
            for each in other.prefixes
            if one.version == each.version
        )
        return own.network if shared else ""

    @staticmethod
    def _ends(block: Block) -> list[Address]:
        """The first and the last address of a block."""
        last = Block(block.version, block.last, block.last).address
        return [block.address] if block.size == 1 else [block.address, last]

    def _hosts(self, block: Block, space: str) -> list[Address]:
        """Up to two addresses of a block, near its ends, that no endpoint has, and no hosts of another space."""
        size = min(block.size, _LOOKED_AT)
        inward = [number for step in range(size) for number in (block.first + step, block.last - step)]
        some = [Block(block.version, number, number).address for number in dict.fromkeys(inward)]
        free = [one for one in some if one not in self._taken and self._space_of.get(one, space) == space]
        chosen = [free[0], free[1]] if len(free) > 1 else free
        self._space_of.update((one, space) for one in chosen)
        return chosen

    def _mistaken(self, path: SubnetPath) -> str:
        """Why packets are not told from another destination's, to whom an exit shows addresses of their own; or empty.

        Whose address is shown follows from the destination that is meant, which packets do not say.
        """
        own, targets = self.estate.destinations[path.to], path.trace.portion.targets
        passed = (self.estate.exits[name] for name in path.trace.exits if name in self.estate.exits)
        named = dict.fromkeys(name for exit_ in passed for name in exit_.named_destinations)
        others = self.estate.destinations if path.to in named else named
        for name in others:
            other = self.estate.destinations[name]
            same_port = own.port == other.port or None in (own.port, other.port)
            if name == path.to or own.protocol != other.protocol or not same_port:
                continue
            if any(Block.of(prefix).common(one) for prefix in other.prefixes for one in targets):
                return f"its packets are also those of {name}, to whom other addresses are shown"
        return ""


def _each_once(*some: Sequence[Any]) -> list[tuple[Any, ...]]:
    """Combinations in which each of all these is at least once, as few as may be; none where one of them is empty."""
    number = max(map(len, some)) if all(some) else 0
    return [tuple(each[place % len(each)] for each in some) for place in range(number)]


def _not_sent(path: SubnetPath) -> str:
    """Why what comes in cannot be sent here; empty where it can."""
    if not path.trace.portion.targets or not path.trace.portion.sources:
        return "no address at which it would come in, or from which"
    return ""


def _brings(path: SubnetPath, try_: Try) -> bool:
    """Whether a try from outside is one of the packets of a path; what is published reaches any of the hosts."""
    inward, portion = path.trace.inward, path.trace.portion
    assert inward is not None
    if (inward.published_at, inward.as_) != (try_.publisher, try_.published):
        return False
    from_there = client_at("", inward.sender) == try_.space if inward.sender else not try_.is_from_host
    to_it = bool(try_.publisher) or _among(portion.targets, try_.target)
    return from_there and to_it and (not portion.sources or _among(portion.sources, try_.sender))


def _among(blocks: Sequence[Block], address: Address) -> bool:
    number = int(address)
    return any(one.version == address.version and one.first <= number <= one.last for one in blocks)


def _part(tries: Sequence[Try]) -> str:
    """Which packets these are, where several paths share them: those between two of their addresses."""
    return f"such as from {tries[0].sender} to {tries[0].target}"


def _planned(trace: Trace) -> Planned:
    return Planned(trace.verdict, trace.exits, trace.source, trace.why)
