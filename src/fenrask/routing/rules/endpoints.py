"""Rules about private ways into services: where they stand, whether traffic takes them, whom they let in."""

from collections.abc import Iterator

from fenrask.estate import Onward
from fenrask.estate.exits.private_endpoint import PrivateEndpoint
from fenrask.routing.rules.contract import Case, Doubt

__all__ = [
    "endpoint_in_another_region",
    "endpoint_names_public",
    "endpoint_open_to_anyone",
    "endpoint_without_route",
    "free_endpoint_unused",
]


def endpoint_in_another_region(case: Case) -> Iterator[Doubt]:
    """An endpoint whose region is not that of the service it leads to."""
    for name, way_out in case.of(PrivateEndpoint):
        network = case.estate.networks.get(case.estate.network_of(way_out) or "")
        region = way_out.region or (network.region if network else "")
        there = case.estate.destinations[way_out.destination].region
        if region and there and region != there:
            cause = f"{name} stands in region {region}, {way_out.destination} lies in {there}"
            remedy = f"Put up an endpoint in {there}, or use the service in {region}."
            yield Doubt(case.place("exits", name), cause, remedy)


def endpoint_without_route(case: Case) -> Iterator[Doubt]:
    """A routed endpoint that no table of a sending subnet leads to, so that it takes nothing."""
    routed = {route.exit for subnet in case.estate.subnets for route in case.ways.routes.of(subnet).routes}
    for name, way_out in case.of(PrivateEndpoint):
        if not way_out.found_by_name and not way_out.stands_in and name not in routed:
            destination = way_out.destination
            cause = f"no route table leads to {name}: {destination} is reached another way"
            yield Doubt(case.place("exits", name), cause, f"Add to the senders' tables: `{destination}: {name}`.")


def endpoint_names_public(case: Case) -> Iterator[Doubt]:
    """An in-subnet endpoint past which the service's names still resolve publicly, so that it takes nothing."""
    for name, way_out in case.of(PrivateEndpoint):
        if way_out.stands_in and not way_out.found_by_name:
            destination = way_out.destination
            cause = f"{destination}'s names still resolve to public addresses: {name} takes nothing"
            yield Doubt(
                case.place("exits", name, "names"), cause, f"Set `names: private` on exits.{name}, and its DNS."
            )


def endpoint_open_to_anyone(case: Case) -> Iterator[Doubt]:
    """An endpoint whose access policy lets anyone through, to anybody's part of the service."""
    for name, way_out in case.of(PrivateEndpoint):
        if way_out.access == "anyone":
            cause = f"{name} lets anyone through to all of {way_out.destination}"
            yield Doubt(
                case.place("exits", name, "access"), cause, "List who may use it and for what; then `access: listed`."
            )


def free_endpoint_unused(case: Case) -> Iterator[Doubt]:
    """A service reached over the internet or by a charged exit although a routed endpoint costs nothing."""
    catalogue = case.described.catalogue
    free = [
        (name, offer)
        for name, offer in catalogue.offers.items()
        if offer.kind == "routed-endpoint" and not offer.rates.hour and not offer.rates.processed_per_gb
    ]
    seen: set[tuple[str | None, str]] = set()
    for way in case.ways.ways:
        to = case.estate.flows[way.flow].to
        if not case.estate.destinations[to].service:
            continue
        key = (case.estate.table_of(way.subnet), to)
        offers = [name for name, offer in free if offer.leads_to(to)]
        if not offers or key in seen:
            continue
        by_offer = [(name, case.described.offer_of(name)) for name in way.walk.exits]
        charged = [name for name, one in by_offer if one and (one.rates.hour or one.rates.processed_per_gb)]
        if way.walk.verdict.arrives and (charged or way.walk.onward is Onward.INTERNET):
            seen.add(key)
            by = charged[0] if charged else way.walk.exits[-1]
            cause = f"{way.flow} reaches {to} from {way.subnet} by {by}, though a routed endpoint ({offers[0]}) is free"
            network = case.estate.subnets[way.subnet].network
            entry = f"kind: routed-endpoint, offer: {offers[0]}, network: {network}, destination: {to}"
            remedy = f"Add to exits: `to-{to}: {{{entry}}}`; to route_tables.{key[0]}: `{to}: to-{to}`."
            yield Doubt(case.place("flows", way.flow), cause, remedy)
