"""One inspecting firewall for each network, which translates."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.placing import place_exits
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    draft = Draft(described)
    place_exits(draft, "inspecting-firewall", "firewall", per_zone=False)
    return draft.patch()


DESIGN = Design("firewall per network", "one inspecting firewall in each network, which translates", _patch)
