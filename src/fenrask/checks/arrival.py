"""Rules read off the ways of flows: where a walk ends otherwise than it should."""

from collections.abc import Iterator

from fenrask.checks.contract import Case, Doubt
from fenrask.errors import Place
from fenrask.routing.packets import Verdict
from fenrask.routing.paths import FlowPath

__all__ = [
    "answer_by_another_way",
    "answer_lost",
    "exit_out_of_reach",
    "family_not_carried",
    "flow_denied",
    "no_way_out",
    "protocol_not_translated",
    "required_unreachable",
    "zone_crossing_default",
]


def no_way_out(case: Case) -> Iterator[Doubt]:
    """A flow from a subnet where no route matches, or whose door lets no private source out."""
    for path in _once(case, Verdict.NO_ROUTE, Verdict.NO_PUBLIC_SOURCE, Verdict.NOT_CARRIED, Verdict.UNRESOLVED):
        flow = case.estate.flows[path.flow]
        if path.trace.verdict is Verdict.UNRESOLVED:
            remedy = f"Add destinations.{flow.to}.prefixes: `fenrask resolve --save FILE` writes them."
        elif path.trace.verdict is Verdict.NOT_CARRIED:
            remedy = f"Lead {flow.to} to an exit that carries it."
        else:
            remedy = case.default_for(path.subnet)
        yield Doubt(_table_place(case, path), _told(case, path), remedy)


def exit_out_of_reach(case: Case) -> Iterator[Doubt]:
    """A flow led to an exit that exists but cannot be reached or used from there."""
    for path in _once(case, Verdict.BLACK_HOLE):
        name = path.trace.hops[-1].exit
        exit_ = case.estate.exits.get(name)
        if exit_ is not None and not exit_.fault:
            remedy = f"Lead it to an exit of its own network, or join the networks so that {name} may be used."
            yield Doubt(_table_place(case, path), _told(case, path), remedy)


def flow_denied(case: Case) -> Iterator[Doubt]:
    """A flow that a rule, or a peering, does not let pass."""
    for path in _once(case, Verdict.DENIED):
        hop = path.trace.hops[-1]
        remedy = f"Add a rule to exits.{hop.exit} that allows {case.estate.flows[path.flow].to}, before {hop.rule}."
        if not hop.rule:
            remedy = "Set `sources: any` on that peering, or route it another way."
        yield Doubt(case.place("flows", path.flow), _told(case, path), remedy)


def answer_lost(case: Case) -> Iterator[Doubt]:
    """A flow that arrives but whose answers find no way back."""
    for path in _once(case, Verdict.NO_RETURN):
        remedy = "Give the far side, or the exit's own subnet, a route back to the source."
        yield Doubt(case.place("flows", path.flow), _told(case, path), remedy)


def answer_by_another_way(case: Case) -> Iterator[Doubt]:
    """A flow whose answers pass by an exit that keeps state."""
    for path in _once(case, Verdict.OTHER_RETURN):
        source = case.estate.subnets[path.subnet].prefix
        remedy = f"Lead {source} back through it, in the table of the subnet where the answer turns off."
        yield Doubt(case.place("flows", path.flow), _told(case, path), remedy)


def family_not_carried(case: Case) -> Iterator[Doubt]:
    """A flow led to an exit that does not carry its IP version."""
    for path in _once(case, Verdict.FAMILY_NOT_CARRIED):
        remedy = "Lead that address family to an exit that carries it."
        yield Doubt(case.place("flows", path.flow), _told(case, path), remedy)


def protocol_not_translated(case: Case) -> Iterator[Doubt]:
    """A flow led to a translator that does not translate its transport protocol."""
    for path in _once(case, Verdict.PROTOCOL_NOT_TRANSLATED):
        remedy = "Lead it to an exit whose offer lists the protocol."
        yield Doubt(case.place("flows", path.flow), _told(case, path), remedy)


def required_unreachable(case: Case) -> Iterator[Doubt]:
    """A destination that a workload's platform requires, which it does not reach."""
    for name, workload in case.estate.workloads.items():
        for number, destination in enumerate(workload.requires):
            for subnet in workload.subnets:
                traces = case.traces(subnet, destination, workload.public_address)
                lost = next((one for one in traces if not one.verdict.arrives), None)
                if lost is not None:
                    why = f"from {subnet}: {lost.verdict.value}, {lost.why}"
                    place = case.place("workloads", name, "requires", number)
                    remedy = f"Give {subnet} a more specific route to {destination}, or allow it."
                    yield Doubt(place, f"{name} cannot do without {destination}, and {why}", remedy)
                    break


def zone_crossing_default(case: Case) -> Iterator[Doubt]:
    """A default that leads out of the subnet's zone although a like exit stands in it: it costs, and can fail."""
    seen: set[tuple[str, str]] = set()
    for path in case.paths.paths:
        if not path.trace.hops:
            continue
        hop = path.trace.hops[0]
        key = (hop.subnet, hop.exit)
        if hop.route is None or hop.route.prefix.prefixlen or not hop.crosses_zone or key in seen:
            continue
        seen.add(key)
        kind = case.estate.exits[hop.exit].kind
        near = [
            name
            for name, one in case.estate.exits.items()
            if one.kind == kind and case.estate.network_of(one) == case.estate.subnets[hop.subnet].network
            and hop.from_zone in case.estate.zones_of(one)
        ]  # fmt: skip
        cause = f"{hop.subnet} in zone {hop.from_zone} leaves by {hop.exit} in zone {hop.to_zone}: each byte is charged"
        remedy = (
            f"Lead its default to {near[0]}." if near else f"Put a {kind} into zone {hop.from_zone}, or accept this."
        )
        yield Doubt(_table_place(case, path), cause, remedy)


def _told(case: Case, path: FlowPath) -> str:
    return f"{path.flow} from {path.subnet} to {case.estate.flows[path.flow].to}: {path.trace.why}"


def _table_place(case: Case, path: FlowPath) -> Place:
    table = case.estate.table_of(path.subnet)
    return case.place("route_tables", table) if table else case.place("subnets", path.subnet)


def _once(case: Case, *verdicts: Verdict) -> Iterator[FlowPath]:
    """The first way of each (table, destination, reason) that ends so."""
    seen: set[tuple[object, ...]] = set()
    for path in (path for verdict in verdicts for path in case.by_verdict.get(verdict, ())):
        key = (case.estate.table_of(path.subnet), case.estate.flows[path.flow].to, path.trace.why)
        if key not in seen:
            seen.add(key)
            yield path
