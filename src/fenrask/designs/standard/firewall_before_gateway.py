"""A firewall that inspects in front of a gateway that translates, for each network."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft
from fenrask.designs.placing import named_rules, sending_groups
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
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
                "translation": "never",
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
        draft.route(outer, DEFAULT, draft.door(network))
        for name in subnets:
            draft.route(outer, str(described.estate.subnets[name].prefix), wall)
        draft.lead(subnets, DEFAULT, wall)
    return draft.patch()


DESIGN = Design("firewall before gateway", "inspection by a firewall, translation by a gateway behind it", _patch)
