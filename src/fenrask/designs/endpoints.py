"""Private ways into services that designs put up: which flows could take one, and by which endpoint."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from fenrask.designs.draft import Draft, sending_subnets
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["ServiceUse", "add_each", "add_in_subnet", "add_routed", "endpoints_of", "service_uses"]


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
    for flow in estate.flows.values():
        if estate.destinations[flow.to].service:
            for name in estate.workloads[flow.from_].subnets:
                subnets = found.setdefault((estate.subnets[name].network, flow.to), [])
                if name not in subnets:
                    subnets.append(name)
    return [ServiceUse(network, to, tuple(subnets)) for (network, to), subnets in found.items()]


def endpoints_of(described: Described, kind: str) -> dict[tuple[str, str], str]:
    """The endpoints of a kind that the estate has, by network and destination."""
    estate = described.estate
    return {
        (estate.network_of(one) or "", (one.carries or ("",))[0]): name
        for name, one in estate.exits.items()
        if one.kind == kind
    }


def add_routed(draft: Draft, use: ServiceUse) -> None:
    """A routed endpoint for a use, the existing one or a new one; NoAnswer where no offer leads to it."""
    name = endpoints_of(draft.described, "routed-endpoint").get((use.network, use.destination))
    if name is None:
        data = {
            "kind": "routed-endpoint",
            "offer": draft.offer("routed-endpoint", use.destination),
            "network": use.network,
            "destination": use.destination,
        }
        name = draft.add(f"endpoint-{use.destination}-{use.network}", data)
    senders = sending_subnets(draft.described)
    network = [one for one in senders if draft.estate.subnets[one].network == use.network]
    draft.lead(network, use.destination, name)


def add_in_subnet(draft: Draft, use: ServiceUse) -> None:
    """An in-subnet endpoint for a use, one subnet for each zone; NoAnswer where no offer leads to it."""
    if (use.network, use.destination) in endpoints_of(draft.described, "in-subnet-endpoint"):
        return
    zones = {draft.estate.subnets[name].zone: name for name in reversed(use.subnets)}
    data = {
        "kind": "in-subnet-endpoint",
        "offer": draft.offer("in-subnet-endpoint", use.destination),
        "subnets": sorted(zones.values()),
        "destination": use.destination,
    }
    draft.add(f"endpoint-{use.destination}-{use.network}", data)


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
