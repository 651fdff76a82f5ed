"""Rules about private ways into services: where they stand, whether traffic takes them, whom they let in."""

from collections.abc import Iterator

from fenrask.checks.contract import Case, Doubt
from fenrask.estate import Onward
from fenrask.estate.exits.private_endpoint import PrivateEndpoint

__all__ = [
    "endpoint_in_another_region",
    "endpoint_names_public",
    "endpoint_open_to_anyone",
    "endpoint_without_route",
    "free_endpoint_unused",
]


def endpoint_in_another_region(case: Case) -> Iterator[Doubt]:
    """An endpoint whose region is not that of the service it leads to."""
    for name, exit_ in case.of(PrivateEndpoint):
        network = case.estate.networks.get(case.estate.network_of(exit_) or "")
        region = exit_.region or (network.region if network else "")
        there = case.estate.destinations[exit_.destination].region
        if region and there and region != there:
            cause = f"{name} stands in region {region}, {exit_.destination} lies in {there}"
            remedy = f"Put up an endpoint in {there}, or use the service in {region}."
            yield Doubt(case.place("exits", name), cause, remedy)


def endpoint_without_route(case: Case) -> Iterator[Doubt]:
    """A routed endpoint that no table of a sending subnet leads to, so that it takes nothing."""
    routed = {route.exit for subnet in case.estate.subnets for route in case.paths.routes.of(subnet).routes}
    for name, exit_ in case.of(PrivateEndpoint):
        if not exit_.found_by_name and not exit_.in_subnets and name not in routed:
            destination = exit_.destination
            cause = f"no route table leads to {name}: {destination} is reached another way"
            yield Doubt(case.place("exits", name), cause, f"Add to the senders' tables: `{destination}: {name}`.")


def endpoint_names_public(case: Case) -> Iterator[Doubt]:
    """An in-subnet endpoint past which the service's names still resolve publicly, so that it takes nothing."""
    for name, exit_ in case.of(PrivateEndpoint):
        if exit_.in_subnets and not exit_.found_by_name:
            destination = exit_.destination
            cause = f"{destination}'s names still resolve to public addresses: {name} takes nothing"
            yield Doubt(
                case.place("exits", name, "names"), cause, f"Set `names: private` on exits.{name}, and its DNS."
            )


def endpoint_open_to_anyone(case: Case) -> Iterator[Doubt]:
    """An endpoint whose access policy lets anyone through, to anybody's part of the service."""
    for name, exit_ in case.of(PrivateEndpoint):
        if exit_.access == "anyone":
            cause = f"{name} lets anyone through to all of {exit_.destination}"
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
    for path in case.paths.paths:
        to = case.estate.flows[path.flow].to
        if not case.estate.destinations[to].service:
            continue
        key = (case.estate.table_of(path.subnet), to)
        offers = [name for name, offer in free if offer.leads_to(to)]
        if not offers or key in seen:
            continue
        by_offer = [(name, case.described.offer_of(name)) for name in path.trace.exits]
        charged = [name for name, one in by_offer if one and (one.rates.hour or one.rates.processed_per_gb)]
        if path.trace.verdict.arrives and (charged or path.trace.onward is Onward.INTERNET):
            seen.add(key)
            by = charged[0] if charged else path.trace.exits[-1]
            cause = (
                f"{path.flow} reaches {to} from {path.subnet} by {by}, though a routed endpoint ({offers[0]}) is free"
            )
            network = case.estate.subnets[path.subnet].network
            entry = f"kind: routed-endpoint, offer: {offers[0]}, network: {network}, destination: {to}"
            remedy = f"Add to exits: `to-{to}: {{{entry}}}`; to route_tables.{key[0]}: `{to}: to-{to}`."
            yield Doubt(case.place("flows", path.flow), cause, remedy)
