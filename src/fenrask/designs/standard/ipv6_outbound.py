"""IPv6 straight out where subnet and destination have it; gateways by zone for the rest."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT_V6, Draft, sending_subnets
from fenrask.designs.placing import place_exits
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    estate = described.estate
    subnets = [name for name in sending_subnets(described) if _has_ipv6(described, name)]
    if not subnets:
        raise NoAnswer("no subnet that sends has an IPv6 prefix")
    if not any(prefix.version == 6 for one in estate.destinations.values() for prefix in one.prefixes):
        raise NoAnswer("no destination has an IPv6 prefix")
    draft = Draft(described)
    place_exits(draft, "translation-gateway", "gateway", per_zone=True)
    for network in dict.fromkeys(estate.subnets[name].network for name in subnets):
        known = [
            name for name, one in estate.exits.items() if one.kind == "ipv6-outbound" and one.of_network == network
        ]
        way_out = known[0] if known else draft.add(f"six-{network}", {"kind": "ipv6-outbound", "network": network})
        draft.lead([name for name in subnets if estate.subnets[name].network == network], DEFAULT_V6, way_out)
    return draft.patch()


def _has_ipv6(described: Described, name: str) -> bool:
    return any(prefix.version == 6 for prefix in described.estate.subnets[name].prefixes)


DESIGN = Design(
    "IPv6 straight out", "IPv6 without translation where both ends have it, gateways by zone for the rest", _patch
)
