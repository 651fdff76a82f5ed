"""A private way into a provider's service, entered at an address inside a subnet."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["InSubnetEndpoint"]


class InSubnetEndpoint(ExitModel):
    purpose: ClassVar[str] = (
        "private way into a provider's service, entered at an address in a subnet, found by name"
    )

    kind: Literal["in-subnet-endpoint"]
    offer: str = Field(description="the catalogue's offer")
    subnets: Annotated[tuple[str, ...], Field(min_length=1)] = Field(
        description="one subnet for each zone it serves"
    )
    destination: str = Field(description="the service it leads to")
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
    def carries(self) -> str | None:
        return self.destination

    @property
    def found_by_name(self) -> bool:
        return self.names == "private"

    @property
    def units(self) -> int:
        return len(self.subnets)
