"""Which facts of the provider's behaviour decided a path: what would be another path at another provider."""

from collections.abc import Iterator

from fenrask.derivation import Step
from fenrask.estate import Behaviour, Catalogue, Origin
from fenrask.prefixes import Address, covers
from fenrask.routing.packets import Hop, Trace, Verdict
from fenrask.routing.tables import LOCAL, Routes, SubnetTable, TableRoute

__all__ = ["behaviour_step", "decided"]


def decided(routes: Routes, about: str, trace: Trace) -> list[Step]:
    """Each fact once, in the order of the hops, there and then back; `about`: whose path it is."""
    decisions = [
        *_inward(routes, trace),
        *(
            decision
            for hop in (*trace.hops, *trace.back)
            for decision in (*_by_route(routes, hop), *_for_want_of_one(routes, hop, trace))
        ),
    ]
    return [behaviour_step(routes.described.catalogue, about, *one) for one in dict.fromkeys(decisions)]


def behaviour_step(catalogue: Catalogue, about: str, key: str, working: str) -> Step:
    """A fact of the provider's behaviour with what it decided."""
    value = getattr(catalogue.behaviour, key)
    shown = ", ".join(value) or "none" if isinstance(value, tuple) else str(value)
    return Step(about, key, shown, working, f"{catalogue.catalogue}: behaviour.{key}")


def _inward(routes: Routes, trace: Trace) -> Iterator[tuple[str, str]]:
    """What decided on a path whose connections the other end opens."""
    if trace.inward is None:
        return
    stated = routes.estate.destinations.get(trace.inward.origin)
    if stated is not None and stated.service:
        how = "go straight back" if routes.behaviour.service_replies == "direct" else "follow the route tables"
        yield "service_replies", f"replies of {trace.subnet} to {trace.inward.origin} {how}"
    publisher = routes.estate.exits.get(trace.inward.published_at)
    if publisher is not None and publisher.one_for_each_subnet:
        word = "forwards" if routes.behaviour.gateways_publish else "does not forward"
        yield "gateways_publish", f"{trace.inward.published_at} {word} port {trace.inward.published_port}"


def _by_route(routes: Routes, hop: Hop) -> Iterator[tuple[str, str]]:
    """What made the route that a hop took the one in force."""
    route = hop.route
    if route is None:
        return
    exit_ = routes.estate.exits.get(route.exit)
    if route.origin is Origin.PEERING:
        yield "peering_routes", f"{route.prefix} to {route.exit} is in the table by itself"
    if route.origin is Origin.LOCAL and exit_ is not None and exit_.pool is not None:
        yield "private_pools", f"{route.prefix} is reached at {route.exit} without a route"
    if route.origin is Origin.INJECTED:
        yield "hub_injects_while", f"{route.exit} injects {route.prefix}"
    if route.origin is Origin.LEARNED and exit_ is not None and exit_.joins_many and route.key == route.exit:
        yield "hub_passes_on", f"{route.exit} passes on {route.prefix}, which it learned"
    table = _table_at(routes, hop, route)
    for other in table.shadowed(route) if table else ():
        if (
            other.prefix == route.prefix
            and other.origin is not route.origin
            and Origin.LOCAL
            not in (
                other.origin,
                route.origin,
            )
        ):
            yield "equal_prefixes", f"{route.prefix}: {_named(route)} wins over {_named(other)}"
        elif other.prefix != route.prefix and covers(route.prefix, other.prefix):
            yield "wins_over_longer", f"{_named(route)} for {route.prefix} wins over {_named(other)} for {other.prefix}"


def _named(route: TableRoute) -> str:
    return f"{route.origin.word} to {route.exit}"


def _table_at(routes: Routes, hop: Hop, route: TableRoute) -> SubnetTable | None:
    if hop.subnet in routes.estate.subnets:
        return routes.of(hop.subnet)
    hub = routes.estate.exits.get(hop.subnet)
    tables = (routes.of(hop.subnet, network) for network in (None, *hub.joins)) if hub is not None else ()
    return next((table for table in tables if route in table.routes), None)


def _for_want_of_one(routes: Routes, hop: Hop, trace: Trace) -> Iterator[tuple[str, str]]:
    """What the provider does not do by itself, where a path ends for want of it."""
    behaviour: Behaviour = routes.behaviour
    goes_wrong = not trace.verdict.arrives and hop in (trace.hops[-1:] + trace.back[-1:])
    subnet = routes.estate.subnets.get(hop.subnet)
    if not goes_wrong or subnet is None:
        return
    target: Address | None = trace.packet.address if hop in trace.hops else hop.source.address
    if target is None or (hop.route is not None and hop.route.exit == LOCAL):
        return
    for peering, other in routes.estate.peers_of(subnet.network) if behaviour.peering_routes == "stated" else ():
        if any(target in one for one in routes.estate.networks[other].prefixes):
            yield "peering_routes", f"no table states a route to {other} through {peering}"
    if behaviour.private_pools == "stated" and trace.verdict is Verdict.NO_RETURN and hop in trace.back:
        for name, exit_ in routes.estate.exits.items():
            if exit_.pool is not None and target in exit_.pool:
                yield "private_pools", f"no table states a route to {exit_.pool} at {name}"
