"""A translator host of the team's own in each zone."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.placing import place_exits
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    draft = Draft(described)
    place_exits(draft, "translator-host", "host", per_zone=True)
    return draft.patch()


DESIGN = Design("translator hosts", "a machine of one's own that translates, in each zone that sends", _patch)
