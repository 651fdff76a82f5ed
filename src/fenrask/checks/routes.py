"""Rules about routes: next hops that do not exist, defaults that are none, loops."""

from collections.abc import Iterable, Iterator

from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.estate import Origin, exits_of
from fenrask.estate.suggestions import nearest, some
from fenrask.prefixes import covers
from fenrask.routing import LOCAL, TableRoute, Verdict
from fenrask.units import counted

__all__ = [
    "black_hole",
    "host_route_as_default",
    "route_loop",
    "subnet_on_two_gateways",
    "table_too_long",
    "unused_table",
]


def black_hole(context: Context) -> Iterator[Doubt]:
    """A route whose exit does not exist; it hides every shorter route behind it."""
    for table, routes in context.estate.route_tables.items():
        for key, value in routes.items():
            for exit_name in exits_of(value):
                if exit_name not in context.estate.exits:
                    parts = _flows_lost(context, table, key, exit_name)
                    lost = sorted(parts)
                    words = [f"{name} {parts[name]}".strip() for name in lost]
                    hit = f"lost: {some(words)}" if lost else "no flow uses it"
                    cause = f"the route {key} of {table} points to {exit_name}, which does not exist; {hit}"
                    place = context.place("route_tables", table, key)
                    fix = {"route_tables": {table: {key: None}}}
                    if lost and context.first_that_cures(lost[0], [fix]) is None:
                        near = nearest(exit_name, context.estate.exits)
                        yield Doubt(place, cause, f"Name an exit that exists. {near}")
                    else:
                        yield Doubt(place, cause, "Remove the route.", fix)


def host_route_as_default(context: Context) -> Iterator[Doubt]:
    """A route to 0.0.0.0 or :: alone, where the default was meant: it matches one address and no other."""
    for table, routes in context.estate.route_tables.items():
        for key, value in routes.items():
            if key in ("0.0.0.0", "0.0.0.0/32", "::", "::/128"):
                default = "0.0.0.0/0" if key.startswith("0") else "::/0"
                cause = f"{key} of {table} is the route to one address, not a default: the prefix length is missing"
                written = context.described.data["route_tables"][table][key]
                changed = {key: None} | ({} if default in routes else {default: written})
                yield Doubt(
                    context.place("route_tables", table, key),
                    cause,
                    f"Write {default}." if default not in routes else f"Remove it: {table} has {default}.",
                    {"route_tables": {table: changed}} if exits_of(value) else None,
                )


def route_loop(context: Context) -> Iterator[Doubt]:
    """An exit whose own subnet's table sends what it lets out back to it."""
    for name, exit_ in context.estate.exits.items():
        for subnet in exit_.in_subnets[:1] if exit_.carries is None else ():
            in_force = context.paths.routes.of(subnet).winners
            # What goes to its own pool is for it, and nothing that it sends on.
            own = exit_.pool
            back = [
                route
                for _, routes in in_force
                for route in routes
                if route.exit == name and not (own is not None and covers(own, route.prefix))
            ]
            if back:
                yield _loop(context, name, subnet, back[0])


def _loop(context: Context, name: str, subnet: str, route: TableRoute) -> Doubt:
    key, own = str(route.prefix), f"{subnet}-own"
    learned = route.origin in (Origin.LEARNED, Origin.INJECTED)
    if learned:
        cause = (
            f"{name} is in {subnet}, which learns {key} from {name} itself: what it sends on comes back to it, a loop"
        )
    else:
        cause = f"{name} is in {subnet}, whose table {route.table} sends {key} back to {name}, a loop"
    place = context.place("subnets", subnet) if learned else context.place("subnets", subnet, "routes")
    fixes: list[Fix] = []
    if learned and context.paths.routes.of(subnet).routes_of(Origin.STATIC, route.prefix):
        fixes.append({"subnets": {subnet: {"learns": False}}})
    for onward in _onward(context, name, subnet):
        changed: Fix = {"routes": own, "learns": False} if learned else {"routes": own}
        fixes.append({"subnets": {subnet: changed}, "route_tables": {own: {key: onward}}})
    looping = [path.flow for path in context.ending(Verdict.LOOP) if name in path.trace.exits]
    fix = context.first_that_cures(looping[0], fixes) if looping else next(iter(fixes), None)
    if fix is None:
        return Doubt(place, cause, f"Give {subnet} a table of its own that routes {key} on, to another exit.")
    return Doubt(place, cause, f"Give {subnet} a table of its own{', and let it not learn' if learned else ''}.", fix)


def _onward(context: Context, name: str, subnet: str) -> list[str]:
    """Where an exit could send on: to the internet exit if it rewrites sources, else to a translator, then that."""
    estate = context.estate
    network = estate.subnets[subnet].network
    near = [one for one, exit_ in estate.exits.items() if estate.network_of(exit_) == network and one != name]
    internet = [one for one in near if estate.exits[one].takes_public_sources]
    translators = [one for one in near if estate.exits[one].translates and estate.exits[one].fixed_source]
    return [*internet, *translators] if estate.exits[name].translates else [*translators, *internet]


def subnet_on_two_gateways(context: Context) -> Iterator[Doubt]:
    """A subnet whose routes name more translation gateways than its provider lets a subnet use."""
    most = context.described.catalogue.behaviour.gateways_per_subnet
    for subnet in context.estate.subnets if most is not None else ():
        routes = context.paths.routes.of(subnet).routes
        gates = dict.fromkeys(r.exit for r in routes if _one_for_each_subnet(context, r.exit))
        if most is not None and len(gates) > most:
            table = context.estate.table_of(subnet) or ""
            provider = context.described.catalogue.catalogue
            allowed = counted(most, "gateway")
            cause = f"the routes of {subnet} name {' and '.join(gates)}: at {provider} a subnet can use {allowed}"
            place = context.place("route_tables", table) if table else context.place("subnets", subnet)
            fixes = [_all_to(table, kept, gates, routes) for kept in gates] if table and most == 1 else []
            fix = next((one for one in fixes if context.breaks_nothing(one)), None)
            kept = next(iter(fix["route_tables"][table].values())) if fix else ""
            remedy = f"Route all of them to {kept}." if fix else "Move some of these hosts to a subnet of their own."
            yield Doubt(place, cause, remedy, fix)


def _all_to(table: str, kept: str, gates: Iterable[str], routes: Iterable[TableRoute]) -> Fix:
    """The fix that makes a table name one of its gateways instead of all others."""
    others = {*gates} - {kept}
    changed = {route.key: kept for route in routes if route.exit in others and route.origin is Origin.STATIC}
    return {"route_tables": {table: changed}}


def table_too_long(context: Context) -> Iterator[Doubt]:
    """A table with more routes than the provider lets one hold."""
    most = context.described.catalogue.routes_per_table
    for table in context.estate.route_tables if most is not None else ():
        place = next((name for name in context.estate.subnets if context.estate.table_of(name) == table), None)
        count = len([r for r in context.paths.routes.of(place).routes if r.exit != LOCAL]) if place else 0
        if most is not None and count > most:
            cause = f"{table} holds {count} routes, learned ones included; the provider allows {most}"
            yield Doubt(context.place("route_tables", table), cause, "Merge prefixes, or announce fewer.")


def unused_table(context: Context) -> Iterator[Doubt]:
    """A table that no subnet, network or exit uses."""
    used: set[str | None] = {context.estate.table_of(name) for name in context.estate.subnets}
    for exit_ in context.estate.exits.values():
        used |= exit_.tables
    for table in context.estate.route_tables:
        if table not in used:
            cause = f"no subnet, network or exit uses {table}"
            yield Doubt(context.place("route_tables", table), cause, "Remove it.", {"route_tables": {table: None}})


def _one_for_each_subnet(context: Context, exit_name: str) -> bool:
    exit_ = context.estate.exits.get(exit_name)
    return exit_ is not None and exit_.one_for_each_subnet


def _flows_lost(context: Context, table: str, key: str, exit_name: str) -> dict[str, str]:
    """The flows that a route to nowhere loses, each with the first part of it that is lost; empty for all of it."""
    return {
        path.flow: path.words
        for path in reversed([*context.ending(Verdict.BLACK_HOLE)])
        if (route := path.trace.hops[-1].route) and (route.table, route.key, route.exit) == (table, key, exit_name)
    }
