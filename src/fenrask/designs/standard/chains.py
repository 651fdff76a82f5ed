"""One hub for all networks, and one gateway behind it."""

from collections import Counter

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft, hub_offer
from fenrask.designs.placing import named_rules, sending_groups
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["CENTRAL_HUB", "FIREWALL_FIRST"]


def _central_hub(described: Described) -> Patch:
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
    draft.route(landing, DEFAULT, draft.internet_exit(centre))
    for (network, _), subnets in groups.items():
        draft.lead(subnets, DEFAULT, gateway if network == centre else hub)
        for prefix in described.estate.networks[network].prefixes if network != centre else ():
            if prefix.version == 4:
                draft.route(landing, str(prefix), hub)
    return draft.patch()


CENTRAL_HUB = Design("central hub", "all networks joined by a hub, with one gateway behind it", _central_hub)


def _firewall_first(described: Described) -> Patch:
    """The gateway's subnet sends answers back through the firewall: it lets none pass that it did not see asked."""
    draft = Draft(described)
    offers = {kind: draft.offer(kind) for kind in ("inspecting-firewall", "translation-gateway")}
    for (network, zone), subnets in sending_groups(described, per_zone=False).items():
        inner, outer = draft.standing("inner", network, zone), draft.standing("outer", network, zone)
        wall = draft.add(
            f"firewall-{network}",
            {
                "kind": "inspecting-firewall",
                "offer": offers["inspecting-firewall"],
                "subnet": inner,
                "rewrites_toward": [],
                **named_rules(described, network),
            },
        )
        gateway = draft.add(
            f"gateway-{network}",
            {
                "kind": "translation-gateway",
                "offer": offers["translation-gateway"],
                "subnet": outer,
                "addresses": "auto",
            },
        )
        draft.route(inner, DEFAULT, gateway)
        draft.route(outer, DEFAULT, draft.internet_exit(network))
        for name in subnets:
            draft.route(outer, str(described.estate.subnets[name].prefix), wall)
        draft.lead(subnets, DEFAULT, wall)
    return draft.patch()


FIREWALL_FIRST = Design(
    "firewall before gateway", "inspection by a firewall, translation by a gateway behind it", _firewall_first
)
