"""Private endpoints that designs put up: which flows could use one, and which endpoint."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from fenrask.designs.draft import Draft, sending_subnets
from fenrask.designs.topologies import in_subnet_endpoint, routed_endpoint
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["ROUTED", "ServiceUse", "add_each", "add_in_subnet", "add_routed", "endpoints_of", "service_uses"]


@dataclass(frozen=True)
class ServiceUse:
    """A service that some subnets of one network send to."""

    network: str
    destination: str
    subnets: tuple[str, ...]


def service_uses(described: Described) -> list[ServiceUse]:
    """Every (network, service) that any flow uses, with the subnets that send there."""
    estate = described.estate
    found: dict[tuple[str, str], list[str]] = {}
    for flow in estate.outward_flows.values():
        if estate.destinations[flow.to].service:
            for name in estate.workloads[flow.from_].subnets:
                subnets = found.setdefault((estate.subnets[name].network, flow.to), [])
                if name not in subnets:
                    subnets.append(name)
    return [ServiceUse(network, to, tuple(subnets)) for (network, to), subnets in found.items()]


def endpoints_of(described: Described, kind: str) -> dict[tuple[str, str], str]:
    """The endpoints of a kind that the estate has, by network and destination, where they reach it."""
    estate = described.estate
    found = {}
    for name, exit_ in estate.exits.items():
        network, destination = estate.network_of(exit_) or "", (exit_.carries or ("",))[0]
        if exit_.kind == kind and estate.endpoint_reaches(network, destination, exit_):
            found[network, destination] = name
    return found


ROUTED, IN_SUBNET = "routed-endpoint", "in-subnet-endpoint"


def add_routed(draft: Draft, use: ServiceUse) -> None:
    """A routed endpoint for a use, the existing one or a new one; NoAnswer where none reaches it."""
    _check_reach(draft, use)
    name = endpoints_of(draft.described, ROUTED).get((use.network, use.destination))
    if name is None:
        name = routed_endpoint(draft, draft.offer(ROUTED, use.destination), use.network, use.destination)
    senders = sending_subnets(draft.described)
    network = [one for one in senders if draft.estate.subnets[one].network == use.network]
    draft.lead(network, use.destination, name)


def add_in_subnet(draft: Draft, use: ServiceUse) -> None:
    """An in-subnet endpoint for a use, one subnet for each zone; NoAnswer where none reaches it."""
    _check_reach(draft, use)
    if (use.network, use.destination) in endpoints_of(draft.described, IN_SUBNET):
        return
    zones = {draft.estate.subnets[name].zone: name for name in reversed(use.subnets)}
    offer = draft.offer(IN_SUBNET, use.destination)
    in_subnet_endpoint(draft, offer, zones.values(), use.network, use.destination)


def _check_reach(draft: Draft, use: ServiceUse) -> None:
    if not draft.estate.endpoint_reaches(use.network, use.destination):
        raise NoAnswer(f"no endpoint in {use.network} reaches {use.destination}, which is in another region")


def add_each(draft: Draft, uses: Iterable[ServiceUse], add: Callable[[Draft, ServiceUse], None]) -> list[ServiceUse]:
    """Add an endpoint for every use that an offer leads to; returns those uses."""
    added = []
    for use in uses:
        try:
            add(draft, use)
        except NoAnswer:
            continue
        added.append(use)
    return added
