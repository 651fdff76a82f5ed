"""The unplanned way out."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["DynamicAddress"]


class DynamicAddress(ExitModel):
    purpose: ClassVar[str] = "the provider lends some address of its own, which may change at any time"
    needs_offer: ClassVar[bool] = False
    fixed_source: ClassVar[bool] = False
    keeps_state: ClassVar[bool] = True
    fallback: ClassVar[bool] = True

    kind: Literal["dynamic-address"]
    network: str = Field(description="the network whose hosts are lent addresses where no route matches")

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def translates(self) -> bool:
        return True

    @property
    def families(self) -> frozenset[int]:
        return frozenset({4})

    @property
    def of_network(self) -> str | None:
        return self.network
