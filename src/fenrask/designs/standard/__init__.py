"""The standard designs. A new one is one file and one line in `STANDARD`."""

from fenrask.designs.contract import Design
from fenrask.designs.standard import chains, gateways, partners, private_endpoints, untranslated

__all__ = ["CURRENT", "STANDARD"]

CURRENT = Design("current", "the estate as it is described", lambda described: {})
"""The estate itself, the first in every comparison."""

STANDARD: list[Design] = [
    CURRENT,
    *gateways.DESIGNS,
    private_endpoints.ROUTED,
    private_endpoints.IN_SUBNET,
    chains.FIREWALL_FIRST,
    chains.CENTRAL_HUB,
    partners.DEDICATED,
    partners.BOUNDARY,
    untranslated.PUBLIC_HOSTS,
    untranslated.IPV6,
]
