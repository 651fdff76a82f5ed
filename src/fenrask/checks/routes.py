"""Rules about routes: next hops that are gone, missing defaults, loops."""

from collections.abc import Iterator

from fenrask.checks.contract import Case, Doubt
from fenrask.estate import exits_of
from fenrask.estate.suggestions import nearest, some
from fenrask.routing.packets import Verdict

__all__ = ["black_hole", "route_loop", "subnet_on_two_gateways", "table_too_long", "unused_table"]


def black_hole(case: Case) -> Iterator[Doubt]:
    """A route whose exit does not exist; it hides every shorter route behind it."""
    for table, routes in case.estate.route_tables.items():
        for key, value in routes.items():
            for exit_name in exits_of(value):
                if exit_name not in case.estate.exits:
                    hit = _flows_lost(case, table, exit_name)
                    cause = f"{key} leads to {exit_name}, which does not exist; {hit}"
                    near = nearest(exit_name, case.estate.exits)
                    remedy = f"Remove the route, or name an exit that exists. {near}"
                    yield Doubt(case.place("route_tables", table, key), cause, remedy)


def route_loop(case: Case) -> Iterator[Doubt]:
    """An exit whose own subnet's table sends what it lets out back to it."""
    for name, exit_ in case.estate.exits.items():
        for subnet in exit_.in_subnets[:1]:
            table = case.estate.table_of(subnet)
            back = [
                route
                for route in case.paths.routes.of(subnet).routes
                if route.exit == name and exit_.carries is None and table is not None
            ]
            if back:
                cause = f"{name} stands in {subnet}, whose table {table} sends {back[0].key} back to {name}"
                remedy = f"Give {subnet} a table of its own that leads {back[0].key} to a direct-internet door."
                yield Doubt(case.place("subnets", subnet, "routes"), cause, remedy)


def subnet_on_two_gateways(case: Case) -> Iterator[Doubt]:
    """A subnet whose routes lead to two translation gateways; a subnet has one."""
    for subnet in case.estate.subnets:
        routes = case.paths.routes.of(subnet).routes
        gates = dict.fromkeys(r.exit for r in routes if _one_for_each_subnet(case, r.exit))
        if len(gates) > 1:
            table = case.estate.table_of(subnet) or ""
            cause = f"{subnet}'s routes lead to {' and '.join(gates)}: a subnet can use one gateway"
            place = case.place("route_tables", table) if table else case.place("subnets", subnet)
            yield Doubt(place, cause, f"Lead all of them to {next(iter(gates))}, or give {subnet} a table of its own.")


def table_too_long(case: Case) -> Iterator[Doubt]:
    """A table with more routes than the provider lets one hold."""
    most = case.described.catalogue.routes_per_table
    for table in case.estate.route_tables if most is not None else ():
        place = next((name for name in case.estate.subnets if case.estate.table_of(name) == table), None)
        count = len([r for r in case.paths.routes.of(place).routes if r.exit != "local"]) if place else 0
        if most is not None and count > most:
            cause = f"{table} holds {count} routes, learned ones included; {most} is the most"
            yield Doubt(case.place("route_tables", table), cause, "Merge prefixes, or announce fewer.")


def unused_table(case: Case) -> Iterator[Doubt]:
    """A table that no subnet, network or hub obeys."""
    used: set[str | None] = {case.estate.table_of(name) for name in case.estate.subnets}
    for exit_ in case.estate.exits.values():
        used |= exit_.tables
    for table in case.estate.route_tables:
        if table not in used:
            yield Doubt(
                case.place("route_tables", table), f"nothing obeys {table}", "Remove it, or give it to a subnet."
            )


def _one_for_each_subnet(case: Case, exit_name: str) -> bool:
    exit_ = case.estate.exits.get(exit_name)
    return exit_ is not None and exit_.one_for_each_subnet


def _flows_lost(case: Case, table: str, exit_name: str) -> str:
    lost = {
        path.flow
        for path in case.paths.paths
        if path.trace.verdict is Verdict.BLACK_HOLE
        and (route := path.trace.hops[-1].route)
        and (route.table, route.exit) == (table, exit_name)
    }
    return f"lost: {some(sorted(lost))}" if lost else "no flow uses it"
