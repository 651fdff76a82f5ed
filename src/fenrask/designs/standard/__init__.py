"""The standard designs. A new one is one file and one line in `STANDARD`."""

from fenrask.designs.contract import Design
from fenrask.designs.standard import (
    firewall_per_network,
    gateway_per_network,
    gateway_per_zone,
    in_subnet_endpoints,
    routed_endpoints,
)

__all__ = ["STANDARD"]

STANDARD: tuple[Design, ...] = (
    Design("as described", "the estate as it stands", lambda described: {}),
    gateway_per_network.DESIGN,
    gateway_per_zone.DESIGN,
    routed_endpoints.DESIGN,
    in_subnet_endpoints.DESIGN,
    firewall_per_network.DESIGN,
)
