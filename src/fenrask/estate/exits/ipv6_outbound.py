"""IPv6 straight out."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import ExitModel, Onward

__all__ = ["Ipv6Outbound"]


class Ipv6Outbound(ExitModel):
    purpose: ClassVar[str] = "lets IPv6 hosts out, nobody in; no translation"
    needs_offer: ClassVar[bool] = False
    keeps_state: ClassVar[bool] = True

    kind: Literal["ipv6-outbound"]
    network: str = Field(description="the network whose hosts it lets out")

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def of_network(self) -> str | None:
        return self.network

    @property
    def families(self) -> frozenset[int]:
        return frozenset({6})
