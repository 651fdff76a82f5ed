"""Two networks joined, and no more than these two."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["Peering"]


class Peering(ExitModel):
    purpose: ClassVar[str] = "joins two networks; what lies behind the other one is not reached (not transitive)"
    needs_offer: ClassVar[bool] = False

    kind: Literal["peering"]
    networks: Annotated[tuple[str, ...], Field(min_length=2, max_length=2)] = Field(description="the two networks")
    forwarded: bool = Field(
        False, description="whether it takes packets whose source lies outside the network they come from"
    )
    use_exits: bool = Field(False, description="whether either side's routes may lead to exits of the other")

    @property
    def onward(self) -> Onward:
        return Onward.JOINED

    @property
    def takes_forwarded(self) -> bool:
        return self.forwarded

    @property
    def shares_exits(self) -> bool:
        return self.use_exits

    @property
    def joins(self) -> tuple[str, ...]:
        return self.networks
