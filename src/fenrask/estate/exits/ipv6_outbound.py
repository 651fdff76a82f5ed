"""IPv6 straight out."""

from typing import ClassVar, Literal

from fenrask.estate.exits.contract import OfNetwork, Onward

__all__ = ["Ipv6Outbound"]


class Ipv6Outbound(OfNetwork):
    purpose: ClassVar[str] = "outbound IPv6 only, nothing inbound; no translation"
    needs_offer: ClassVar[bool] = False
    keeps_state: ClassVar[bool] = True
    untranslated_ipv6: ClassVar[bool] = True

    kind: Literal["ipv6-outbound"]

    @property
    def onward(self) -> Onward:
        return Onward.INTERNET

    @property
    def families(self) -> frozenset[int]:
        return frozenset({6})

    @property
    def needs_public_source(self) -> bool:
        """Unique local addresses have no path on the internet (RFC 4193, section 4.3)."""
        return True
