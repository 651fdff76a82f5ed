"""Rules about routes: next hops that are gone, missing defaults, loops."""

from collections.abc import Iterator

from fenrask.estate import exits_of
from fenrask.estate.suggestions import nearest, some
from fenrask.routing.packets import Verdict
from fenrask.routing.rules.contract import Case, Doubt
from fenrask.routing.ways import Way

__all__ = ["black_hole", "no_way_out", "route_loop"]


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


def no_way_out(case: Case) -> Iterator[Doubt]:
    """A flow from a subnet where no route matches, or where the door lets no private source out."""
    for way in _once(case, (Verdict.NO_ROUTE, Verdict.NO_PUBLIC_SOURCE, Verdict.NOT_CARRIED)):
        flow = case.estate.flows[way.flow]
        table = case.estate.subnets[way.subnet].routes
        place = case.place("route_tables", table) if table else case.place("subnets", way.subnet)
        cause = f"{way.flow} cannot get from {way.subnet} to {flow.to}: {way.walk.why}"
        if way.walk.verdict is Verdict.NO_ROUTE:
            remedy = case.default_for(way.subnet)
        elif way.walk.verdict is Verdict.NO_PUBLIC_SOURCE:
            remedy = "Lead the default to an exit that translates, or give the hosts public addresses."
        else:
            remedy = f"Lead {flow.to} to an exit that carries it."
        yield Doubt(place, cause, remedy)


def route_loop(case: Case) -> Iterator[Doubt]:
    """An exit whose own subnet's table sends what it lets out back to it."""
    for name, way_out in case.estate.exits.items():
        for subnet in way_out.stands_in[:1]:
            table = case.estate.subnets[subnet].routes
            back = [
                route
                for route in case.ways.routes.of(subnet).routes
                if route.exit == name and way_out.carries is None and table is not None
            ]
            if back:
                cause = f"{name} stands in {subnet}, whose table {table} sends {back[0].key} back to {name}"
                remedy = f"Give {subnet} a table of its own that leads {back[0].key} to a direct-internet door."
                yield Doubt(case.place("subnets", subnet, "routes"), cause, remedy)


def _flows_lost(case: Case, table: str, exit_name: str) -> str:
    lost = {
        way.flow
        for way in case.ways.ways
        if way.walk.verdict is Verdict.BLACK_HOLE
        and (route := way.walk.hops[-1].route)
        and (route.table, route.exit) == (table, exit_name)
    }
    return f"lost: {some(sorted(lost))}" if lost else "no flow uses it"


def _once(case: Case, verdicts: tuple[Verdict, ...]) -> Iterator[Way]:
    """The first way of each (subnet, destination) that ends so."""
    seen: set[tuple[str, str]] = set()
    for way in case.ways.ways:
        key = (way.subnet, case.estate.flows[way.flow].to)
        if way.walk.verdict in verdicts and key not in seen:
            seen.add(key)
            yield way
