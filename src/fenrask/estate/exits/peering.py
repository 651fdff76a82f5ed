"""Two networks joined, and no more than these two."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.exits.contract import ExitModel, Onward
from fenrask.estate.values import unfit

__all__ = ["Peering"]


class Peering(ExitModel):
    purpose: ClassVar[str] = "joins two networks; what lies behind the other one is not reached (not transitive)"
    needs_offer: ClassVar[bool] = False

    kind: Literal["peering"]
    networks: Annotated[tuple[str, ...], Field(min_length=2, max_length=2)] = Field(description="the two networks")
    sources: Literal["any", "own"] = Field(
        "own",
        description="which packets it takes: `own`, those whose source lies in the network they come from, or `any`",
    )
    exits_open_to: tuple[str, ...] = Field(
        (), description="which of the two networks may route to exits of the other: none, one or both of them"
    )

    @model_validator(mode="after")
    def _open_to_its_own(self) -> Self:
        if strangers := [one for one in self.exits_open_to if one not in self.networks]:
            raise unfit(f"exits_open_to of the two networks, not {', '.join(strangers)}", "Name one or both of them.")
        return self

    @property
    def onward(self) -> Onward:
        return Onward.JOINED

    @property
    def takes_forwarded(self) -> bool:
        return self.sources == "any"

    def lets_use_exits(self, network: str | None) -> bool:
        return network in self.exits_open_to

    @property
    def joins(self) -> tuple[str, ...]:
        return self.networks
