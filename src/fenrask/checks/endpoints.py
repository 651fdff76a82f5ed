"""Rules about private paths into services: where they are, whether traffic takes them, whom they let in."""

from collections.abc import Callable, Iterator

from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.estate import KINDS, Offer, Onward, PrivateEndpoint, exits_of
from fenrask.routing import FlowPath, Paths

__all__ = [
    "endpoint_in_another_region",
    "endpoint_names_public",
    "endpoint_open_to_anyone",
    "endpoint_without_route",
    "free_endpoint_unused",
    "route_to_named_endpoint",
    "routed_endpoints_for",
]


def endpoint_in_another_region(context: Context) -> Iterator[Doubt]:
    """An endpoint whose region is not that of the service it reaches."""
    for name, endpoint in context.of(PrivateEndpoint):
        region = context.estate.region_of(endpoint)
        there = context.estate.destinations[endpoint.destination].region
        if region and there and region != there:
            cause = f"{name} is in region {region}, {endpoint.destination} in {there}: it does not reach it"
            remedy = f"Use an endpoint in {there}, or the service in {region}."
            yield Doubt(context.place("exits", name), cause, remedy)


def endpoint_without_route(context: Context) -> Iterator[Doubt]:
    """A routed endpoint that no subnet has a route to, so that it takes nothing."""
    routed = {route.exit for subnet in context.estate.subnets for route in context.paths.routes.of(subnet).routes}
    for name, endpoint in context.of(PrivateEndpoint):
        if endpoint.found_by_name or endpoint.in_subnets or name in routed:
            continue
        destination = endpoint.destination
        network = context.estate.network_of(endpoint)
        senders = [
            (flow, subnet)
            for flow, stated in context.estate.outward_flows.items()
            if stated.to == destination
            for subnet in context.estate.workloads[stated.from_].subnets
            if context.estate.subnets[subnet].network == network
        ]
        cause = f"no route table has a route to {name}: {destination} is reached through another exit"
        tables = {table for _, subnet in senders if (table := context.estate.table_of(subnet))}
        fix: Fix = {"route_tables": {table: {destination: name} for table in sorted(tables)}}
        if not tables or context.first_that_cures(senders[0][0], [fix]) is None:
            yield Doubt(context.place("exits", name), cause, "Remove it, or add a route to it to the senders' tables.")
        else:
            yield Doubt(context.place("exits", name), cause, "Add the routes.", fix)


def route_to_named_endpoint(context: Context) -> Iterator[Doubt]:
    """A route whose next hop is an endpoint inside a subnet: hosts get there by name, never by a route."""
    for table, routes in context.estate.route_tables.items():
        for key, value in routes.items():
            for name in exits_of(value):
                endpoint = context.estate.exits.get(name)
                if not isinstance(endpoint, PrivateEndpoint) or endpoint.entered_by_route:
                    continue
                cause = f"the route {key} of {table} names {name}, which hosts reach by name: no route leads into it"
                fix: Fix = {"route_tables": {table: {key: None}}}
                if not endpoint.found_by_name:
                    fix["exits"] = {name: {"names": "private"}}
                remedy = "Remove the route; the service's names lead there."
                yield Doubt(context.place("route_tables", table, key), cause, remedy, fix)


def endpoint_names_public(context: Context) -> Iterator[Doubt]:
    """An in-subnet endpoint whose service's names still resolve publicly, so that it takes nothing."""
    for name, endpoint in context.of(PrivateEndpoint):
        if endpoint.in_subnets and not endpoint.found_by_name:
            cause = f"the names of {endpoint.destination} still resolve to public addresses: {name} takes nothing"
            fix = {"exits": {name: {"names": "private"}}}
            yield Doubt(context.place("exits", name, "names"), cause, "Set it here and in the network's DNS.", fix)


def endpoint_open_to_anyone(context: Context) -> Iterator[Doubt]:
    """An endpoint whose access policy lets anyone through, to anybody's part of the service."""
    for name, endpoint in context.of(PrivateEndpoint):
        if endpoint.access == "anyone" and endpoint.allowed_from is None:
            default = "" if "access" in endpoint.model_fields_set else ", as it is by default"
            cause = f"{name} lets anyone through to all of {endpoint.destination}{default}"
            users = dict.fromkeys(context.estate.flows[one.flow].from_ for one in _users(context, name))
            fix: Fix = {"exits": {name: {"allowed_from": [*users]} if users else {"access": "listed"}}}
            yield Doubt(context.place("exits", name), cause, "List who may use it, and for what.", fix)


def _users(context: Context, name: str) -> Iterator[FlowPath]:
    """The paths through an endpoint."""
    yield from context.paths.where(lambda trace: name in trace.exits[-1:])


def free_endpoint_unused(context: Context) -> Iterator[Doubt]:
    """A service reached over the internet or by a charged exit although a routed endpoint costs nothing."""
    seen: set[tuple[str | None, str]] = set()
    services = [name for name, one in context.estate.destinations.items() if one.service]
    for path in context.paths.to(services):
        to, table = path.to, context.estate.table_of(path.subnet)
        if (table, to) in seen or not path.example.verdict.arrives:
            continue
        offers = _free_offers(context, path.subnet, to)
        by_offer = [(name, context.described.offer_of(name)) for name in path.example.exits]
        charged = [name for name, one in by_offer if _is_charged(one)]
        if not offers or not (charged or path.example.onward is Onward.INTERNET):
            continue
        seen.add((table, to))
        through = charged[0] if charged else path.example.exits[-1]
        cause = (
            f"{path.flow} reaches {to} from {path.subnet} through {through}; a routed endpoint ({offers[0]}) is free"
        )
        fix = context.first_that_cures(
            path.flow, routed_endpoints_for(context, path.flow), also=_all_private(path.flow)
        )
        if fix is None:
            yield Doubt(context.place("flows", path.flow), cause, "See `fenrask choose` for whether it fits.")
        else:
            yield Doubt(context.place("flows", path.flow), cause, "Add the endpoint and a route to it.", fix)


def _all_private(flow: str) -> Callable[[Paths], bool]:
    """Whether all of a flow goes privately, through nothing that costs: an endpoint that takes the name may stay."""

    def holds(paths: Paths) -> bool:
        return all(
            one.example.onward is Onward.SERVICE
            and not any(_is_charged(paths.described.offer_of(name)) for name in one.example.exits)
            for one in paths.by_flow[flow]
        )

    return holds


def _is_charged(offer: Offer | None) -> bool:
    return offer is not None and bool(offer.rates.hour or offer.rates.processed_per_gb)


def routed_endpoints_for(context: Context, flow: str) -> Iterator[Fix]:
    """A free routed endpoint for all subnets of a flow, with the routes to it."""
    estate, stated = context.estate, context.estate.flows[flow]
    subnets = estate.workloads[stated.from_].subnets
    offers = _free_offers(context, subnets[0], stated.to)
    if not offers or not estate.destinations[stated.to].service:
        return
    kind = context.described.catalogue.offers[offers[0]].kind
    fix: Fix = {"exits": {}, "route_tables": {}}
    for subnet in subnets:
        network, table = estate.subnets[subnet].network, estate.table_of(subnet)
        known = [
            name
            for name, one in context.of(PrivateEndpoint)
            if one.entered_by_route and one.destination == stated.to and estate.network_of(one) == network
        ]
        name = known[0] if known else f"to-{stated.to}-{network}"
        if table is None or (not known and name in estate.exits):
            return
        if not known:
            entry = {"kind": kind, "offer": offers[0], "network": network, "destination": stated.to}
            entry["access"] = "listed"
            fix["exits"][name] = entry
        fix["route_tables"].setdefault(table, {})[stated.to] = name
    yield {section: entries for section, entries in fix.items() if entries}


def _free_offers(context: Context, subnet: str, to: str) -> list[str]:
    """Offers of routed endpoints without a rate, in the service's region, for a family that subnet and service have."""
    network = context.estate.networks[context.estate.subnets[subnet].network]
    there = context.estate.destinations[to].region
    if there and network.region and there != network.region:
        return []
    return [
        name
        for name, offer in context.described.catalogue.offers.items()
        if issubclass(KINDS[offer.kind], PrivateEndpoint)
        and KINDS[offer.kind].entered_by_route
        and offer.leads_to(to)
        and not offer.rates_in(network.region).hour
        and not offer.rates_in(network.region).processed_per_gb
        and not offer.rates_in(network.region).month_minimum
    ]
