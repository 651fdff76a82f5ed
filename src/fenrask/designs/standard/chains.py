"""One hub for all networks, and one gateway behind it."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft
from fenrask.designs.placing import centres, sending_groups
from fenrask.designs.standard.gateways import FIREWALL, GATEWAY
from fenrask.designs.topologies import NewExit, firewall_before, hub_before, translator
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["CENTRAL_HUB", "FIREWALL_FIRST"]


def _central_hub(described: Described) -> Patch:
    """The gateway is in the network that has most hosts, or in another; its subnet has a route back to the others."""
    groups = sending_groups(described, per_zone=False)
    if len(groups) < 2:
        raise NoAnswer("only one network sends: there is nothing for a hub to join")
    draft = Draft(described)
    wanted = described.centre or centres(described)[0]
    centre = next((group for group in groups if group[0] == wanted), next(iter(groups)))
    gateway, subnet = translator(draft, NewExit(draft.offer(GATEWAY), *centre, "gateway-central"), own_subnet="central")
    hub = hub_before(draft, centre[0], [network for network, _ in groups], gateway, subnet)
    for (network, _), subnets in groups.items():
        draft.lead(subnets, DEFAULT, gateway if network == centre[0] else hub)
    return draft.patch()


CENTRAL_HUB = Design(
    "central hub",
    "all networks joined by a hub, with one gateway behind it",
    _central_hub,
    (GATEWAY,),
    has_centre=True,
)


def _firewall_first(described: Described) -> Patch:
    draft = Draft(described)
    inspecting, translating = draft.offer(FIREWALL, translates=False), draft.offer(GATEWAY)
    for (network, zone), subnets in sending_groups(described, per_zone=False).items():
        behind = translator(draft, NewExit(translating, network, zone, f"gateway-{network}"), own_subnet="outer")
        wall = firewall_before(draft, NewExit(inspecting, network, zone, f"firewall-{network}"), behind, subnets)
        draft.lead(subnets, DEFAULT, wall)
    return draft.patch()


FIREWALL_FIRST = Design(
    "firewall before gateway",
    "inspection by a firewall, translation by a gateway behind it",
    _firewall_first,
    (FIREWALL, GATEWAY),
)
