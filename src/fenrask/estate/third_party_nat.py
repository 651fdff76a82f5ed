"""A translation that a third party runs itself, behind its line: a limit that is not ours, and counts like one."""

from typing import Annotated

from pydantic import Field

from fenrask.estate.catalogue import MappingTimeouts, Offer
from fenrask.estate.ports import SharedPerDestination
from fenrask.estate.values import LAST_PORT, Count, Strict

__all__ = ["ThirdPartyNat"]


class ThirdPartyNat(Strict):
    """Addresses and ports that a third party translates what comes over its line to, as it says."""

    addresses: Annotated[Count, Field(ge=1, le=65_536)] = Field(description="addresses that it translates to")
    ports: Annotated[Count, Field(ge=1, le=LAST_PORT)] = Field(
        64_512, description="ports of each of them, toward one address and port of a destination"
    )
    mapping_timeout_s: MappingTimeouts = Field(
        default_factory=MappingTimeouts, description="how long a port stays taken there after its connection, s"
    )

    def added_to(self, offer: Offer | None, kind: str) -> Offer:
        """The offer of a line with this as its limit of connections toward one destination."""
        base = offer or Offer(kind=kind)
        most = self.addresses * self.ports
        own = base.limits.connections_per_tuple
        limits = base.limits.model_copy(update={"connections_per_tuple": most if own is None else min(own, most)})
        ports = SharedPerDestination(assignment="shared-per-destination", per_address=self.ports)
        changes = {"limits": limits, "ports": ports, "mapping_timeout_s": self.mapping_timeout_s}
        return base.model_copy(update=changes)
