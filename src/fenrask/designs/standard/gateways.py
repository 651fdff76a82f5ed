"""Translating exits alone: gateways, firewalls or translator hosts, one for each network or for each of its zones."""

from functools import partial

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.placing import place_exits
from fenrask.estate import Described

__all__ = ["DESIGNS"]


def _patch(described: Described, kind: str, stem: str, per_zone: bool) -> Patch:
    draft = Draft(described)
    place_exits(draft, kind, stem, per_zone)
    return draft.patch()


DESIGNS = (
    Design(
        "gateway per network",
        "one translation gateway in each network, in its busiest zone",
        partial(_patch, kind="translation-gateway", stem="gateway", per_zone=False),
    ),
    Design(
        "gateway per zone",
        "one translation gateway in each zone that sends",
        partial(_patch, kind="translation-gateway", stem="gateway", per_zone=True),
    ),
    Design(
        "firewall per network",
        "one inspecting firewall in each network, which translates",
        partial(_patch, kind="inspecting-firewall", stem="firewall", per_zone=False),
    ),
    Design(
        "translator hosts",
        "a machine of one's own that translates, in each zone that sends",
        partial(_patch, kind="translator-host", stem="host", per_zone=True),
    ),
)
