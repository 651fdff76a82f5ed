"""What a change does to the connections that are open: which part of a path's breaks, and what is waited for.

A path that goes on through the same exits keeps its connections, but for what the offers of these exits say of added
and removed addresses, attachments and timeouts (`on_change` in the catalogue). One that is no more loses them, unless
the offer, or the provider, keeps open ones on it.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from fenrask.estate import OnChange
from fenrask.evaluation import Evaluation
from fenrask.routing import FlowPath, Source

__all__ = ["Fate", "fate_of"]


@dataclass(frozen=True)
class Fate:
    """What becomes of the connections that are open on a path.

    share: the part of them that breaks; waits_s: how long is waited until they end, where they are left to do so.
    """

    share: float = 0.0
    waits_s: float = 0.0


def fate_of(base: Evaluation, now: Evaluation, path: FlowPath) -> Fate:
    """The fate of the connections that are open on a path of the estate before a change."""
    after = [one for one in now.paths.by_flow[path.flow] if _way(one) == _way(path)]
    if not after:
        return Fate(0.0 if _stays(base, now, path) else 1.0)
    source, is_ = path.example.source, [one.example.source for one in after]
    fates = [_at(base, now, name) for name in path.example.exits]
    fates += [_of_addresses(base, now, source, one) for one in is_ if source.exit]
    return Fate(max((one.share for one in fates), default=0.0), max((one.waits_s for one in fates), default=0.0))


def _way(path: FlowPath) -> tuple[str, tuple[str, ...], str, str]:
    """What connections on a path stay on, whatever addresses the last exit shows."""
    source = path.example.source
    return path.subnet, path.example.exits, source.kind, source.exit


def _rules(evaluation: Evaluation, name: str) -> OnChange:
    offer = evaluation.described.offer_of(name) if name in evaluation.described.estate.exits else None
    return offer.on_change if offer is not None else OnChange()


def _at(base: Evaluation, now: Evaluation, name: str) -> Fate:
    """What becomes of connections at an exit that they go on through."""
    exits = base.described.estate.exits, now.described.estate.exits
    if name not in exits[0] or name not in exits[1]:
        return Fate()
    was, is_, rules = exits[0][name], exits[1][name], _rules(base, name)
    breaks = (
        (rules.attach == "break" and was.joins_many and {*was.joins} != {*is_.joins}),
        (rules.timeout == "break" and dict(was.timeouts) != dict(is_.timeouts)),
    )
    return Fate(float(any(breaks)))


def _of_addresses(base: Evaluation, now: Evaluation, was: Source, is_: Source) -> Fate:
    """What becomes of connections whose exit gets, or loses, addresses."""
    rules = _rules(base, was.exit)
    if was.addresses or is_.addresses:
        old, new = {*was.addresses}, {*is_.addresses}
        gone, added = (len(old - new) / len(old) if old else 1.0), bool(new - old)
    else:
        # Not assigned yet: those that there are stay, as far as there are as many.
        counts = [one.capacity.of(was.exit, was.toward) for one in (base, now)]
        before, after = (one.addresses if one is not None else 1 for one in counts)
        gone, added = max(0.0, 1 - after / before) if before else 0.0, after > before
    drains = rules.remove_address == "drain"
    share = max(float(added and rules.add_address == "break"), 0.0 if drains else gone)
    return Fate(share, rules.drain_s if gone and drains else 0.0)


def _stays(base: Evaluation, now: Evaluation, path: FlowPath) -> bool:
    """Whether connections that are open on a path go on with it, although new ones take another.

    So it is where the provider keeps them on it, and where only the name moved: open ones keep the address that they
    were opened to, and its route.
    """
    described, exits = now.described, path.example.exits
    if not all(one in described.estate.exits for one in exits) or path.subnet not in described.estate.subnets:
        return False
    each = [_rules(base, one) for one in exits]
    if path.example.hops and path.example.hops[0].by_name:
        return not each or each[0].name == "keep"
    stated = next((one.new_route for one in each if one.new_route is not None), None)
    if stated == "keep" or (stated is None and described.catalogue.behaviour.open_connections == "stay"):
        return True
    moved = any(_entered_by_name(now, path.flow))
    if not moved:
        return False
    packet = replace(path.trace.packet, destination=None)
    after = now.paths.pairs.tracer.traces(path.subnet, packet, path.workload)
    return all(trace.verdict.arrives and trace.exits == exits for trace, _ in after)


def _entered_by_name(now: Evaluation, flow: str) -> Iterator[bool]:
    """Whether each of its paths begins at an endpoint that a name resolves to, whose offer lets open ones be."""
    for path in now.paths.by_flow[flow]:
        if path.example.hops:
            first = path.example.hops[0]
            yield first.by_name and _rules(now, first.exit).name == "keep"
