"""Designs for third parties: a small network of its own with the address that partners know; a hub at the boundary."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft, sending_subnets
from fenrask.designs.standard.gateways import GATEWAY
from fenrask.designs.topologies import NewExit, boundary_hub, hub_before, translator
from fenrask.errors import NoAnswer
from fenrask.estate import Described
from fenrask.prefixes import covers

__all__ = ["BOUNDARY", "DEDICATED"]


def _dedicated(described: Described) -> Patch:
    """What needs a fixed source goes through a hub to one gateway in a network that holds nothing else."""
    estate = described.estate
    known = [
        name
        for name, one in estate.destinations.items()
        if one.needs.fixed_source or one.needs.max_source_addresses is not None
    ]
    private = set(sending_subnets(described))
    senders: dict[str, list[str]] = {}
    for flow in estate.outward_flows.values():
        if flow.to in known:
            for subnet in estate.workloads[flow.from_].subnets:
                if subnet in private:
                    senders.setdefault(subnet, []).append(flow.to)
    if not senders:
        raise NoAnswer("no destination needs a fixed source")
    draft = Draft(described, kept=estate.exits)
    offer = draft.offer(GATEWAY)
    networks = list(dict.fromkeys(estate.subnets[name].network for name in senders))
    network = draft.new_network("partners", estate.networks[networks[0]].region)
    scope = described.catalogue.offers[offer].scope
    zone = None if scope == "region" else next((estate.subnets[name].zone for name in senders), None)
    gateway, subnet = translator(draft, NewExit(offer, network, zone, "gateway-partners"), own_subnet="partners-edge")
    hub = hub_before(draft, network, networks, gateway, subnet)
    for name, destinations in senders.items():
        for destination in dict.fromkeys(destinations):
            draft.lead([name], destination, hub)
    return draft.patch()


def _boundary(described: Described) -> Patch:
    """Every line that ends in a network ends at a hub of its own instead, which joins only who needs it."""
    estate = described.estate
    lines = {name: one for name, one in estate.exits.items() if one.known_beyond is not None and one.of_network}
    if not lines:
        at_hub = any(one.known_beyond is not None for one in estate.exits.values())
        raise NoAnswer("every third party is at a hub already" if at_hub else "no third party has a private line")
    draft = Draft(described, kept=estate.exits)
    reached: dict[str, dict[str, None]] = {}
    for flow in estate.outward_flows.values():
        announced = [prefix for line in lines.values() for prefix in line.announced if prefix.prefixlen]
        if any(covers(outer, one) for one in estate.destinations[flow.to].prefixes for outer in announced):
            for subnet in estate.workloads[flow.from_].subnets:
                reached.setdefault(subnet, {})[flow.to] = None
    networks = dict.fromkeys(estate.subnets[name].network for name in reached)
    networks |= dict.fromkeys(one.of_network or "" for one in lines.values())
    hub = boundary_hub(draft, sorted(networks), lines)
    for subnet, destinations in reached.items():
        for destination in destinations:
            draft.lead([subnet], destination, hub)
    return draft.patch()


DEDICATED = Design(
    "dedicated network",
    "a small network with one gateway whose address partners know, behind a hub",
    _dedicated,
    (GATEWAY,),
)
BOUNDARY = Design("boundary hub", "third parties' lines end at a hub of their own at the boundary", _boundary)
