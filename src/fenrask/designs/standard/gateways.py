"""Translating exits alone: gateways, firewalls or translator hosts, one for each network or for each of its zones."""

from functools import partial

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft
from fenrask.designs.placing import sending_groups
from fenrask.designs.topologies import NewExit, several, translator
from fenrask.estate import Described

__all__ = ["DESIGNS", "FIREWALL", "GATEWAY", "place_exits"]

GATEWAY, FIREWALL, HOST = "translation-gateway", "inspecting-firewall", "translator-host"


def place_exits(draft: Draft, kind: str, stem: str, per_zone: bool, units: int = 1) -> None:
    """A translating exit in each network (or zone) that sends, and its subnets' default route to it.

    One for a network is in the zone with the most hosts, or serves the whole network where the offer serves a region.
    """
    offer = draft.offer(kind)
    keys = {"addresses": "auto"} | several(draft, offer, units) if units > 1 else None
    regional = draft.described.catalogue.offers[offer].scope == "region"
    for (network, zone), subnets in sending_groups(draft.described, per_zone and not regional).items():
        wanted = f"{stem}-{network}-{zone}" if per_zone and zone and not regional else f"{stem}-{network}"
        name, _ = translator(draft, NewExit(offer, network, zone, wanted, keys))
        draft.lead(subnets, DEFAULT, name)


def _patch(described: Described, kind: str, stem: str, per_zone: bool, units: int = 1) -> Patch:
    draft = Draft(described)
    place_exits(draft, kind, stem, per_zone, units)
    return draft.patch()


DESIGNS = (
    Design(
        "gateway per network",
        "one translation gateway in each network, in its busiest zone",
        partial(_patch, kind=GATEWAY, stem="gateway", per_zone=False),
        (GATEWAY,),
    ),
    Design(
        "gateway per zone",
        "one translation gateway in each zone that sends",
        partial(_patch, kind=GATEWAY, stem="gateway", per_zone=True),
        (GATEWAY,),
    ),
    Design(
        "firewall per network",
        "one inspecting firewall in each network, which translates",
        partial(_patch, kind=FIREWALL, stem="firewall", per_zone=False),
        (FIREWALL,),
    ),
    Design(
        "translator hosts",
        "a machine of one's own that translates, in each zone that sends",
        partial(_patch, kind=HOST, stem="host", per_zone=True),
        (HOST,),
    ),
    Design(
        "translator hosts in pairs",
        "the same with a second machine that takes over, in each zone that sends",
        partial(_patch, kind=HOST, stem="host", per_zone=True, units=2),
        (HOST,),
    ),
)
