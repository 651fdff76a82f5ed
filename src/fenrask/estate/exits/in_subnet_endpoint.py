"""A private path into a provider's service, entered at an address inside a subnet."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.private_endpoint import PrivateEndpoint

__all__ = ["InSubnetEndpoint"]


class InSubnetEndpoint(PrivateEndpoint):
    purpose: ClassVar[str] = "private path into a provider's service, entered at an address in a subnet, found by name"

    kind: Literal["in-subnet-endpoint"]
    subnets: Annotated[tuple[str, ...], Field(min_length=1)] = Field(description="one subnet for each zone it serves")
    names: Literal["private", "public"] = Field(
        "private", description="whether the service's names resolve to it inside the network"
    )

    names_for: Annotated[tuple[str, ...], Field(min_length=1)] | None = Field(
        None,
        description="the only subnets in which these names resolve to it, of whatever network; default: all of its "
        "own network, and of `names_in`",
    )
    names_in: tuple[str, ...] = Field(
        (), description="other networks in which these names resolve to it: they reach it over a hub or a peering"
    )

    @property
    def serves_by_name(self) -> tuple[str, ...]:
        return self.names_in

    @property
    def serves_subnets_by_name(self) -> tuple[str, ...] | None:
        return self.names_for

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return self.subnets

    @property
    def found_by_name(self) -> bool:
        return self.names == "private"

    @property
    def units(self) -> int:
        return len(self.subnets)
