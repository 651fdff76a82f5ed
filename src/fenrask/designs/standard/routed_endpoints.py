"""Gateways in each zone, and a routed endpoint for every service that one leads to."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.placing import place_exits
from fenrask.designs.private_ways import add_each, add_routed, endpoints_of, service_uses
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    draft = Draft(described, kept=endpoints_of(described, "routed-endpoint").values())
    place_exits(draft, "translation-gateway", "gateway", per_zone=True)
    if not add_each(draft, service_uses(described), add_routed):
        raise NoAnswer("no flow uses a service that a routed endpoint leads to")
    return draft.patch()


DESIGN = Design("with routed endpoints", "gateway per zone, and routed endpoints to services", _patch)
