"""Which packets are sent: for each class of hosts and addresses some of them, with what the plan says of them."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import product
from typing import NamedTuple

from fenrask.estate import Described, Estate, Onward
from fenrask.estate.filters import EPHEMERAL
from fenrask.prefixes import Address, Block
from fenrask.routing import Source, SubnetPath, Trace, Verdict, flow_paths

__all__ = ["AT_ONCE", "Class", "Planned", "Try", "classes_of", "client_at", "free_port"]

AT_ONCE = 63
"""Tries whose packets can be told apart on their path: by the DS field, whose zero is everybody else's (RFC 2474)."""
SEVERAL = 10
"""How often packets are sent that may take several paths: each of two is missed once in a thousand times."""
_MOST_PAIRS = 4
_MOST_PORTS = 6


class Planned(NamedTuple):
    """What the plan says of the packets of a class: all of it, or one of several paths."""

    verdict: Verdict
    exits: frozenset[str]
    source: Source
    why: str

    @property
    def arrives(self) -> bool:
        return self.verdict.arrives


class Try(NamedTuple):
    """One connection that is opened: from whom, to where, and what the packets are known by on their path."""

    space: str
    """The space that it is opened in."""
    sender: Address
    target: Address
    port: int
    protocol: str
    workload: str = ""
    name: str = ""
    """The name that is asked for."""
    source_port: int = 0
    """0 for any."""


@dataclass(frozen=True)
class Class:
    """Packets that the plan treats alike: who sends, to what, what is planned, what is tried; or why nothing is."""

    sender: str
    to: str
    planned: tuple[Planned, ...]
    tries: tuple[Try, ...] = ()
    not_tried: str = ""
    part: str = ""
    """Which of the packets from there these are, in words; empty for all."""
    is_inward: bool = False


def client_at(workload: str, subnet: str) -> str:
    """The name of the space of a workload's hosts in a subnet, as those who send."""
    return f"hosts {workload} in {subnet}"


def free_port(estate: Estate) -> int:
    """A port that no rule, filter or destination names: what is sent to a destination that states none goes there."""
    taken = {one.port for one in estate.destinations.values()}
    taken |= {port for exit_ in estate.exits.values() for rule in exit_.rules_in_order for port in rule.ports}
    return next(port for port in range(9, 1024) if port not in taken)


def _filters(estate: Estate) -> Iterator[tuple[tuple[int, int], bool]]:
    """The spans of ports that filters tell apart, each with whether its filter keeps no state."""
    places = (*estate.subnets.values(), *estate.workloads.values())
    every = [one.filters for one in places] + [one.own_filters for one in estate.exits.values()]
    for filters in every:
        for one in filters.values():
            for inward in (False, True):
                yield from ((span, not one.stateful) for _, rule in one.rules(inward) for span in rule.ports)


def _edges(spans: Iterable[tuple[int, int]], low: int, high: int) -> list[int]:
    """A port of each kind that spans tell apart, between two ports."""
    edges = {edge for first, last in spans for edge in (first, last + 1) if low < edge <= high}
    return [low, *sorted(edges)][:_MOST_PORTS]


def classes_of(described: Described) -> list[Class]:
    """The classes of all flows that hosts open, each once, in the order of the estate."""
    between: dict[tuple[str, str, str], list[SubnetPath]] = {}
    for path in flow_paths(described).owns:
        if path.trace.inward is None:
            between.setdefault((path.workload, path.subnet, path.to), []).append(path)
    chooser = _Chooser(described.estate)
    return [one for some in between.values() for one in chooser.classes(some)]


class _Chooser:
    """Chooses what is tried for each class."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        spans = [*_filters(estate)]
        self._spans = [span for span, _ in spans]
        stateless = [span for span, is_stateless in spans if is_stateless]
        low, high = EPHEMERAL
        self._source_ports = _edges(stateless, low, high) if stateless else [0]
        self._free = free_port(estate)
        self._taken = {*_entries(estate)}

    def classes(self, paths: Sequence[SubnetPath]) -> Iterator[Class]:
        """What some packets of a workload from a subnet to a destination are, by the paths that each of them may take."""
        first = paths[0]
        tried: dict[tuple[int, ...], list[Try]] = {}
        for path in paths:
            if why := self._not_tried(path):
                yield Class(first.subnet, first.to, (_planned(path.trace),), (), why, path.words)
                continue
            for one in self._tries(path):
                may_take = tuple(number for number, each in enumerate(paths) if self._holds(each, one))
                some = tried.setdefault(may_take, [])
                if one not in some:
                    some.append(one)
        for numbers, tries in tried.items():
            planned = tuple(dict.fromkeys(_planned(paths[number].trace) for number in numbers))
            part = min((paths[number].words for number in numbers), key=len) if len(numbers) == 1 else _part(tries)
            if len(planned) > 1:
                tries = (tries * SEVERAL)[: SEVERAL * len(planned)]
            yield Class(first.subnet, first.to, planned, tuple(tries), "", part)

    def _holds(self, path: SubnetPath, one: Try) -> bool:
        """Whether a try is one of the packets of a path."""
        portion = path.trace.portion
        aimed = (path.subnet, path.to) in self.estate.by_name or _among(portion.targets, one.target)
        named = not portion.names or one.name in portion.names
        return aimed and named and _among(portion.sources, one.sender)

    def _not_tried(self, path: SubnetPath) -> str:
        """Why packets of a path cannot be sent here; empty where they can."""
        trace, estate = path.trace, self.estate
        if trace.verdict is Verdict.UNRESOLVED or not trace.portion.targets:
            return "it has no address yet"
        named = estate.by_name.get((path.subnet, path.to))
        if named is not None and estate.exits[named].onward is not Onward.SERVICE:
            return f"{named} asks for it on its hosts' behalf, and has no stand-in here"
        versions = {one.version for one in estate.subnets[path.subnet].prefixes}
        if trace.portion.targets[0].version not in versions:
            return "there is no stand-in here for what translates IPv6 to IPv4"
        own = estate.destinations[path.to]
        for name, other in estate.destinations.items():
            same = name != path.to and None in (own.port, other.port, own.port == other.port or None)
            if name != path.to and (own.port == other.port or same) and own.protocol == other.protocol:
                blocks = [Block.of(prefix) for prefix in other.prefixes]
                both = any(one.common(each) for one in trace.portion.targets for each in blocks)
                if both and (name in _named(estate) or path.to in _named(estate)):
                    return f"its packets are those of {name}, which is treated otherwise by its name"
        return ""

    def _tries(self, path: SubnetPath) -> list[Try]:
        estate, portion = self.estate, path.trace.portion
        stated = estate.destinations[path.to]
        targets = [one for block in portion.targets[:_MOST_PAIRS] for one in self._ends(block)]
        named = estate.by_name.get((path.subnet, path.to))
        if named is not None:
            zone = estate.subnets[path.subnet].zone
            entry = estate.entry_of(estate.exits[named], zone, {portion.targets[0].version})
            targets = [entry] if entry is not None else targets
        senders = [one for block in portion.sources for one in self._hosts(block) if block.version == targets[0].version]
        pairs = [*zip(senders, targets, strict=False), *product(senders, targets)]
        pairs = [*dict.fromkeys(pairs)][:_MOST_PAIRS]
        names = (portion.names or stated.names or ("",))[:2]
        ports = [stated.port] if stated.port is not None else [self._free, *_edges(self._spans, 1, 1023)[1:]]
        space = client_at(path.workload, path.subnet)
        return [
            Try(space, sender, target, port, stated.protocol, path.workload, name, source_port)
            for sender, target in pairs
            for name, port, source_port in product(names, ports, self._source_ports)
        ]

    @staticmethod
    def _ends(block: Block) -> list[Address]:
        """The first and the last address of a block."""
        last = Block(block.version, block.last, block.last).address
        return [block.address] if block.size == 1 else [block.address, last]

    def _hosts(self, block: Block) -> list[Address]:
        """The ends of a block that no endpoint has."""
        inner = Block(block.version, block.first + 1, block.last) if block.size > 1 else block
        some = [one for one in (*self._ends(block), *self._ends(inner)) if one not in self._taken]
        return [*dict.fromkeys(some)][:2] or [block.address]


def _among(blocks: Sequence[Block], address: Address) -> bool:
    number = int(address)
    return any(one.version == address.version and one.first <= number <= one.last for one in blocks)


def _part(tries: Sequence[Try]) -> str:
    """Which packets these are, where several paths share them: those between two of their addresses."""
    return f"such as from {tries[0].sender} to {tries[0].target}"


def _planned(trace: Trace) -> Planned:
    return Planned(trace.verdict, frozenset(trace.exits), trace.source, trace.why)


def _entries(estate: Estate) -> Iterator[Address]:
    """The addresses of endpoints in subnets."""
    for exit_ in estate.exits.values():
        if exit_.onward is Onward.SERVICE:
            for name in exit_.in_subnets:
                zone = estate.subnets[name].zone
                some = [estate.entry_of(exit_, zone, {version}) for version in (4, 6)]
                yield from (one for one in some if one is not None)


def _named(estate: Estate) -> set[str]:
    """The destinations that exits or filters treat by name."""
    found = {name for exit_ in estate.exits.values() for name in exit_.named_destinations}
    filters = [one.filters for one in (*estate.subnets.values(), *estate.workloads.values())]
    filters += [exit_.own_filters for exit_ in estate.exits.values()]
    return found | {name for some in filters for one in some.values() for name in one.named_destinations}
