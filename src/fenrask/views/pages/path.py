"""Paths as pages: of every flow, of one subnet hop by hop, inward, and what third parties exchange."""

from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from fenrask.estate import Described, Estate, PrivateEndpoint
from fenrask.estate.suggestions import some
from fenrask.estate.traffic import Numbers
from fenrask.evaluation import BrokenNeed
from fenrask.routing import LOCAL, Exchanged, FlowPath, Hop, Opening, Paths, SubnetTable, TableRoute, Trace, Verdict
from fenrask.units import counted, percent
from fenrask.views.page import Column, MadeRows, Page, Table

__all__ = ["flows_page", "inward_page", "inward_trace_page", "lines_page", "needs_table", "routes_page", "trace_page"]

_FLOWS = (
    Column("flow", "flow", is_answer=True),
    Column("subnets", "from", "list"),
    Column("destination", "to"),
    Column("exits", "path", "list", is_answer=True),
    Column("seen_as", "source seen", is_answer=True),
    Column("verdict", "verdict", is_answer=True),
    Column("breaks", "breaks", "list", sparse=True, is_answer=True),
    Column("part", "which packets", "list", least_width=110, sparse=True),
    Column("down_min_per_month", "down, min/month", "number", least_width=100, sparse=True),
    Column("share", "share", "share", least_width=100),
)
_HOPS = (
    Column("step", "hop", "count"),
    Column("subnet", "in subnet"),
    Column("route", "route"),
    Column("origin", "origin"),
    Column("exit", "next hop"),
    Column("zones", "zone"),
    Column("rule", "rule", sparse=True),
    Column("source", "source address after it"),
)
_BACK = (
    Column("step", "hop", "count"),
    Column("subnet", "in"),
    Column("route", "route"),
    Column("exit", "next hop"),
    Column("to", "back to"),
)
_ROUTES = (
    Column("prefix", "prefix"),
    Column("exit", "next hop"),
    Column("origin", "origin"),
    Column("written_as", "written as"),
    Column("state", "state"),
    Column("shadows", "shadows", "list"),
)
_ENDPOINTS = (
    Column("exit", "endpoint"),
    Column("destination", "service"),
    Column("entered", "entered"),
    Column("names", "names", "list", sparse=True),
    Column("access", "access policy"),
    Column("ip_versions", "IP versions"),
    Column("region", "region", sparse=True),
    Column("state", "state"),
)
_NEEDS = (Column("flow", "flow", is_answer=True), Column("need", "need"), Column("why", "why it is not met"))


def flows_page(paths: Paths, broken: Sequence[BrokenNeed], down_minutes: Mapping[str, float] | None = None) -> Page:
    """Every flow's paths with their verdicts, those with something wrong first, and the needs they do not meet."""
    estate = paths.described.estate
    needs: dict[str, list[str]] = {}
    for missed in broken:
        if missed.need != "arrives":
            needs.setdefault(missed.flow, []).append(missed.need)
    outcomes, outcome, of_path = _by_outcome(paths)
    width = len(outcomes)
    keys, first = np.unique(paths.flow * width + of_path, return_index=True)
    keys = keys[np.argsort(first)]
    lost = np.array([one.verdict != Verdict.ARRIVES.value for one in outcomes], dtype=bool)[keys % max(width, 1)]
    unmet_flow = np.array([name in needs for name in paths.flows], dtype=bool)[keys // max(width, 1)]
    # What does not arrive first, then what breaks a need.
    order = np.argsort(np.where(lost, 0, np.where(unmet_flow, 1, 2)), kind="stable")

    def row(key: int) -> tuple[object, ...]:
        flow, found = paths.flows[key // width], outcomes[key % width]
        same = [path for path in paths.by_flow[flow] if outcome[path.example] == key % width]
        from_, to = estate.flows[flow].ends
        return (
            flow,
            [from_] if estate.flows[flow].is_inward else [path.subnet for path in same],
            to,
            found.exits,
            found.seen_as,
            found.verdict,
            needs.get(flow, []) if found.verdict == Verdict.ARRIVES.value else [],
            list(dict.fromkeys(path.words for path in same if path.words)),
            (down_minutes or {}).get(flow),
            _sum(same),
        )

    rows = MadeRows(keys[order].tolist(), row)
    parts: dict[str, Fraction] = {}
    which: dict[str, dict[str, None]] = {}
    for path in paths.lost:
        parts[path.flow] = parts.get(path.flow, Fraction(0)) + path.share
        which.setdefault(path.flow, {})[path.words] = None
    unmet = [name for name in estate.flows if name in needs and name not in parts]
    fine = len(estate.flows) - len(parts) - len(unmet)
    summary = [f"{counted(len(estate.flows), 'flow')}: {fine} arrive and meet every need"]
    if unmet:
        named = [f"{name}: {', '.join(needs[name])}" for name in unmet]
        arrive = "arrives but breaks" if len(unmet) == 1 else "arrive but break"
        summary.append(f"{len(unmet)} {arrive} a need ({some(named)})")
    if parts:
        named = [
            name if share == 1 else f"{percent(float(share))} of {name}{_in_words(which[name])}"
            for name, share in parts.items()
        ]
        summary.append(f"{len(parts)} {'does' if len(parts) == 1 else 'do'} not arrive ({some(named)})")
    tables = (Table("paths", "Paths", _FLOWS, rows, empty="no flow is described", shown=24), needs_table(broken))
    return Page("path", estate.estate, tuple(summary), tables)


def _in_words(parts: Iterable[str]) -> str:
    """Parts of a flow in words; nothing where it is whole subnets that are lost."""
    words = " and ".join([one for one in parts if one][:2])
    return f" {words}" if words else ""


class _Outcome(NamedTuple):
    """What paths of one flow have in common, though their subnets differ."""

    exits: tuple[str, ...]
    seen_as: str
    verdict: str


def _by_outcome(paths: Paths) -> tuple[list[_Outcome], dict[Trace, int], Numbers]:
    """The outcomes that there are, the number of each example's, and that of each path, (n_paths,)."""
    places: dict[_Outcome, int] = {}
    known: dict[Trace, int] = {}
    for kind in paths.pairs.kinds:
        trace = kind.box.trace
        if trace not in known:
            seen_as = _seen_as(trace) if trace.verdict.arrives else "nothing"
            shown = _Outcome(trace.exits, seen_as, trace.verdict.value)
            known[trace] = places.setdefault(shown, len(places))
    each = paths.pairs.of_rows([known[kind.box.trace] for kind in paths.pairs.kinds], np.intp)
    return list(places), known, each[paths.own]


def _sum(paths: Iterable[FlowPath]) -> Fraction:
    return sum((path.share for path in paths), Fraction(0))


def needs_table(broken: Iterable[BrokenNeed]) -> Table:
    """Needs that paths do not meet."""
    rows = [(one.flow, "reachable" if one.need == "arrives" else one.need, one.why) for one in broken]
    return Table("needs_not_met", "Needs not met", _NEEDS, rows, shown=12, is_answer=True)


def trace_page(
    described: Described, target: str, traces: Sequence[tuple[Trace, Fraction]], broken: Sequence[BrokenNeed] = ()
) -> Page:
    """One subnet's path to a destination or an address, hop by hop and back; tables for each path.

    `broken`: the needs of flows on it that are not met.
    """
    summary, tables = [], []
    for number, (trace, share) in enumerate(traces, 1):
        part = f", {percent(float(share))} of it ({trace.part or 'by equal routes'})" if share != 1 else ""
        outcome = trace.verdict.value
        who = "the remote end sees" if trace.inward is None else "hosts see"
        outcome += f": {who} {_seen_as(trace)}" if trace.verdict.arrives else f": {trace.why}"
        at = "" if trace.packet.address.is_unspecified or trace.part else f" at {trace.packet.address}"
        from_ = trace.subnet
        if trace.inward is not None:
            from_, at = trace.inward.origin, f" in {trace.subnet}{at}"
        summary.append(f"{from_} to {target}{at}{part}: {outcome}")
        name = "hops" if number == 1 else f"hops_{number}"
        rows = [_hop_row(step, hop) for step, hop in enumerate(trace.hops, 1)]
        tables.append(
            Table(name, f"Hops to {target}{at}{f' (packets {trace.part})' if trace.part else ''}", _HOPS, rows)
        )
        back = [
            (step, _entered(hop), _route(hop), hop.exit or "nothing", _back_to(trace, hop))
            for step, hop in enumerate(trace.back, 1)
        ]
        if back:
            tables.append(Table(f"{name}_back", "Return path inside your networks", _BACK, back))
    summary += [f"but {one.flow} breaks {one.need}: {one.why}" for one in broken if one.need != "arrives"]
    facts = {
        "verdicts": [trace.verdict.value for trace, _ in traces],
        "seen_as": [_seen_as(one) for one, _ in traces],
        "parts": [one.part for one, _ in traces],
        "shares": [float(share) for _, share in traces],
        "breaks": sorted({one.need for one in broken}),
    }
    return Page("path", described.estate.estate, tuple(summary), tuple(tables), facts)


def inward_trace_page(paths: Paths, flows: Sequence[str], broken: Sequence[BrokenNeed]) -> Page:
    """The paths of flows that come in, hop by hop and back."""
    described, traces = paths.described, list[tuple[Trace, Fraction]]()
    for path in (path for flow in flows for path in paths.by_flow[flow]):
        traces.append((path.trace, path.within))
    ports = some(dict.fromkeys(str(described.estate.flows[flow].port) for flow in flows))
    target = f"{described.estate.flows[flows[0]].to}:{ports}"
    return trace_page(described, target, traces, [one for one in broken if one.flow in flows])


def _back_to(trace: Trace, hop: Hop) -> str:
    """Who a reply is for."""
    return trace.inward.origin if trace.inward is not None and not hop.source.exit else str(hop.source)


def _entered(hop: Hop) -> str:
    """Where a reply is, and by which line it came there."""
    place = hop.subnet or "from outside"
    return f"{place}, by {hop.via}" if hop.via else place


def _hop_row(step: int, hop: Hop) -> tuple[object, ...]:
    origin = hop.route.origin.word if hop.route else ""
    zones = " to ".join(dict.fromkeys(zone for zone in (hop.from_zone, hop.to_zone) if zone))
    exit_name = f"{hop.exit} via {hop.via}" if hop.via else hop.exit
    comes_in = hop.route is None and hop.source.kind == "remote" and hop.exit
    route = "" if comes_in else _route(hop)
    return (step, hop.subnet or "outside", route, origin, exit_name or "nothing", zones, hop.rule, str(hop.source))


def _route(hop: Hop) -> str:
    if hop.route:
        return f"{hop.route.prefix} ({hop.route.table})"
    return "by name" if hop.by_name else "none matches"


def routes_page(described: Described, subnet: str, table: SubnetTable) -> Page:
    """The routes in force in a subnet, by length, then those that are shadowed; and its network's endpoints."""
    winners = [route for _, routes in table.winners for route in routes]
    losers = [route for route in table.routes if route not in winners]
    rows = [_route_row(described, table, route, "in force") for route in winners]
    rows += [_route_row(described, table, route, "shadowed") for route in losers]
    network = described.estate.subnets[subnet].network
    fallback = described.estate.fallback_of.get(network)
    summary = f"{subnet}: {counted(len(winners), 'route')} in force, {len(losers)} shadowed"
    rest = "what no route matches is dropped"
    if fallback:
        rest = f"what no route matches leaves through {fallback}, with an address that the provider may change"
    routed = {route.exit for route in winners}
    endpoints = [
        _endpoint_row(described.estate, name, one, name in routed)
        for name, one in described.estate.exits.items()
        if isinstance(one, PrivateEndpoint) and described.estate.network_of(one) == network
    ]
    tables = [Table("routes", f"Route table {table.name}", _ROUTES, rows, empty="no route at all", shown=30)]
    if endpoints:
        tables.append(Table("endpoints", f"Private endpoints of {network}", _ENDPOINTS, endpoints))
    return Page("routes", described.estate.estate, (summary, rest), tuple(tables))


_INWARD = (
    Column("origin", "from"),
    Column("exit", "through"),
    Column("subnet", "to subnet"),
    Column("workload", "workload"),
    Column("open", "could", "yes"),
    Column("told", "will, by our routes", "yes"),
    Column("flows", "flows that do", "list"),
    Column("why", "why"),
)


def inward_page(paths: Paths, found: Sequence[Opening]) -> Page:
    """Who can open connections to our hosts, those that no flow does first; and the flows that do."""
    users: dict[tuple[str, str, str], dict[str, None]] = {}
    for path in paths.inward:
        inward = path.example.inward
        if inward is not None and path.example.verdict.arrives:
            through = inward.published_at or inward.ingress
            users.setdefault((through, path.subnet, path.workload), {})[path.flow] = None
    rows = [
        (one.origin, one.through, one.subnet, one.workload, one.is_open, one.is_told, [*flows], one.why)
        for one in found
        for flows in [users.get((one.through, one.subnet, one.workload), {})]
    ]
    rows.sort(key=lambda row: (not row[4], bool(row[6])))
    open_ones = [one for one in found if one.is_open]
    summary = ["No one outside can open connections to these hosts.", _rests_on(paths.described, found)]
    if open_ones:
        origins = some(dict.fromkeys(f"{one.origin} through {one.through}" for one in open_ones))
        hosts = some(dict.fromkeys(one.workload or one.subnet for one in open_ones))
        summary = [f"Connections can be opened inward: from {origins}; to {hosts}."]
        own_route = sum(not one.is_told for one in open_ones)
        if own_route:
            told = len(open_ones) - own_route
            summary.append(
                f"{counted(told, 'of these ways is', 'of these ways are')} open by our routes; "
                f"{own_route} only by a route that the other end writes itself."
            )
        unused = sum(bool(row[4] and not row[6]) for row in rows)
        if unused:
            summary.append(f"{counted(unused, 'open way in is', 'open ways in are')} used by no flow of the estate.")
    stopped = sum(not one.is_open for one in found)
    if stopped:
        summary.append(f"{counted(stopped, 'way in is', 'ways in are')} stopped.")
    table = Table("inward", "Ways in", _INWARD, rows, empty="none", shown=30, joined=("subnet",))
    return Page("inward", paths.described.estate.estate, tuple(summary), (table,), {"open": len(open_ones)})


def _rests_on(described: Described, found: Sequence[Opening]) -> str:
    """What keeps everybody out, so that it holds for as long as that does."""
    estate = described.estate
    lines = [name for name, one in estate.exits.items() if one.known_beyond is not None and not one.fault]
    by_announcement = [name for name in lines if estate.exits[name].reached_by_announcement]
    if stopped := list(dict.fromkeys(one.why for one in found if not one.is_open)):
        return f"It rests on this: {some(stopped, 3)}."
    if by_announcement:
        return f"It rests on what is announced over {some(by_announcement)}, by which alone they route here."
    joined = [name for name, one in estate.exits.items() if one.joins]
    if lines or joined:
        return f"It rests on the routes of {some([*lines, *joined])}: none leads to these hosts."
    return "No line, peering, published port or public address leads to them."


_LINES = (
    Column("party", "third party"),
    Column("exit", "line"),
    Column("direction", "direction"),
    Column("prefix", "prefix"),
    Column("taken", "taken", "yes"),
    Column("flows", "used by", "list", most=3),
    Column("known_in", "known in", "list"),
    Column("faults", "doubtful", "list"),
)


def lines_page(estate: str, found: Sequence[Exchanged]) -> Page:
    """What third parties announce and are told, the doubtful first."""
    ordered = sorted(found, key=lambda line: not line.faults)
    rows = [
        (one.party, one.line, one.direction, str(one.prefix), one.is_taken, one.needed_by, one.known_in, one.faults)
        for one in ordered
    ]
    doubtful = [one for one in found if one.faults]
    parties = counted(len({one.party for one in found}), "third party", "third parties")
    summary = f"{parties}, {counted(len(found), 'prefix', 'prefixes')} exchanged: {len(doubtful)} doubtful."
    refused = [one for one in found if not one.is_taken]
    lines = [summary]
    if refused:
        lines.append(f"The boundary does not take: {some(f'{one.prefix} from {one.party}' for one in refused)}.")
    table = Table("lines", "Prefixes over private lines", _LINES, rows, empty="no private line", shown=30)
    return Page("lines", estate, tuple(lines), (table,), {"doubtful": len(doubtful)})


def _endpoint_row(estate: Estate, name: str, endpoint: PrivateEndpoint, routed: bool) -> tuple[object, ...]:
    entered, state = "by name", "in use"
    if not endpoint.found_by_name and endpoint.in_subnets:
        state = "unused: its names resolve publicly, traffic falls back to the routes"
    elif not endpoint.found_by_name:
        entered, state = "by route", "in use" if routed else "no route here: traffic falls back to the other routes"
    names = estate.destinations[endpoint.destination].names
    policy = "open to anyone" if endpoint.access == "anyone" else "what is listed"
    versions = ", ".join(f"IPv{one}" for one in sorted(endpoint.families))
    return (name, endpoint.destination, entered, names, policy, versions, estate.region_of(endpoint), state)


def _route_row(described: Described, table: SubnetTable, route: TableRoute, state: str) -> tuple[object, ...]:
    known = route.exit == LOCAL or route.exit in described.estate.exits
    shadows = [f"{one.prefix} to {one.exit}" for one in table.shadowed(route)] if state == "in force" else []
    fault = "" if known else ", black hole"
    return (route.prefix, route.exit, route.origin.word, route.key, f"{state}{fault}", shadows)


def _seen_as(trace: Trace) -> str:
    return str(trace.source)
