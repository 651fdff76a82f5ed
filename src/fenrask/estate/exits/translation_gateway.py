"""Provider-run source translation (NAPT, RFC 3022; NAT64, RFC 6146)."""

from typing import ClassVar, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.exits.contract import Onward, Publishing, Translating
from fenrask.estate.values import unfit

__all__ = ["TranslationGateway"]


class TranslationGateway(Publishing, Translating):
    purpose: ClassVar[str] = "provider-run source translation (SNAT), in a subnet or for a whole network"

    one_for_each_subnet: ClassVar[bool] = True
    serves_whole_network: ClassVar[bool] = True

    kind: Literal["translation-gateway"]
    offer: str = Field(description="the catalogue's offer")
    subnet: str | None = Field(None, description="the subnet that it is in, whose table routes on to an internet exit")
    network: str | None = Field(
        None, description="instead of a subnet: the network that it serves, by an internet exit of its own"
    )

    nat64: bool = Field(False, description="whether it also takes IPv6 hosts to IPv4 destinations")
    routes: str | None = Field(
        None, description="its own table for what comes back from outside, where replies must pass a firewall"
    )

    @model_validator(mode="after")
    def _stands_somewhere(self) -> Self:
        if (self.subnet is None) == (self.network is None):
            raise unfit("either `subnet` or `network`", "Say which subnet it is in, or which network it serves.")
        return self

    @property
    def table_for_replies(self) -> str | None:
        return self.routes

    @property
    def tables(self) -> frozenset[str]:
        return frozenset({self.routes} if self.routes else ())

    @property
    def onward(self) -> Onward:
        return Onward.TABLE if self.subnet else Onward.INTERNET

    @property
    def translates(self) -> bool:
        return True

    @property
    def families(self) -> frozenset[int]:
        return frozenset({4})

    @property
    def maps_ipv6(self) -> bool:
        return self.nat64

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return (self.subnet,) if self.subnet else ()

    @property
    def of_network(self) -> str | None:
        return self.network
