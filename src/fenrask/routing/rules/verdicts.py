"""Rules read off the ways of flows: where a walk ends otherwise than it should."""

from collections.abc import Iterator

from fenrask.errors import Place
from fenrask.routing.packets import Verdict
from fenrask.routing.rules.contract import Case, Doubt
from fenrask.routing.ways import Way

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
    for way in _once(case, Verdict.NO_ROUTE, Verdict.NO_PUBLIC_SOURCE, Verdict.NOT_CARRIED, Verdict.UNRESOLVED):
        flow = case.estate.flows[way.flow]
        if way.walk.verdict is Verdict.UNRESOLVED:
            remedy = f"Add destinations.{flow.to}.prefixes: `fenrask resolve --save FILE` writes them."
        elif way.walk.verdict is Verdict.NOT_CARRIED:
            remedy = f"Lead {flow.to} to an exit that carries it."
        else:
            remedy = case.default_for(way.subnet)
        yield Doubt(_table_place(case, way), _told(case, way), remedy)


def exit_out_of_reach(case: Case) -> Iterator[Doubt]:
    """A flow led to an exit that exists but cannot be reached or used from there."""
    for way in _once(case, Verdict.BLACK_HOLE):
        name = way.walk.hops[-1].exit
        way_out = case.estate.exits.get(name)
        if way_out is not None and not way_out.fault:
            remedy = f"Lead it to an exit of its own network, or join the networks so that {name} may be used."
            yield Doubt(_table_place(case, way), _told(case, way), remedy)


def flow_denied(case: Case) -> Iterator[Doubt]:
    """A flow that a rule, or a peering, does not let pass."""
    for way in _once(case, Verdict.DENIED):
        hop = way.walk.hops[-1]
        remedy = f"Add a rule to exits.{hop.exit} that allows {case.estate.flows[way.flow].to}, before {hop.rule}."
        if not hop.rule:
            remedy = "Set `forwarded: true` on that peering, or route it another way."
        yield Doubt(case.place("flows", way.flow), _told(case, way), remedy)


def answer_lost(case: Case) -> Iterator[Doubt]:
    """A flow that arrives but whose answers find no way back."""
    for way in _once(case, Verdict.NO_RETURN):
        remedy = "Give the far side, or the exit's own subnet, a route back to the source."
        yield Doubt(case.place("flows", way.flow), _told(case, way), remedy)


def answer_by_another_way(case: Case) -> Iterator[Doubt]:
    """A flow whose answers pass by an exit that keeps state."""
    for way in _once(case, Verdict.OTHER_RETURN):
        source = case.estate.subnets[way.subnet].prefix
        remedy = f"Lead {source} back through it, in the table of the subnet where the answer turns off."
        yield Doubt(case.place("flows", way.flow), _told(case, way), remedy)


def family_not_carried(case: Case) -> Iterator[Doubt]:
    """A flow led to an exit that does not carry its IP version."""
    for way in _once(case, Verdict.FAMILY_NOT_CARRIED):
        remedy = "Lead that address family to an exit that carries it."
        yield Doubt(case.place("flows", way.flow), _told(case, way), remedy)


def protocol_not_translated(case: Case) -> Iterator[Doubt]:
    """A flow led to a translator that does not translate its transport protocol."""
    for way in _once(case, Verdict.PROTOCOL_NOT_TRANSLATED):
        remedy = "Lead it to an exit whose offer lists the protocol."
        yield Doubt(case.place("flows", way.flow), _told(case, way), remedy)


def required_unreachable(case: Case) -> Iterator[Doubt]:
    """A destination that a workload's platform requires, which it does not reach."""
    for name, workload in case.estate.workloads.items():
        for number, destination in enumerate(workload.requires):
            for subnet in workload.subnets:
                walks = case.walks(subnet, destination, workload.public_address)
                lost = next((one for one in walks if not one.verdict.arrives), None)
                if lost is not None:
                    why = f"from {subnet}: {lost.verdict.value}, {lost.why}"
                    place = case.place("workloads", name, "requires", number)
                    remedy = f"Give {subnet} a more specific route to {destination}, or allow it."
                    yield Doubt(place, f"{name} cannot do without {destination}, and {why}", remedy)
                    break


def zone_crossing_default(case: Case) -> Iterator[Doubt]:
    """A default that leads out of the subnet's zone although a like exit stands in it: it costs, and can fail."""
    seen: set[tuple[str, str]] = set()
    for way in case.ways.ways:
        if not way.walk.hops:
            continue
        hop = way.walk.hops[0]
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
        yield Doubt(_table_place(case, way), cause, remedy)


def _told(case: Case, way: Way) -> str:
    return f"{way.flow} from {way.subnet} to {case.estate.flows[way.flow].to}: {way.walk.why}"


def _table_place(case: Case, way: Way) -> Place:
    table = case.estate.table_of(way.subnet)
    return case.place("route_tables", table) if table else case.place("subnets", way.subnet)


def _once(case: Case, *verdicts: Verdict) -> Iterator[Way]:
    """The first way of each (table, destination, reason) that ends so."""
    seen: set[tuple[object, ...]] = set()
    for way in (way for verdict in verdicts for way in case.by_verdict.get(verdict, ())):
        key = (case.estate.table_of(way.subnet), case.estate.flows[way.flow].to, way.walk.why)
        if key not in seen:
            seen.add(key)
            yield way
