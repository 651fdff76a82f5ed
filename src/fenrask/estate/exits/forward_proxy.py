"""A proxy that carries named web traffic on its hosts' behalf."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import InSubnet, Translating
from fenrask.estate.values import PortNumber
from fenrask.prefixes import Address

__all__ = ["ForwardProxy"]


class ForwardProxy(InSubnet, Translating):
    purpose: ClassVar[str] = "carries named web traffic on its hosts' behalf, from its own addresses"
    is_machine: ClassVar[bool] = True
    by_name_only: ClassVar[bool] = True

    kind: Literal["forward-proxy"]
    offer: str = Field(description="the catalogue's offer")
    destinations: Annotated[tuple[str, ...], Field(min_length=1)] = Field(
        description="the destinations that hosts of its network ask it for"
    )

    port: PortNumber = Field(8080, description="the TCP port at which hosts ask it")

    @property
    def families(self) -> frozenset[int]:
        """It connects from its IPv4 addresses, whatever IP version it is asked over."""
        return frozenset({4})

    @property
    def asked_at(self) -> int:
        return self.port

    @property
    def translates(self) -> bool:
        return True

    def rewrites(self, address: Address) -> bool:
        """It opens connections of its own, whatever the IP version."""
        return True

    @property
    def carries(self) -> tuple[str, ...]:
        return self.destinations

    @property
    def found_by_name(self) -> bool:
        return True
