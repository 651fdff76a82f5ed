"""The unplanned exit: an address that the provider assigns and may change."""

from typing import ClassVar, Literal

from fenrask.estate.exits.contract import OfNetwork, Onward

__all__ = ["DynamicAddress"]


class DynamicAddress(OfNetwork):
    purpose: ClassVar[str] = (
        "the unplanned exit: the provider assigns an address of its own, which may change at any time"
    )
    needs_offer: ClassVar[bool] = False
    fixed_source: ClassVar[bool] = False
    keeps_state: ClassVar[bool] = True
    fallback: ClassVar[bool] = True
    can_fail: ClassVar[bool] = False

    kind: Literal["dynamic-address"]

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def translates(self) -> bool:
        return True

    @property
    def families(self) -> frozenset[int]:
        return frozenset({4})
