"""The standard designs. A new one is one file and one line in `STANDARD`."""

from fenrask.designs.contract import Design
from fenrask.designs.standard import (
    central_hub,
    firewall_before_gateway,
    firewall_per_network,
    gateway_per_network,
    gateway_per_zone,
    in_subnet_endpoints,
    ipv6_outbound,
    public_hosts,
    routed_endpoints,
    translator_hosts,
)

__all__ = ["STANDARD"]

STANDARD: tuple[Design, ...] = (
    Design("as described", "the estate as it stands", lambda described: {}),
    gateway_per_network.DESIGN,
    gateway_per_zone.DESIGN,
    routed_endpoints.DESIGN,
    in_subnet_endpoints.DESIGN,
    firewall_per_network.DESIGN,
    firewall_before_gateway.DESIGN,
    translator_hosts.DESIGN,
    public_hosts.DESIGN,
    central_hub.DESIGN,
    ipv6_outbound.DESIGN,
)
