"""The network's own connection to the internet."""

from typing import ClassVar, Literal

from fenrask.estate.exits.contract import OfNetwork, Onward

__all__ = ["DirectInternet"]


class DirectInternet(OfNetwork):
    purpose: ClassVar[str] = "the network's own exit to the internet: only what has a public source leaves through it"
    needs_offer: ClassVar[bool] = False
    can_fail: ClassVar[bool] = False
    takes_public_sources: ClassVar[bool] = True

    kind: Literal["direct-internet"]

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def needs_public_source(self) -> bool:
        return True
