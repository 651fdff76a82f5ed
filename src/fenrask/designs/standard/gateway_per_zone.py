"""One translation gateway for each zone of each network."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.placing import place_exits
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    draft = Draft(described)
    place_exits(draft, "translation-gateway", "gateway", per_zone=True)
    return draft.patch()


DESIGN = Design("gateway per zone", "one translation gateway in each zone that sends", _patch)
