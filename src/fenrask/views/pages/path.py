"""Ways out as pages: of every flow, and of one subnet hop by hop."""

from collections.abc import Iterable, Sequence
from fractions import Fraction

from fenrask.estate import Described
from fenrask.evaluation import BrokenNeed
from fenrask.routing import LOCAL, FlowPath, Hop, Paths, SubnetTable, TableRoute, Trace
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["flows_page", "needs_table", "routes_page", "trace_page"]

_FLOWS = (
    Column("flow", "flow"),
    Column("subnets", "from", "list"),
    Column("destination", "to"),
    Column("exits", "way", "list"),
    Column("seen_as", "seen as"),
    Column("verdict", "verdict"),
    Column("breaks", "breaks", "list", least_width=120, sparse=True),
    Column("share", "share", "share", least_width=100),
)
_HOPS = (
    Column("step", "step", "count"),
    Column("subnet", "in subnet"),
    Column("route", "route"),
    Column("origin", "origin"),
    Column("exit", "leads to"),
    Column("zones", "zone"),
    Column("rule", "by rule", sparse=True),
    Column("source", "source afterwards"),
)
_BACK = (
    Column("step", "step", "count"),
    Column("subnet", "in"),
    Column("route", "route"),
    Column("exit", "leads to"),
    Column("to", "back to"),
)
_ROUTES = (
    Column("prefix", "prefix"),
    Column("exit", "leads to"),
    Column("origin", "origin"),
    Column("written_as", "written as"),
    Column("state", "state"),
    Column("shadows", "shadows", "list"),
)
_NEEDS = (Column("flow", "flow"), Column("need", "need"), Column("why", "why it is not met"))


def flows_page(paths: Paths, broken: Sequence[BrokenNeed]) -> Page:
    """Every flow's ways with their verdicts, and the needs they do not meet."""
    estate = paths.described.estate
    needs: dict[str, list[str]] = {}
    for one in broken:
        needs.setdefault(one.flow, []).append(one.need)
    rows = [
        (
            flow,
            [path.subnet for path in same],
            estate.flows[flow].to,
            exits,
            seen_as,
            verdict,
            needs.get(flow, []) if same[0].trace.verdict.arrives else [],
            _sum(same),
        )
        for (flow, exits, seen_as, verdict), same in _alike(paths).items()
    ]
    lost = dict.fromkeys(path.flow for path in paths.paths if not path.trace.verdict.arrives)
    summary = f"{counted(len(estate.flows), 'flow')}: {len(estate.flows) - len(lost)} arrive"
    if lost:
        summary += f"; lost wholly or in part: {', '.join(lost)}"
    unmet = {one.flow for one in broken} - set(lost)
    if unmet:
        summary += f"; arrive by a way that breaks a need: {', '.join(n for n in estate.flows if n in unmet)}"
    tables = (Table("ways", "Ways out", _FLOWS, rows, empty="no flow is described"), needs_table(broken))
    return Page("path", estate.estate, (summary,), tables)


def _alike(paths: Paths) -> dict[tuple[str, tuple[str, ...], str, str], list[FlowPath]]:
    """Ways of one flow that differ in nothing but the subnet."""
    found: dict[tuple[str, tuple[str, ...], str, str], list[FlowPath]] = {}
    for path in paths.paths:
        seen_as = _seen_as(path.trace) if path.trace.verdict.arrives else "nothing"
        key = (path.flow, path.trace.exits, seen_as, path.trace.verdict.value)
        found.setdefault(key, []).append(path)
    return found


def _sum(paths: Iterable[FlowPath]) -> Fraction:
    return sum((path.share for path in paths), Fraction(0))


def needs_table(broken: Iterable[BrokenNeed]) -> Table:
    """Needs that ways do not meet."""
    rows = [(one.flow, one.need, one.why) for one in broken]
    return Table("needs_not_met", "Needs not met", _NEEDS, rows)


def trace_page(described: Described, target: str, traces: Sequence[tuple[Trace, Fraction]]) -> Page:
    """One subnet's way to a destination or an address, hop by hop; a table for each way."""
    summary, tables = [], []
    for number, (trace, share) in enumerate(traces, 1):
        part = f" ({share} of its addresses)" if share != 1 else ""
        outcome = trace.verdict.value
        outcome += f": the far side sees {_seen_as(trace)}" if trace.verdict.arrives else f": {trace.why}"
        summary.append(f"{trace.subnet} to {target} at {trace.packet.address}{part}: {outcome}")
        name = "hops" if number == 1 else f"hops_{number}"
        rows = [_hop_row(step, hop) for step, hop in enumerate(trace.hops, 1)]
        tables.append(Table(name, f"Hops to {trace.packet.address}", _HOPS, rows))
        back = [
            (step, hop.subnet or "from outside", _route(hop), hop.exit or "nothing", str(hop.source))
            for step, hop in enumerate(trace.back, 1)
        ]
        if back:
            tables.append(Table(f"{name}_back", "The answer's way back, inside", _BACK, back))
    facts = {
        "verdicts": [trace.verdict.value for trace, _ in traces],
        "seen_as": [_seen_as(w) for w, _ in traces],
    }
    return Page("way", described.estate.estate, tuple(summary), tuple(tables), facts)


def _hop_row(step: int, hop: Hop) -> tuple[object, ...]:
    origin = hop.route.origin.word if hop.route else ""
    zones = " to ".join(dict.fromkeys(zone for zone in (hop.from_zone, hop.to_zone) if zone))
    exit_name = f"{hop.exit} via {hop.via}" if hop.via else hop.exit
    return (step, hop.subnet, _route(hop), origin, exit_name or "nothing", zones, hop.rule, str(hop.source))


def _route(hop: Hop) -> str:
    if hop.route:
        return f"{hop.route.prefix} ({hop.route.table})"
    return "by name" if hop.by_name else "none matches"


def routes_page(described: Described, subnet: str, table: SubnetTable) -> Page:
    """The effective routes of a subnet: the winners first, by length, then those that never serve."""
    winners = [route for _, routes in table.winners for route in routes]
    losers = [route for route in table.routes if route not in winners]
    rows = [_route_row(described, table, route, "in use") for route in winners]
    rows += [_route_row(described, table, route, "shadowed") for route in losers]
    fallback = described.estate.fallback_of.get(described.estate.subnets[subnet].network)
    summary = f"{subnet}: {counted(len(winners), 'route')} in use, {len(losers)} shadowed"
    rest = f"what no route matches leaves by {fallback}" if fallback else "what no route matches is dropped"
    shown = Table("routes", f"Table {table.name}", _ROUTES, rows, empty="no route at all")
    return Page("routes", described.estate.estate, (summary, rest), (shown,))


def _route_row(described: Described, table: SubnetTable, route: TableRoute, state: str) -> tuple[object, ...]:
    known = route.exit == LOCAL or route.exit in described.estate.exits
    shadows = [f"{one.prefix} to {one.exit}" for one in table.shadowed(route)] if state == "in use" else []
    fault = "" if known else ", black hole"
    return (route.prefix, route.exit, route.origin.word, route.key, f"{state}{fault}", shadows)


def _seen_as(trace: Trace) -> str:
    return str(trace.source)
