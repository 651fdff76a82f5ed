"""A private way into a provider's service, entered at an address inside a subnet."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["InSubnetEndpoint"]


class InSubnetEndpoint(ExitModel):
    purpose: ClassVar[str] = "private way into a provider's service, entered at an address in a subnet, found by name"

    kind: Literal["in-subnet-endpoint"]
    offer: str = Field(description="the catalogue's offer")
    subnets: Annotated[tuple[str, ...], Field(min_length=1)] = Field(description="one subnet for each zone it serves")
    destination: str = Field(description="the service it leads to")
    region: str = Field("", description="the region it stands in; left out: its network's")
    access: Literal["listed", "anyone"] = Field(
        "listed", description="who its access policy lets in: what is listed there, or anyone"
    )
    ip_families: Annotated[tuple[Literal[4, 6], ...], Field(min_length=1)] = Field(
        (4, 6), description="the IP versions that it carries"
    )
    names: Literal["private", "public"] = Field(
        "private", description="whether the service's names resolve to it inside the network"
    )

    @property
    def onward(self) -> Onward:
        return Onward.SERVICE

    @property
    def stands_in(self) -> tuple[str, ...]:
        return self.subnets

    @property
    def families(self) -> frozenset[int]:
        return frozenset(self.ip_families)

    @property
    def carries(self) -> tuple[str, ...]:
        return (self.destination,)

    @property
    def found_by_name(self) -> bool:
        return self.names == "private"

    @property
    def units(self) -> int:
        return len(self.subnets)
