"""Rules read off the paths of flows: where one ends otherwise than it should."""

from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from typing import Any

from fenrask.checks.contract import Context, Doubt, Fix, in_table_of
from fenrask.checks.filters import denying, filter_place, opening, opening_for
from fenrask.errors import Place
from fenrask.estate import ExitModel, merge
from fenrask.estate.suggestions import some
from fenrask.prefixes import is_public
from fenrask.routing import FlowPath, Judged, Paths, Trace, Verdict
from fenrask.units import percent

__all__ = [
    "asymmetric_return",
    "exit_out_of_reach",
    "flow_denied",
    "ip_version_lost",
    "ip_version_not_supported",
    "no_return_route",
    "protocol_not_translated",
    "reaches_forbidden",
    "reply_denied",
    "required_unreachable",
    "unreachable",
    "zone_crossing_default",
]


def unreachable(context: Context) -> Iterator[Doubt]:
    """A flow from a subnet where no route matches, or whose next hop does not carry it."""
    ends = (
        Verdict.NO_ROUTE,
        Verdict.NO_PUBLIC_SOURCE,
        Verdict.NOT_CARRIED,
        Verdict.UNRESOLVED,
        Verdict.PRIVATE_DESTINATION,
        Verdict.NO_HOST,
    )
    for paths in _grouped(context, *ends):
        path = paths[0]
        fix: Fix | None = None
        if path.trace.verdict is Verdict.UNRESOLVED and not context.estate.destinations[path.to].names_public:
            remedy = f"Let its names resolve to an endpoint in {path.subnet}, or in public (names_public)."
        elif path.trace.verdict is Verdict.UNRESOLVED:
            remedy = f"Look its names up: `fenrask resolve --save found.json` writes destinations.{path.to}.prefixes."
        else:
            fix = context.first_that_cures(path.flow, _routes_to(context, path))
            remedy = (
                "Add the route."
                if fix
                else f"Route {path.to} to an exit that carries it (`fenrask compare` shows designs)."
            )
            if path.trace.verdict is Verdict.NO_HOST and not fix:
                remedy = f"Describe the subnet that holds {path.trace.packet.address}, or correct the destination."
        yield Doubt(_table_place(context, path), _cause(context, paths), remedy, fix)


def _routes_to(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Routes that may cure a path: to a private destination through what reaches it, else a default."""
    estate = context.estate
    to, table = path.to, estate.table_of(path.subnet)
    network = estate.subnets[path.subnet].network
    prefixes = estate.destinations[to].prefixes
    private = bool(prefixes) and not any(map(is_public, prefixes))
    if table is not None:
        for name, exit_ in estate.exits.items():
            reaches = exit_.party or exit_.announced or exit_.joins or (exit_.carries and to in exit_.carries)
            near = network in exit_.joins or estate.network_of(exit_) == network
            if reaches and near and not exit_.fault and (private or exit_.carries):
                yield {"route_tables": {table: {to: name}}}
    yield from _stated_at_peerings(context, path)
    if not private:
        yield from context.defaults_for(path.subnet)


def _stated_at_peerings(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Routes through a peering, there and back, in all tables that a flow needs, where the provider makes none."""
    estate, senders = context.estate, context.estate.workloads[path.workload].subnets
    held = estate.subnet_table.match(path.trace.packet.address)
    there = held[1] if held else None
    network = estate.subnets[path.subnet].network
    if there is None or context.described.catalogue.behaviour.peering_routes == "automatic":
        return
    for name, other in estate.peers_of(network):
        if other == estate.subnets[there].network:
            both: Fix = {}
            for subnet, toward in (*((one, other) for one in senders), (there, network)):
                routes = {str(prefix): name for prefix in estate.networks[toward].prefixes}
                both = merge(both, in_table_of(context.estate, subnet, routes))
            yield both


def exit_out_of_reach(context: Context) -> Iterator[Doubt]:
    """A flow routed to an exit that exists but cannot be reached or used from there."""
    for paths in _grouped(context, Verdict.BLACK_HOLE):
        path = paths[0]
        name = path.trace.hops[-1].exit
        exit_ = context.estate.exits.get(name)
        if exit_ is not None and not exit_.fault:
            fix = context.first_that_cures(path.flow, _opened(context, path, name))
            remedy = (
                "Open the peering to it."
                if fix
                else f"Route it to an exit of its own network, or join the networks so that {name} may be used."
            )
            yield Doubt(_table_place(context, path), _cause(context, paths), remedy, fix)


def _opened(context: Context, path: FlowPath, name: str) -> Iterator[Fix]:
    """The peerings that could open the way to an exit of the other side."""
    place = path.trace.hops[-1].subnet
    if place not in context.estate.subnets:
        return
    network = context.estate.subnets[place].network
    target = context.estate.network_of(context.estate.exits[name])
    for peering, other in context.estate.peers_of(network):
        if other == target:
            yield {"exits": {peering: {"exits_open_to": [network]}}}
            yield {"exits": {peering: {"exits_open_to": [network], "sources": "any"}}}


def flow_denied(context: Context) -> Iterator[Doubt]:
    """A flow that a rule, or a peering, denies."""
    for paths in _grouped(context, Verdict.DENIED):
        path, hop = paths[0], paths[0].trace.hops[-1]
        to = path.to
        if judged := denying(context.estate, path):
            fix = context.first_that_cures(path.flow, [opening(context, path)])
            yield Doubt(filter_place(context, judged), _cause(context, paths), "Allow it there.", fix)
            continue
        exit_ = context.estate.exits.get(hop.exit)
        fixes: list[Fix] = []
        if hop.rule and exit_ is not None:
            allowed: dict[str, Any] = {"action": "allow", "destinations": [to], "order": exit_.first_order - 1}
            fixes = [{"exits": {hop.exit: {"rules": {f"allow-{to}": allowed}}}}]
            remedy = f"Allow {to} before {hop.rule}."
        elif policy := _let_in(context, path, exit_):
            fixes, remedy = [policy], "Let it in there."
        else:
            peering = hop.via or hop.exit
            fixes = [{"exits": {peering: {"sources": "any"}}}]
            remedy = f"Let {peering} take packets of other sources."
        fix = context.first_that_cures(path.flow, fixes)
        words = remedy if fix else "Allow it where it is denied, or route it another path."
        yield Doubt(context.place("flows", path.flow), _cause(context, paths), words, fix)


def _let_in(context: Context, path: FlowPath, exit_: ExitModel | None) -> Fix:
    """What lets a path in that the policy of an endpoint, or of a service, denies at its end."""
    if exit_ is None or exit_.joins:
        return {}
    name, destination = path.trace.hops[-1].exit, context.estate.destinations[path.to]
    fix: Fix = {}
    if exit_.lets_in is not None and path.workload not in exit_.lets_in:
        fix["exits"] = {name: {"allowed_from": [*exit_.lets_in, path.workload]}}
    if destination.only_through is not None and name not in destination.only_through and exit_.carries:
        fix["destinations"] = {path.to: {"only_through": [*destination.only_through, name]}}
    elif destination.public_access == "listed" and not exit_.carries and path.trace.source.address is not None:
        listed = [*map(str, destination.allowed), str(path.trace.source.address)]
        fix["destinations"] = {path.to: {"allowed": listed}}
    return fix


def reply_denied(context: Context) -> Iterator[Doubt]:
    """A flow whose replies a stateless filter drops."""
    for paths in _grouped(context, Verdict.REPLY_DENIED):
        path = paths[0]
        judged = denying(context.estate, path)
        if judged is not None:
            fix = context.first_that_cures(path.flow, [opening(context, path), _stateful(judged)])
            words = "Let replies pass: a stateless filter does not know what they reply to."
            yield Doubt(filter_place(context, judged), _cause(context, paths), words, fix)


def _stateful(judged: Judged) -> Fix:
    crossing = judged.crossing
    return {crossing.section: {crossing.owner: {"filters": {judged.filter: {"stateful": True}}}}}


def no_return_route(context: Context) -> Iterator[Doubt]:
    """A flow that arrives but whose replies find no path back."""
    for paths in _grouped(context, Verdict.NO_RETURN):
        path = paths[0]
        fix = context.first_that_cures(path.flow, _returns(context, path))
        remedy = (
            "Let it be known there."
            if fix
            else "Give the remote end, or the exit's own subnet, a route back to the source."
        )
        yield Doubt(context.place("flows", path.flow), _cause(context, paths), remedy, fix)


def asymmetric_return(context: Context) -> Iterator[Doubt]:
    """A flow whose replies return past an exit that keeps connection state, so that they are dropped."""
    for paths in _grouped(context, Verdict.OTHER_RETURN):
        path = paths[0]
        source = context.estate.subnets[path.subnet].prefix
        fix = context.first_that_cures(path.flow, _returns(context, path))
        remedy = (
            "Add the return route."
            if fix
            else f"Route {source} back through it, in the table where the reply turns off."
        )
        yield Doubt(context.place("flows", path.flow), _cause(context, paths), remedy, fix)


def _returns(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Return routes that may cure a flow: through each stateful exit that it passed, in the tables further on.

    For the subnet of the path alone, and for all that the flow comes from.
    """
    estate = context.estate
    senders = estate.workloads[path.workload].subnets
    every = [str(estate.subnets[name].prefix) for name in senders]
    groups = [[str(estate.subnets[path.subnet].prefix)], *([every] if len(every) > 1 else [])]
    exits = [name for name in path.trace.exits if name in estate.exits]
    for name in exits:
        exit_ = estate.exits[name]
        if exit_.known_beyond is not None and path.trace.source.prefix is not None:
            known = [*map(str, exit_.known_beyond), str(path.trace.source.prefix)]
            yield {"exits": {name: {"advertised": known}}}
    yield from _to_pool(context, path)
    yield from _stated_at_peerings(context, path)
    machines = [name for name in exits if estate.exits[name].is_machine or estate.exits[name].joins]
    tables: dict[str, None] = {}
    for name in exits:
        for place in estate.exits[name].in_subnets[:1]:
            tables |= {table: None for table in [estate.table_of(place)] if table}
        tables |= dict.fromkeys(sorted(estate.exits[name].tables))
    held = estate.subnet_table.match(path.trace.packet.address)
    tables |= {table: None for table in [estate.table_of(held[1]) if held else None] if table}
    for sources in groups:
        for machine in machines:
            routes = dict.fromkeys(sources, machine)
            for table in reversed(tables):
                yield {"route_tables": {table: routes}}
            if len(tables) > 1:
                yield {"route_tables": {table: routes for table in tables}}


def _to_pool(context: Context, path: FlowPath) -> Iterator[Fix]:
    """The route to a private pool where the reply to it is lost: in the table there, or in that of the line."""
    pool, owner, back = path.trace.source.prefix, path.trace.source.exit, path.trace.back
    if pool is None or not owner or not back:
        return
    if back[-1].subnet in context.estate.subnets:
        yield in_table_of(context.estate, back[-1].subnet, {str(pool): owner})
    elif (line := context.estate.exits.get(back[-1].via)) is not None and line.of_network:
        table = line.table_for_replies or f"{back[-1].via}-in"
        yield {"exits": {back[-1].via: {"routes": table}}, "route_tables": {table: {str(pool): owner}}}


def ip_version_not_supported(context: Context) -> Iterator[Doubt]:
    """A flow routed to an exit that does not carry its IP version."""
    for paths in _grouped(context, Verdict.FAMILY_NOT_CARRIED):
        remedy = "Route that IP version to an exit that carries it."
        yield Doubt(context.place("flows", paths[0].flow), _cause(context, paths), remedy)


def ip_version_lost(context: Context) -> Iterator[Doubt]:
    """A flow that asks by one IP version, loses it, and goes by the other."""
    found: dict[tuple[str | None, str, tuple[str, ...]], list[FlowPath]] = {}
    for path in context.paths.after_loss:
        if path.example.verdict.arrives:
            key = (context.estate.table_of(path.subnet), path.to, path.trace.portion.lost_before)
            found.setdefault(key, []).append(path)
    for (_, to, why), paths in found.items():
        path = paths[0]
        subnets, flows = (some(dict.fromkeys(each)) for each in ([p.subnet for p in paths], [p.flow for p in paths]))
        shares: dict[str, Fraction] = {}
        for part in context.paths.by_flow[path.flow]:
            if part.subnet == path.subnet and part.trace.portion.lost_before:
                shares[part.subnet] = shares.get(part.subnet, Fraction(0)) + part.within
        fix = context.first_that_cures(
            path.flow, _other_version(context, path), also=lambda after: not after.after_loss
        )
        cause = (
            f"{flows} from {subnets} to {to}: {some(why)}; {percent(float(shares[path.subnet]))} of it goes over the "
            "other version, late where hosts do not try both at once (RFC 8305)"
        )
        remedy = "Let it out." if fix else "Let that version out, or take it out of the subnet or the destination."
        yield Doubt(_table_place(context, path), cause, remedy, fix)


def _other_version(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Defaults for IPv6 through what lets it out of a network as it is."""
    table, network = context.estate.table_of(path.subnet), context.estate.subnets[path.subnet].network
    for name, exit_ in context.estate.exits.items():
        if table is not None and exit_.untranslated_ipv6 and exit_.of_network == network and not exit_.fault:
            yield {"route_tables": {table: {"::/0": name}}}


def protocol_not_translated(context: Context) -> Iterator[Doubt]:
    """A flow routed to a translator that does not translate its transport protocol."""
    for paths in _grouped(context, Verdict.PROTOCOL_NOT_TRANSLATED):
        remedy = "Route it to an exit whose offer lists the protocol."
        yield Doubt(context.place("flows", paths[0].flow), _cause(context, paths), remedy)


def required_unreachable(context: Context) -> Iterator[Doubt]:
    """What a workload's platform requires and does not reach, its resolver included: all of it in one finding."""
    asking: set[str] = set()
    if any(workload.resolver for workload in context.estate.workloads.values()):
        flows = context.estate.outward_flows.values()
        asking = {flow.workload for flow in flows if _is_asked_by_name(context, flow.to)}
    for name, workload in context.estate.workloads.items():
        resolver = (workload.resolver,) if workload.resolver and name in asking else ()
        failed = {
            (destination, subnet): trace
            for destination in dict.fromkeys((*workload.requires, *resolver))
            for subnet in workload.subnets
            for trace in context.traces(subnet, destination, workload.public_address, name)
            if not trace.verdict.arrives
        }
        if failed:
            by_reason: dict[tuple[str, str, str], list[str]] = {}
            for (destination, subnet), trace in failed.items():
                part = f" ({trace.part})" if trace.part else ""
                by_reason.setdefault((destination, part, f"{trace.verdict.value}, {trace.why}"), []).append(subnet)
            told = [f"{to} from {some(subnets)}{part}: {why}" for (to, part, why), subnets in by_reason.items()]
            place = context.place("workloads", name, "requires" if workload.requires else "resolver")
            fix = _reaching(context, name, list(dict.fromkeys(destination for destination, _ in failed)))
            remedy = "Open what its platform needs." if fix else _without_fix(context, name, failed)
            yield Doubt(place, f"{name} requires {'; '.join(told)}", remedy, fix)


def _is_asked_by_name(context: Context, destination: str) -> bool:
    """Whether hosts ask a resolver for a destination: it has names, or an endpoint that they find by name."""
    found_by_name = any(to == destination for _, to in context.estate.by_name)
    return found_by_name or bool(context.estate.destinations[destination].names)


def reaches_forbidden(context: Context) -> Iterator[Doubt]:
    """What hosts of a workload reach although they must not, in part or whole, and be it with no reply."""
    for name, workload in context.estate.workloads.items():
        for to in workload.must_not_reach:
            found = [
                trace
                for subnet in workload.subnets
                for trace in context.traces(subnet, to, workload.public_address, name)
                if trace.verdict.gets_there
            ]
            # What is answered says more than what is only sent.
            found = [trace for trace in found if trace.verdict.arrives] or found
            if not found:
                continue
            subnets = some(dict.fromkeys(trace.subnet for trace in found))
            exits = some(dict.fromkeys(" > ".join(trace.exits) or "its own network" for trace in found))
            flows = [flow for flow, one in context.estate.outward_flows.items() if (one.from_, one.to) == (name, to)]
            part = f" ({found[0].part})" if found[0].part else ""
            lost = "" if found[0].verdict.arrives else ": what it sends gets there, only the reply is lost"
            cause = f"{name} must not reach {to}, and does from {subnets}{part} through {exits}{lost}"
            place = context.place("workloads", name, "must_not_reach")
            if flows:
                remedy = f"{some(flows)} of the estate goes there: remove the flow, or {to} from the list."
                yield Doubt(place, cause, remedy)
                continue
            fix = _closed(context, name, to)
            yield Doubt(place, cause, "Deny it at its hosts." if fix else "Take out the route, or deny it.", fix)


def _closed(context: Context, name: str, to: str) -> Fix | None:
    """A filter of a workload that denies a destination, where that breaks nothing else; None for none."""
    prefixes = [*map(str, context.estate.destinations[to].prefixes)]
    what: dict[str, Any] = {"prefixes": prefixes} if prefixes else {"destinations": [to]}
    rules = {"out": {f"not-{to}": {"action": "deny", **what}}, "out_default": "allow", "in_default": "allow"}
    fix: Fix = {"workloads": {name: {"filters": {f"not-{to}": rules}}}}
    return fix if context.breaks_nothing(fix) and not context.gets_anywhere(name, to, fix) else None


def _without_fix(context: Context, name: str, failed: Mapping[tuple[str, str], Trace]) -> str:
    nameless = [to for to, _ in failed if not context.estate.destinations[to].prefixes]
    if nameless:
        where = f"destinations.{nameless[0]}"
        return f"Give {where} its prefixes: `fenrask resolve --save found.json` writes them."
    return (
        f"Allow it, or give {some(dict.fromkeys(subnet for _, subnet in failed))} a route to an exit that carries it."
    )


def _reaching(context: Context, name: str, destinations: Sequence[str]) -> Fix | None:
    """The patch with which a workload reaches all these destinations and no flow loses anything; None for none known.

    For each in turn: a private endpoint to it, a rule of the firewall that denies it, a filter opened, a default.
    """
    whole: Fix = {}
    for destination in destinations:
        for fix in _openings_for(context, name, destination):
            trial = merge(whole, fix)
            if context.reaches(name, destination, trial):
                whole = trial
                break
        else:
            return None
    return whole if context.breaks_nothing(whole) else None


def _openings_for(context: Context, name: str, destination: str) -> Iterator[Fix]:
    estate = context.estate
    workload = estate.workloads[name]
    for endpoint, exit_ in estate.exits.items():
        # A private endpoint that is there already comes before any opening of the internet path.
        if exit_.entered_by_route and exit_.carries == (destination,):
            tables = {table for subnet in workload.subnets if (table := estate.table_of(subnet))}
            yield {"route_tables": {table: {destination: endpoint} for table in sorted(tables)}}
    for subnet in workload.subnets:
        for trace in context.traces(subnet, destination, workload.public_address, name):
            hop = trace.hops[-1] if trace.hops else None
            wall = estate.exits.get(hop.exit) if hop else None
            if trace.verdict is Verdict.DENIED and hop and hop.rule and wall is not None:
                allowed = {"action": "allow", "destinations": [destination], "order": wall.first_order - 1}
                yield {"exits": {hop.exit: {"rules": {f"allow-{destination}": allowed}}}}
    yield opening_for(context, name, destination)
    for subnet in workload.subnets:
        yield from context.defaults_for(subnet)


def zone_crossing_default(context: Context) -> Iterator[Doubt]:
    """A default out of the subnet's zone although an exit of the same kind is in it: it costs, and can fail."""
    seen: set[tuple[str, str]] = set()
    for path in context.paths.first_of_each(_crosses_by_default):
        hop, subnet = path.example.hops[0], path.subnet
        key = (subnet, hop.exit)
        if key in seen:
            continue
        seen.add(key)
        exits, network = context.estate.exits, context.estate.subnets[subnet].network
        kind = type(exits[hop.exit])
        near = [
            name
            for name, one in exits.items()
            if type(one) is kind
            and name != hop.exit
            and context.estate.network_of(one) == network
            and hop.from_zone in context.estate.zones_of(one)
        ]
        cause = (
            f"{subnet} in zone {hop.from_zone} leaves through {hop.exit} in zone {hop.to_zone}: each byte is charged"
        )
        table = context.estate.table_of(subnet)
        yield Doubt(_table_place(context, path), cause, *_nearer(context, path, subnet, table, near))


def _crosses_by_default(trace: Trace) -> bool:
    """Whether a default route leads out of the zone."""
    hop = trace.hops[0] if trace.hops else None
    return hop is not None and hop.route is not None and not hop.route.prefix.prefixlen and hop.crosses_zone


def _nearer(
    context: Context, path: FlowPath, subnet: str, table: str | None, near: Sequence[str]
) -> tuple[str, Fix | None]:
    """The remedy: another exit as the default, in a table of the subnet's own where it shares the one it has."""
    route = path.example.hops[0].route
    default = "0.0.0.0/0" if route is None else str(route.prefix)
    shared = table is None or any(
        context.estate.table_of(one) == table for one in context.estate.subnets if one != subnet
    )
    own = f"{subnet}-own" if shared else table
    written = dict(context.described.data.get("route_tables", {}).get(table, {})) if shared else {}
    fixes: list[Fix] = [
        {"route_tables": {own: {**written, default: name}}} | ({"subnets": {subnet: {"routes": own}}} if shared else {})
        for name in near
    ]

    def stays(paths: Paths) -> bool:
        return all(one.subnet != subnet for one in paths.first_of_each(_crosses_by_default))

    fix = context.first_that_cures(path.flow, fixes, also=stays)
    if fix:
        return f"Give it a {'table with a ' if shared else ''}default in its own zone.", fix
    if near:
        return f"With {some(near)} as its default a flow breaks a need: mend that first, or accept this.", None
    kind = context.estate.exits[path.trace.hops[0].exit].kind
    return f"Put a {kind} into its zone, or accept this.", None


def _cause(context: Context, paths: Sequence[FlowPath]) -> str:
    path = paths[0]
    subnets = some(dict.fromkeys(one.subnet for one in paths))
    flows = some(dict.fromkeys(one.flow for one in paths))
    part = f" ({path.words}; {percent(float(path.within))} of it)" if path.words else ""
    return f"{flows} from {subnets} to {path.to}{part}: {path.trace.why}"


def _table_place(context: Context, path: FlowPath) -> Place:
    table = context.estate.table_of(path.subnet)
    return context.place("route_tables", table) if table else context.place("subnets", path.subnet)


def _grouped(context: Context, *verdicts: Verdict) -> list[list[FlowPath]]:
    """The paths that end so, by (table, destination, reason): one finding each."""
    found: dict[tuple[object, ...], list[FlowPath]] = {}
    for path in context.ending(*verdicts):
        key = (context.estate.table_of(path.subnet), path.to, path.trace.why, path.words)
        found.setdefault(key, []).append(path)
    return list(found.values())
