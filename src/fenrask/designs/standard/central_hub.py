"""One hub for all networks, and one gateway behind it."""

from collections import Counter

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft, hub_offer
from fenrask.designs.placing import sending_groups
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    """The gateway stands in the network that has most hosts; its subnet has a route back to the others."""
    groups = sending_groups(described, per_zone=False)
    if len(groups) < 2:
        raise NoAnswer("only one network sends: there is nothing for a hub to join")
    draft = Draft(described)
    hosts = Counter[str]()
    for workload in described.estate.workloads.values():
        for name in workload.subnets:
            hosts[described.estate.subnets[name].network] += workload.hosts
    centre, zone = max(groups, key=lambda group: hosts[group[0]])
    landing = draft.standing("central", centre, zone)
    offer = draft.offer("translation-gateway")
    data = {"kind": "translation-gateway", "offer": offer, "subnet": landing, "addresses": "auto"}
    gateway = draft.add("gateway-central", data)
    networks = sorted({network for network, _ in groups})
    table = draft.new_table("hub-central", {DEFAULT: gateway})
    paid = {"offer": name} if (name := hub_offer(described.catalogue)) else {}
    hub = draft.add("hub-central", {"kind": "hub", "networks": networks, "routes": table, **paid})
    draft.route(landing, DEFAULT, draft.door(centre))
    for (network, _), subnets in groups.items():
        draft.lead(subnets, DEFAULT, gateway if network == centre else hub)
        for prefix in described.estate.networks[network].prefixes if network != centre else ():
            if prefix.version == 4:
                draft.route(landing, str(prefix), hub)
    return draft.patch()


DESIGN = Design("central hub", "all networks joined by a hub, with one gateway behind it", _patch)
