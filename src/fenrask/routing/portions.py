"""All packets from a subnet to a destination: each class of them traced once, those with one outcome put together."""

from collections.abc import Hashable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from fenrask.prefixes import Address, Block, PrefixTable
from fenrask.routing.classes import Names, Senders, Targets
from fenrask.routing.packets import UNKNOWN, Packet, Portion, Trace, Verdict
from fenrask.routing.tracing import Tracer

__all__ = ["traces_to"]

_ALL = Fraction(1)


@dataclass(frozen=True)
class _Box:
    """Packets of these hosts to these addresses by these names, all with one outcome; `part` of each takes it."""

    to: str | None
    """The destination by name, or the one that an address lies in."""
    senders: tuple[Senders, ...]
    targets: tuple[Targets, ...]
    names: tuple[Names, ...]
    part: Fraction
    trace: Trace

    @property
    def family(self) -> int:
        """The IP version of its targets."""
        return self.targets[0].address.version

    @property
    def hosts(self) -> Fraction:
        return sum((one.share for one in self.senders), Fraction(0))

    @property
    def reach(self) -> Fraction:
        names = sum((one.share for one in self.names), Fraction(0))
        return sum((one.share for one in self.targets), Fraction(0)) * names


def traces_to(
    tracer: Tracer,
    subnet: str,
    to: str | Address,
    public_host: bool,
    workload: str | None = None,
    host: Address | None = None,
) -> list[tuple[Trace, Fraction]]:
    """The distinct paths from a subnet to a destination, or to one address, with the share of its packets that each is.

    `workload`: whose hosts and filters count; default: all usable addresses, no filters of hosts. `host`: the one host
    that sends; default: all of them. Each trace says in its `portion` which packets take it.
    """
    if not isinstance(to, str) or tracer.estate.destinations[to].prefixes or _has_one_path(tracer, subnet, to):
        boxes = _merged(tracer, _boxes(tracer, subnet, to, public_host, workload, host))
        return [(_made(tracer, subnet, box), box.hosts * box.reach * box.part) for box in boxes]
    packet, origin = tracer.origin(subnet, Packet(UNKNOWN, to, public_host, host))
    why = f"{to} has names, but no prefixes: `fenrask resolve` looks them up"
    return [(Trace(subnet, packet, Verdict.UNRESOLVED, (), origin, reason=why), _ALL)]


def _has_one_path(tracer: Tracer, subnet: str, to: str) -> bool:
    """Whether a destination of which only names are known is reached by name, or all public addresses go one path."""
    estate = tracer.estate
    if estate.by_name.get((estate.subnets[subnet].network, to)):
        return True
    return tracer.classes.public_is_one(subnet) and bool(tracer.routes.of(subnet).match(UNKNOWN))


def _boxes(
    tracer: Tracer, subnet: str, to: str | Address, public_host: bool, workload: str | None, host: Address | None
) -> Iterator[_Box]:
    classes = tracer.classes
    if isinstance(to, str):
        named: str | None = to
        targets, names = classes.targets(to, subnet), classes.names(to)
    else:
        holding = PrefixTable((p, name) for name, one in tracer.estate.destinations.items() for p in one.prefixes)
        found = holding.match(to)
        named = found[1] if found else None
        targets = [Targets((Block(to.version, int(to), int(to)),), _ALL)]
        names = classes.names(named) if named else [Names((), _ALL)]
    for target in targets:
        senders = classes.senders(workload, subnet, target.address.version)
        if host is not None:
            senders = [Senders((Block(host.version, int(host), int(host)),), _ALL)]
        for sender in senders:
            for each in names:
                packet = Packet(target.address, named, public_host, sender.address, each.names)
                for trace, part in tracer.class_traces(subnet, packet, workload):
                    yield _Box(named, (sender,), (target,), (each,), part, trace)


def _outcome(tracer: Tracer, trace: Trace) -> Hashable:
    """What makes two traces one for all that is computed on them."""
    hops = tuple((hop.exit, hop.rule, hop.via) for hop in trace.hops)
    entered = tracer.estate.subnets[trace.there].network if trace.there else ""
    return (trace.verdict, hops, trace.onward, trace.reason, entered, trace.source.kind, trace.source.exit)


_SIDES = ("senders", "targets", "names")


def _merged(tracer: Tracer, boxes: Iterator[_Box]) -> list[_Box]:
    """Boxes of one outcome put together along one side after another, where the other sides are the same."""
    some = list(boxes)
    if len(some) == 1:
        return some
    outcomes = {id(box.trace): _outcome(tracer, box.trace) for box in some}
    # The same packets by equal routes, or from several addresses of a pool, with one outcome: their parts add up.
    found: dict[Hashable, _Box] = {}
    for box in some:
        key = (box.senders, box.targets, box.names, outcomes[id(box.trace)])
        known = found.get(key)
        found[key] = box if known is None else replace(known, part=known.part + box.part)
    for side in _SIDES:
        some, found = list(found.values()), {}
        others = [one for one in _SIDES if one != side]
        for box in some:
            key = (*(getattr(box, one) for one in others), box.part, box.family, outcomes[id(box.trace)])
            known = found.get(key)
            joined = getattr(box, side) if known is None else (*getattr(known, side), *getattr(box, side))
            sides: dict[str, Any] = {side: joined}
            found[key] = replace(known or box, **sides)
    return list(found.values())


def _made(tracer: Tracer, subnet: str, box: _Box) -> Trace:
    first, target = box.senders[0], box.targets[0]
    known = box.trace.packet
    names = tuple(name for one in box.names for name in one.names)
    packet = Packet(target.address, box.to, known.public_host, first.address, names)
    packet, origin = tracer.origin(subnet, packet)
    portion = Portion(
        sources=Block.joined(block for one in box.senders for block in one.blocks),
        hosts=box.hosts,
        targets=Block.joined(block for one in box.targets for block in one.blocks),
        reach=box.reach,
        addresses=sum((one.share for one in box.targets), Fraction(0)) * (2 if target.is_one_family else 1),
        names=() if sum(one.share for one in box.names) == 1 else names,
        family=target.address.version if target.is_one_family else None,
    )
    return box.trace.of(subnet, packet, origin, portion)
