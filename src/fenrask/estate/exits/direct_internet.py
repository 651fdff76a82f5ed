"""The network's own connection to the internet."""

from typing import ClassVar, Literal

from pydantic import Field

from fenrask.estate.exits.contract import OfNetwork, Onward

__all__ = ["DirectInternet"]


class DirectInternet(OfNetwork):
    purpose: ClassVar[str] = "the network's own exit to the internet: only what has a public source leaves through it"
    needs_offer: ClassVar[bool] = False
    can_fail: ClassVar[bool] = False
    takes_public_sources: ClassVar[bool] = True

    kind: Literal["direct-internet"]
    routes: str | None = Field(
        None, description="its own table for what comes back from outside, where replies must pass a firewall"
    )

    @property
    def table_for_replies(self) -> str | None:
        return self.routes

    @property
    def tables(self) -> frozenset[str]:
        return frozenset({self.routes} if self.routes else ())

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def needs_public_source(self) -> bool:
        return True
