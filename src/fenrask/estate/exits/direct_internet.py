"""The network's own door to the internet."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["DirectInternet"]


class DirectInternet(ExitModel):
    purpose: ClassVar[str] = "the network's own door to the internet: only what has a public source leaves by it"
    needs_offer: ClassVar[bool] = False

    kind: Literal["direct-internet"]
    network: str = Field(description="the network whose door it is")

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def needs_public_source(self) -> bool:
        return True

    @property
    def of_network(self) -> str | None:
        return self.network
