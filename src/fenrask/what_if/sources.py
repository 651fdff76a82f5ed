"""An estate that has lost a zone or an exit; and which sources hosts show then."""

from collections.abc import Container, Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction

from fenrask.estate import Case, Described
from fenrask.evaluation.faults import losses_patch
from fenrask.routing import Sending, Trace, trace_from

__all__ = ["Shown", "shown_to", "sources_shown"]


NOTHING = "nothing"
"""What a destination sees where nothing arrives."""


@dataclass(frozen=True)
class Shown:
    """The ways of one subnet to one destination in one case, with the share of each."""

    case: str
    traces: tuple[tuple[Trace, Fraction], ...]
    cut_off: bool = False
    """Whether the subnet itself is lost."""

    @property
    def outcome(self) -> tuple[tuple[str, str], ...]:
        """What counts as another source: verdicts and sources."""
        return tuple((trace.verdict.value, str(trace.source)) for trace, _ in self.traces)

    @property
    def arrives(self) -> bool:
        """Whether all of it arrives."""
        return not self.cut_off and all(trace.verdict.arrives for trace, _ in self.traces)

    @property
    def seen(self) -> str:
        """What the destination sees, each source once; `nothing` where nothing arrives."""
        some = dict.fromkeys(str(trace.source) for trace, _ in self.traces if trace.verdict.arrives)
        return ", ".join(some) or NOTHING

    def change_from(self, now: "Shown") -> str:
        """How it differs from now: `no`, `path`, `source`, `lost`, or `-` for a subnet that is lost itself."""
        if self.cut_off:
            return "-"
        if self.seen == now.seen == NOTHING:
            return "no"
        if self.outcome != now.outcome:
            return "source" if self.arrives else "lost"
        return "no" if self.paths == now.paths else "path"

    @property
    def paths(self) -> tuple[tuple[str, ...], ...]:
        """The exits of each path."""
        return tuple(trace.exits for trace, _ in self.traces)


def sources_shown(described: Described, sending: Sending, cases: Mapping[str, Case] | None = None) -> Iterator[Shown]:
    """What a subnet's hosts show to a destination now, and in each case of a loss; UnusableInput for unknown names.

    Lost is each zone, each exit, each routing session, and what the estate's own cases lose; or what `cases` do.
    Where it says a subnet, that may be a host's address.
    """
    sender, target, public_host, workload = sending.subnet, str(sending.to), sending.public_host, sending.workload
    now = Shown("now", tuple(trace_from(described, sender, target, public_host, workload)))
    yield now
    own = described.estate.subnets[now.traces[0][0].subnet].zone
    may_matter = _may_matter(described, now)
    passed = {name for trace, _ in now.traces for name in trace.exits}
    losses = _losses(described, passed) if cases is None else ((name, one, may_matter) for name, one in cases.items())
    for name, case, touched in losses:
        if touched.isdisjoint(may_matter):
            yield Shown(name, now.traces)
            continue
        after = described.struck(losses_patch(described, case), name)
        traces = tuple(trace_from(after, sender, target, public_host, workload))
        yield Shown(name, traces, cut_off=own is not None and own in case.lose_zones)


def shown_to(
    described: Described, target: str, cases: Mapping[str, Case] | None = None
) -> dict[str, tuple[Shown, ...]]:
    """The same for every subnet that has a flow to a destination; where none has, for every subnet with hosts."""
    estate = described.estate
    senders = (
        dict.fromkeys(flow.from_ for flow in estate.outward_flows.values() if flow.to == target) or estate.workloads
    )
    found: dict[str, tuple[Shown, ...]] = {}
    for workload in senders:
        for subnet in estate.workloads[workload].subnets:
            if subnet not in found:
                sending = Sending(subnet, target, estate.workloads[workload].public_address, workload)
                found[subnet] = tuple(sources_shown(described, sending, cases))
    return found


def _losses(described: Described, passed: Container[str]) -> Iterator[tuple[str, Case, set[str]]]:
    """Each loss by name, with the exits and zones that it touches; of exits that hardly fail, those that are passed."""
    estate = described.estate
    for zone in dict.fromkeys(one.zone for one in estate.subnets.values() if one.zone):
        inside = {name for name, exit_ in estate.exits.items() if zone in estate.zones_of(exit_)}
        yield f"zone {zone} lost", Case(lose_zones=(zone,)), {f"zone {zone}", *inside}
    for name, exit_ in estate.exits.items():
        if exit_.can_fail or name in passed:
            hanging = {one for one, other in estate.exits.items() if other.attached_to == name}
            yield f"{name} lost", Case(lose_exits=(name,)), {name, *hanging}
    for name, exit_ in estate.exits.items():
        for router, is_up in exit_.sessions.items():
            session = f"{name}/{router}" if router else name
            if is_up and exit_.speaks:
                yield f"session of {session} down", Case(sessions_down=(session,)), {name}
    for title, case in estate.stress.items():
        zones = {f"zone {zone}" for zone in case.lose_zones}
        exits = {*case.lose_exits, *case.lose_nodes, *(estate.session(one)[0] for one in case.sessions_down)}
        inside = {name for name, exit_ in estate.exits.items() if {*estate.zones_of(exit_)} & {*case.lose_zones}}
        if zones or exits:
            yield title, case, zones | exits | inside


def _may_matter(described: Described, now: Shown) -> set[str]:
    """What may touch a path when it is lost: all that is on it, there and back, and all that makes routes."""
    estate = described.estate
    hops = [hop for trace, _ in now.traces for hop in (*trace.hops, *trace.back)]
    subnets = {trace.subnet for trace, _ in now.traces} | {trace.there for trace, _ in now.traces}
    zones = {estate.subnets[one].zone for one in subnets if one in estate.subnets}
    by_routes = {name for name, one in estate.exits.items() if one.is_heard_of or one.found_by_name}
    return {hop.exit for hop in hops} | {hop.via for hop in hops} | by_routes | {f"zone {zone}" for zone in zones}
