"""The common part of private paths into a provider's service."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward
from fenrask.estate.filters import Filter

__all__ = ["PrivateEndpoint"]


class PrivateEndpoint(ExitModel):
    """A private path to one destination, however it is entered."""

    in_force_first: ClassVar[tuple[str, ...]] = ("filters", "access", "allowed_from")

    offer: str = Field(description="the catalogue's offer")
    destination: str = Field(description="the service that it reaches")
    region: str = Field("", description="the region it is in; default: its network's")
    access: Literal["listed", "anyone"] = Field(
        "anyone",
        description="whom its access policy lets in: what is listed there, or anyone, as providers ship it",
    )
    allowed_from: tuple[str, ...] | None = Field(
        None, description="the only workloads that its policy lets in; default: whoever gets there"
    )
    filters: dict[str, Filter] = Field(
        {}, description="filters of what enters it, by name; all of them must allow a packet"
    )
    ip_families: Annotated[tuple[Literal[4, 6], ...], Field(min_length=1)] = Field(
        (4, 6), description="the IP versions that it carries"
    )

    @property
    def own_filters(self) -> dict[str, Filter]:
        return self.filters

    @property
    def lets_in(self) -> tuple[str, ...] | None:
        return self.allowed_from

    @property
    def onward(self) -> Onward:
        return Onward.SERVICE

    @property
    def own_region(self) -> str:
        return self.region

    @property
    def families(self) -> frozenset[int]:
        return frozenset(self.ip_families)

    @property
    def carries(self) -> tuple[str, ...]:
        return (self.destination,)
