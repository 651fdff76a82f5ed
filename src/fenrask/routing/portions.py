"""All packets from a subnet to a destination: each class of them traced once, those with one outcome put together."""

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from fenrask.prefixes import Address, Block, PrefixTable
from fenrask.routing.classes import Names, Senders, Targets
from fenrask.routing.packets import UNKNOWN, Packet, Portion, Trace, Verdict
from fenrask.routing.tracing import Tracer

__all__ = ["Box", "Sending", "boxes_of", "made", "merged", "product", "traces_to"]

_ALL = Fraction(1)


@dataclass(frozen=True)
class Sending:
    """Packets from a subnet to a destination, or to one address: who sends them.

    workload: whose hosts and filters count; default: all usable addresses, no filters of hosts. host: the one host that
    sends; default: all of them.
    """

    subnet: str
    to: str | Address
    public_host: bool = False
    workload: str | None = None
    host: Address | None = None


@dataclass(frozen=True)
class Box:
    """Packets of some classes of senders, targets and names, by number, all with one outcome; `part` of each takes it.

    hosts and reach: the shares of the subnet's hosts, and of the destination's addresses and names, that these are.
    """

    senders: tuple[int, ...]
    targets: tuple[int, ...]
    names: tuple[int, ...]
    part: Fraction
    trace: Trace
    """The trace of one of them, which stands for all."""
    hosts: Fraction = _ALL
    reach: Fraction = _ALL
    within: Fraction = _ALL
    """The share of what leaves the subnet for the destination."""
    turn: int | None = None
    """Which of two IP versions these are of: see `Targets`."""
    lost_before: tuple["Box", ...] = ()
    """What was asked for before, by another IP version, and did not arrive."""

    standing_by: tuple[Trace, ...] = ()
    """The paths that they would take by another IP version, were this one lost."""

    @property
    def is_all(self) -> bool:
        """Whether these are all packets from the subnet to the destination."""
        return self.hosts == 1 and self.reach == 1 and self.turn is None


def traces_to(tracer: Tracer, sending: Sending) -> list[tuple[Trace, Fraction]]:
    """The distinct paths from a subnet to a destination, or to one address, with the share of its packets that each is.

    Each trace says in its `portion` which packets take it.
    """
    return [(made(tracer, sending, box), box.within) for box in boxes_of(tracer, sending)]


def boxes_of(tracer: Tracer, sending: Sending) -> Sequence[Box]:
    """The outcomes of packets, each with the classes that have it; known from others whose classes are the same."""
    to, classes = sending.to, tracer.classes
    if not isinstance(to, str) or sending.host is not None:
        return _boxes(tracer, sending)
    stated = tracer.estate.destinations[to]
    hidden = bool(stated.names) and not stated.names_public and (sending.subnet, to) not in tracer.estate.by_name
    key = (
        hidden and to,
        classes.senders_kind(sending.workload, sending.subnet, sending.public_host),
        classes.targets_kind(to, sending.subnet),
        next(tracer.first_steps(sending.subnet, (to,))),
    )
    if key not in tracer.boxes:
        nameless = not stated.prefixes
        lost = hidden or (nameless and not _has_one_path(tracer, sending.subnet, to))
        tracer.boxes[key] = [_unresolved(tracer, sending, to, hidden)] if lost else _boxes(tracer, sending)
    found: Sequence[Box] = tracer.boxes[key]
    return found


def _classes(tracer: Tracer, sending: Sending) -> tuple[dict[int, list[Senders]], list[Targets], list[Names]]:
    """Senders by the IP version that they send to, targets, names."""
    classes, to = tracer.classes, sending.to
    if isinstance(to, str):
        targets, names = classes.targets(to, sending.subnet), classes.names(to)
    else:
        named = _holding(tracer, to)
        targets = [Targets((Block(to.version, int(to), int(to)),), _ALL)]
        names = classes.names(named) if named else [Names((), _ALL)]
    if (host := sending.host) is not None:
        alone = [Senders((Block(host.version, int(host), int(host)),), _ALL)]
        return {one.version: alone for one in targets}, targets, names
    senders = {
        version: classes.senders(sending.workload, sending.subnet, version)
        for version in dict.fromkeys(one.version for one in targets)
    }
    return senders, targets, names


def _holding(tracer: Tracer, address: Address) -> str | None:
    """The destination that an address lies in."""
    holding = PrefixTable((p, name) for name, one in tracer.estate.destinations.items() for p in one.prefixes)
    found = holding.match(address)
    return found[1] if found else None


def _packet(tracer: Tracer, sending: Sending, target: Address, host: Address | None, names: tuple[str, ...]) -> Packet:
    to = sending.to if isinstance(sending.to, str) else _holding(tracer, sending.to)
    return Packet(target, to, sending.public_host, host, names)


def _unresolved(tracer: Tracer, sending: Sending, to: str, hidden: bool) -> Box:
    packet, begun = tracer.origin(sending.subnet, Packet(UNKNOWN, to, sending.public_host, sending.host))
    why = f"{to} has names, but no prefixes: `fenrask resolve` looks them up"
    if hidden:
        why = f"no public resolver answers the names of {to}, and they resolve to no endpoint there"
    trace = Trace(sending.subnet, packet, Verdict.UNRESOLVED, (), begun.source, reason=why)
    return Box((0,), (0,), (0,), _ALL, trace)


def _has_one_path(tracer: Tracer, subnet: str, to: str) -> bool:
    """Whether a destination of which only names are known is reached by name, or all public addresses go one path."""
    estate = tracer.estate
    if estate.by_name.get((subnet, to)):
        return True
    return tracer.classes.public_is_one(subnet) and bool(tracer.routes.of(subnet).match(UNKNOWN))


def _boxes(tracer: Tracer, sending: Sending) -> list[Box]:
    senders, targets, names = _classes(tracer, sending)
    some = [
        Box((s,), (t,), (n,), part, trace)
        for t, target in enumerate(targets)
        for s, sender in enumerate(senders[target.version])
        for n, each in enumerate(names)
        for trace, part in tracer.class_traces(
            sending.subnet, _packet(tracer, sending, target.address, sender.address, each.names), sending.workload
        )
    ]
    if len(some) > 1:
        some = merged(tracer, some, [(one.version, one.turn) for one in targets])
    found: list[Box] = []
    for box in some:
        hosts = _sum(senders[targets[box.targets[0]].version], box.senders)
        reach = product(_sum(targets, box.targets), _sum(names, box.names))
        within = product(product(hosts, reach), box.part)
        if within.denominator != 1:
            box = Box(box.senders, box.targets, box.names, box.part, box.trace, hosts, reach, within)
        found.append(box)
    if targets[0].turn is None:
        return found
    share = tracer.classes.ipv6_share(sending.workload)
    if share is None:
        return _in_turn(found, targets, _ALL, lambda target: target.turn or 0)
    six = _in_turn(found, targets, share, lambda target: -target.version)
    four = _in_turn(found, targets, 1 - share, lambda target: target.version)
    return _both(six, four)


def _both(some: Sequence[Box], others: Sequence[Box]) -> list[Box]:
    """Boxes of those who ask for IPv6 first and of those who ask for IPv4 first; the same ones put together."""
    found = {(box.senders, box.targets, box.names, box.trace): box for box in some if box.within}
    for box in others:
        key = (box.senders, box.targets, box.names, box.trace)
        known = found.get(key)
        if box.within:
            found[key] = (
                box
                if known is None
                else replace(known, within=known.within + box.within, lost_before=known.lost_before or box.lost_before)
            )
    return [*found.values()]


def _in_turn(
    some: Sequence[Box], targets: Sequence[Targets], left: Fraction, order: Callable[[Targets], int]
) -> list[Box]:
    """Boxes of two IP versions: what is lost by one turn is asked for by the next (RFC 8305).

    left: the share of packets that ask in this order.
    """
    found, lost_before = list[Box](), list[Box]()
    by_turn: dict[int, list[Box]] = {turn: [] for turn in sorted({order(one) for one in targets})}
    for box in some:
        target = targets[box.targets[0]]
        by_turn[order(target)].append(box)
        # Shares are of a turn's addresses, of which an order may put two together.
        same = [other for other in targets if other.turn == target.turn]
        part = _size(same) / _size([other for other in targets if order(other) == order(target)])
        if part != 1:
            by_turn[order(target)][-1] = replace(box, within=part * box.within)
    turns = list(by_turn)
    for turn, own in by_turn.items():
        lost = [] if turn == turns[-1] else [box for box in own if not box.trace.verdict.arrives]
        later = [box.trace for after in turns[turns.index(turn) + 1 :] for box in by_turn[after]]
        others = tuple(trace for trace in later if trace.verdict.arrives)
        found += [
            replace(box, within=left * box.within, turn=turn, lost_before=tuple(lost_before), standing_by=others)
            for box in own
            if box not in lost
        ]
        left *= sum((box.within for box in lost), Fraction(0))
        lost_before += lost
        if not left:
            break
    return found


def _size(targets: Sequence[Targets]) -> Fraction:
    """How many addresses these are."""
    return Fraction(sum(block.size for one in targets for block in one.blocks))


def _sum(some: Sequence[Senders] | Sequence[Targets] | Sequence[Names], numbers: Sequence[int]) -> Fraction:
    return some[numbers[0]].share if len(numbers) == 1 else sum((some[one].share for one in numbers), Fraction(0))


def product(fraction: Fraction, other: Fraction) -> Fraction:
    """The product; quick for the usual case that one of them is 1."""
    if fraction.denominator == 1 == fraction.numerator:
        return other
    return fraction if other.denominator == 1 == other.numerator else fraction * other


def _outcome(tracer: Tracer, trace: Trace) -> Hashable:
    """What makes two traces one for all that is computed on them."""
    hops = tuple((hop.exit, hop.rule, hop.via) for hop in trace.hops)
    entered = tracer.estate.subnets[trace.there].network if trace.there else ""
    source = trace.source
    return (trace.verdict, hops, trace.onward, trace.reason, entered, source.kind, source.exit, source.toward)


_SIDES = ("senders", "targets", "names")


def merged(tracer: Tracer, some: list[Box], turns: Sequence[Hashable]) -> list[Box]:
    """Boxes of one outcome put together along one side after another, where the other sides are the same."""
    outcomes = {box.trace: _outcome(tracer, box.trace) for box in some}
    # The same packets by equal routes, or from several addresses of a pool, with one outcome: their parts add up.
    found: dict[Hashable, Box] = {}
    for box in some:
        key = (box.senders, box.targets, box.names, outcomes[box.trace])
        known = found.get(key)
        found[key] = box if known is None else replace(known, part=known.part + box.part)
    for side in _SIDES:
        some, found = list(found.values()), {}
        others = [one for one in _SIDES if one != side]
        for box in some:
            turn = turns[box.targets[0]]
            key = (*(getattr(box, one) for one in others), box.part, turn, outcomes[box.trace])
            known = found.get(key)
            joined = getattr(box, side) if known is None else (*getattr(known, side), *getattr(box, side))
            sides: dict[str, Any] = {side: joined}
            found[key] = replace(known or box, **sides)
    return list(found.values())


def made(tracer: Tracer, sending: Sending, box: Box) -> Trace:
    """The trace of a box for the very packets that are sent: its hosts, addresses and names."""
    senders, targets, names = _classes(tracer, sending)
    if box.trace.verdict is Verdict.UNRESOLVED:
        packet, begun = tracer.origin(sending.subnet, replace(box.trace.packet, host=None))
        return box.trace.of(sending.subnet, packet, begun.source, Portion())
    target = targets[box.targets[0]]
    some = [senders[target.version][one] for one in box.senders]
    asked = tuple(name for one in box.names for name in names[one].names)
    packet, begun = tracer.origin(sending.subnet, _packet(tracer, sending, target.address, some[0].address, asked))
    addresses = _sum(targets, box.targets)
    portion = Portion(
        sources=Block.joined(block for one in some for block in one.blocks),
        hosts=box.hosts,
        targets=Block.joined(block for one in box.targets for block in targets[one].blocks),
        reach=box.reach,
        names=() if len(box.names) == len(names) else asked,
        addresses=addresses,
        family=None if target.turn is None else target.version,
        lost_before=tuple(dict.fromkeys(_lost(made(tracer, sending, one)) for one in box.lost_before)),
    )
    begins = box.trace.hops[0].exit if box.trace.hops else ""
    first = tracer.first_route(sending.subnet, packet, begins)
    return box.trace.of(sending.subnet, packet, begun.source, portion, first)


def _lost(trace: Trace) -> str:
    return f"IPv{trace.packet.address.version} is lost: {trace.verdict.value}, {trace.why}"
