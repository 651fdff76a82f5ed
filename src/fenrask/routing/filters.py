"""Filters along a path: what stops a packet where it leaves or enters a subnet, and what stops its reply."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from fenrask.estate import ANY_PORT, EPHEMERAL, Estate, Filter, Filtered
from fenrask.estate.filters import Direction
from fenrask.prefixes import Address
from fenrask.routing.packets import Source, Trace, Verdict
from fenrask.routing.tables import LOCAL

__all__ = ["Crossing", "Filters", "Judged"]


@dataclass(frozen=True)
class Crossing:
    """A place where a path leaves or enters what is filtered: after how many hops, of whom, which way, as what."""

    hops: int
    section: str
    """`subnets`, `workloads`, or `exits` for an endpoint's own."""
    owner: str
    direction: Direction
    source: Source


_BACK: dict[Direction, Direction] = {"out": "in", "in": "out"}
"""The way of a reply."""


@dataclass(frozen=True)
class Judged:
    """One filter's word on a packet, or on its reply, and the rule that says so; empty: its default."""

    crossing: Crossing
    filter: str
    allowed: bool
    rule: str
    is_reply: bool

    @property
    def direction(self) -> Direction:
        """The list of rules that judged."""
        return _BACK[self.crossing.direction] if self.is_reply else self.crossing.direction

    @property
    def why(self) -> str:
        """In a sentence, for one that denies."""
        owner = f"{self.crossing.section.removesuffix('s')} {self.crossing.owner}"
        by = f"by {self.rule}" if self.rule else "by default"
        if self.is_reply:
            low, high = EPHEMERAL
            where = f"({self.direction}, {by}, to ports {low}-{high})"
            return f"stateless filter {self.filter} of {owner} denies the reply {where}"
        return f"filter {self.filter} of {owner} denies it ({self.direction}, {by})"


class Filters:
    """Holds paths against the filters of an estate. Filters choose no path: they stop what has one."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate

    def passed(self, trace: Trace, workload: str | None = None) -> Trace:
        """The trace as it is, or as a filter ends it; of a workload, whose own filters come first and last."""
        if not self.estate.filters:
            return trace
        for judged in self.judged(trace, workload):
            if judged.allowed:
                continue
            if not judged.is_reply:
                hops = trace.hops[: judged.crossing.hops + 1]
                stopped = tuple((*hops[:-1], replace(hops[-1], source=judged.crossing.source))) if hops else ()
                # At its end it is known where: the filters there are those that may deny it.
                there = trace.there if len(hops) == len(trace.hops) else ""
                return replace(
                    trace, verdict=Verdict.DENIED, hops=stopped, onward=None, reason=judged.why, back=(), there=there
                )
            if trace.verdict.arrives:
                return replace(trace, verdict=Verdict.REPLY_DENIED, onward=None, reason=judged.why)
        return trace

    def judged(self, trace: Trace, workload: str | None = None) -> Iterator[Judged]:
        """Every filter on the path, in its order; then the stateless ones once more, for the reply."""
        crossings = list(self.crossings(trace, workload))
        for crossing in crossings:
            target = self._target(trace, crossing)
            packet = self._packet(trace, crossing, target)
            for name, filter_ in self.at(crossing).items():
                allowed, rule = filter_.toward(crossing.direction).verdict(packet, crossing.source.address, target)
                yield Judged(crossing, name, allowed, rule, is_reply=False)
        for crossing in reversed(crossings):
            # To any ephemeral port, from where the packet went.
            target = self._target(trace, crossing)
            reply = replace(self._packet(trace, crossing, target), ports=EPHEMERAL)
            for name, filter_ in self.at(crossing).items():
                if not filter_.stateful:
                    back = filter_.toward(_BACK[crossing.direction])
                    allowed, rule = back.verdict(reply, target, crossing.source.address)
                    yield Judged(crossing, name, allowed, rule, is_reply=True)

    def _target(self, trace: Trace, crossing: Crossing) -> Address | None:
        """Where packets go there: to an endpoint's, or a proxy's, own address; None where it is not known."""
        if trace.inward is not None:
            return trace.inward.entry if self._is_before_publisher(trace, crossing) else trace.packet.address
        if self._is_before_named(trace, crossing):
            stated = self.estate.subnets[trace.subnet]
            versions = {one.version for one in stated.prefixes}
            return self.estate.entry_of(self.estate.exits[self._named(trace)], stated.zone, versions)
        return None if trace.packet.address.is_unspecified else trace.packet.address

    def _named(self, trace: Trace) -> str:
        """The exit that hosts of a subnet find by the name of the destination; empty for none."""
        return self.estate.by_name.get((trace.subnet, trace.packet.destination), "")

    def _is_before_named(self, trace: Trace, crossing: Crossing) -> bool:
        """Whether a packet is still on its way to the exit that its host found by name."""
        named = self._named(trace)
        if not named:
            return False
        at = next((number for number, hop in enumerate(trace.hops) if hop.by_name), len(trace.hops))
        return crossing.hops <= at

    def _is_before_proxy(self, trace: Trace, crossing: Crossing) -> bool:
        """The same of an exit that asks on its hosts' behalf, at a port of its own."""
        named = self.estate.exits.get(self._named(trace))
        return named is not None and named.asked_at is not None and self._is_before_named(trace, crossing)

    @staticmethod
    def _is_before_publisher(trace: Trace, crossing: Crossing) -> bool:
        """Whether a packet still goes to the published address there, on its way in."""
        published_at = trace.inward.published_at if trace.inward is not None else ""
        return bool(published_at) and published_at in [hop.exit for hop in trace.hops[crossing.hops :]]

    def crossings(self, trace: Trace, workload: str | None) -> Iterator[Crossing]:
        """Where the path leaves and enters subnets: nothing is filtered between hosts of one subnet."""
        estate, place = self.estate, trace.subnet if trace.inward is None else trace.inward.sender
        source = trace.origin
        if workload is not None and trace.inward is None:
            yield Crossing(0, "workloads", workload, "out", source)
        for number, hop in enumerate(trace.hops):
            exit_ = estate.exits.get(hop.exit)
            inside = exit_.in_subnets[:1] if exit_ else ()
            if hop.by_name and exit_ is not None and hop.subnet in exit_.in_subnets:
                inside = (hop.subnet,)
            if hop.exit == LOCAL:
                inside = (trace.there,) if trace.there else ()
            # A packet that finds no route, or no exit, goes nowhere.
            goes = hop.exit == LOCAL or exit_ is not None
            if goes and inside != (place,) and place in estate.subnets:
                yield Crossing(number, "subnets", place, "out", source)
            if inside and inside != (place,):
                yield Crossing(number, "subnets", inside[0], "in", source)
                place = inside[0]
            elif exit_ is not None and not inside:
                place = ""
            if exit_ is not None and exit_.own_filters:
                yield Crossing(number, "exits", hop.exit, "in", source)
            source = hop.source
        if trace.there:
            yield from self._at_the_end(trace, place, source, workload)

    def _at_the_end(self, trace: Trace, place: str, source: Source, workload: str | None) -> Iterator[Crossing]:
        """Into the subnet, and the hosts, of a destination of our own."""
        last, held = len(trace.hops) - 1, trace.there
        if held != place:
            yield Crossing(last, "subnets", held, "in", source)
        if trace.inward is not None:
            if workload is not None:
                yield Crossing(last, "workloads", workload, "in", source)
            return
        hosts = [name for name, one in self.estate.workloads.items() if held in one.subnets]
        if len(hosts) == 1:
            yield Crossing(last, "workloads", hosts[0], "in", source)

    def at(self, crossing: Crossing) -> Mapping[str, Filter]:
        """The filters there, by name."""
        if crossing.section == "exits":
            return self.estate.exits[crossing.owner].own_filters
        owners = self.estate.subnets if crossing.section == "subnets" else self.estate.workloads
        filters: Mapping[str, Filter] = owners[crossing.owner].filters
        return filters

    def _packet(self, trace: Trace, crossing: Crossing, target: Address | None) -> Filtered:
        """What filters judge there; target: where it goes."""
        stated, ends = self.estate.remotes.get(trace.packet.destination or ""), self._ends(trace, crossing, target)
        asked, protocol = trace.packet.transport or (
            (None, "tcp") if stated is None else (stated.port, stated.protocol)
        )
        if trace.inward is not None:
            inward = trace.inward
            port = inward.published_port if self._is_before_publisher(trace, crossing) else inward.port
            return Filtered((), (), ends, (port, port), protocol)
        if self._is_before_proxy(trace, crossing):
            port = self.estate.exits[self._named(trace)].asked_at or 0
            return Filtered((), (), ends, (port, port), "tcp")
        return Filtered((), (), ends, (asked, asked) if asked else ANY_PORT, protocol)

    def _ends(self, trace: Trace, crossing: Crossing, target: Address | None) -> frozenset[str]:
        """The destinations that rules name, at either end of a packet."""
        each = [self.estate.named_addresses.at(one) for one in (crossing.source.address, target) if one is not None]
        to = trace.packet.destination
        if trace.inward is None and to is not None and target is None:
            each.append(frozenset((to,)))
        return frozenset().union(*each)
