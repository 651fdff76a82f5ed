"""Private ways to a third party: a line, or an encrypted tunnel."""

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.exits.contract import Onward, Preferred, Router
from fenrask.estate.third_party_nat import ThirdPartyNat
from fenrask.estate.values import PortNumber, PrefixText, unfit
from fenrask.estate.wire import MTU
from fenrask.prefixes import Prefix, covers, parse_prefix

__all__ = ["Circuit", "PrivateLine", "Tunnel"]

_DEFAULTS = (parse_prefix("0.0.0.0/0"), parse_prefix("::/0"))


class PrivateLine(Preferred):
    """The common part of lines and tunnels."""

    in_force_first: ClassVar[tuple[str, ...]] = ("accepts", "open_ports")
    added_and_taken: ClassVar[tuple[str, ...]] = ("advertised", "received")
    own_steps: ClassVar[tuple[str, ...]] = ("third_party_nat",)
    steering: ClassVar[tuple[str, ...]] = ("accepts_default", "received_mrt", "routers")

    network: str | None = Field(None, description="the network it ends in")
    hub: str | None = Field(None, description="instead of a network: the hub it ends at")
    routes: str | None = Field(
        None,
        description="with a network: its table for what comes in by it, beside the prefixes of the network and of its "
        "peerings",
    )
    third_party: str = Field("", description="who is at the other end")
    offer: str | None = Field(None, description="the catalogue's offer, where it costs money")
    received: tuple[PrefixText, ...] = Field((), description="prefixes that the third party announces")
    received_mrt: str | None = Field(None, description="the same from a routing table dump (MRT, RFC 6396)")
    advertised: tuple[PrefixText, ...] = Field((), description="own prefixes announced to the third party")
    accepts_default: bool = Field(False, description="whether a received default route is taken")
    accepts: tuple[PrefixText, ...] | None = Field(
        None, description="the only prefixes that are taken of those received, with all inside them; default: all"
    )
    open_ports: tuple[PortNumber, ...] | None = Field(
        None, description="the only ports to which it lets connections in; default: any; an empty list: replies alone"
    )
    third_party_nat: ThirdPartyNat | None = Field(
        None, description="the third party's own translation of what comes over it; default: none that limits"
    )
    mtu: Annotated[int, Field(strict=True, ge=576, le=9216)] | None = Field(
        None, description="bytes of the largest packet that it takes; default: 1500"
    )
    overhead_bytes: Annotated[int, Field(strict=True, ge=0, le=500)] = Field(
        0, description="bytes that it adds to each packet on its own path, as a tunnel does"
    )
    routes_by: Literal["any", "announcement-only"] = Field(
        "any",
        description="how the third party routes to us: by routes of its own, too, or by what is announced to it alone",
    )
    routers: dict[str, Router] = Field(
        {}, description="our routers by name, each paid for if there is an offer; default: one, up"
    )

    @model_validator(mode="after")
    def _ends_somewhere(self) -> Self:
        if (self.network is None) == (self.hub is None):
            raise unfit("either `network` or `hub`", "Say in which network, or at which hub, it ends.")
        if self.routes is not None and self.network is None:
            raise unfit("`routes` of a line that ends in a network", "A line at a hub is answered by the hub's table.")
        return self

    @property
    def table_for_replies(self) -> str | None:
        return self.routes

    @property
    def tables(self) -> frozenset[str]:
        return frozenset((self.routes,) if self.routes else ())

    @property
    def onward(self) -> Onward:
        return Onward.THIRD_PARTY

    @property
    def reached_by_announcement(self) -> bool:
        return self.routes_by == "announcement-only"

    @property
    def limited_beyond(self) -> ThirdPartyNat | None:
        return self.third_party_nat

    @property
    def lets_in_ports(self) -> tuple[int, ...] | None:
        return self.open_ports

    @property
    def largest_packet(self) -> int:
        return self.mtu or MTU

    @property
    def adds_bytes(self) -> int:
        return self.overhead_bytes

    @property
    def of_network(self) -> str | None:
        return self.network

    @property
    def attached_to(self) -> str | None:
        return self.hub

    @property
    def routers_by_name(self) -> Mapping[str, Router]:
        return self.routers

    @property
    def party(self) -> str:
        return self.third_party

    @property
    def units(self) -> int:
        return max(1, len(self.routers))

    @property
    def redundant_units(self) -> int:
        return max(1, sum(router.is_up for router in self.routers.values()))

    @property
    def sessions(self) -> Mapping[str, bool]:
        return {name: router.is_up for name, router in self.routers.items()} or {"": True}

    def without_session(self, router: str = "") -> dict[str, Any]:
        down = [router] if router else [*self.routers] or ["only"]
        return {"routers": {one: {"session": "down"} for one in down}}

    @property
    def learned(self) -> tuple[Prefix, ...]:
        return () if self.fault else self.offered

    @property
    def offered(self) -> tuple[Prefix, ...]:
        return tuple(one for one in self.received if self._takes(one))

    def _takes(self, prefix: Prefix) -> bool:
        if prefix in _DEFAULTS:
            return self.accepts_default
        return self.accepts is None or any(covers(one, prefix) for one in self.accepts)

    @property
    def announced(self) -> tuple[Prefix, ...]:
        return self.received

    @property
    def known_beyond(self) -> tuple[Prefix, ...]:
        return self.advertised

    @property
    def fault(self) -> str:
        if self.routers and not any(router.is_up for router in self.routers.values()):
            return "no routing session is up"
        return ""


class Circuit(PrivateLine):
    purpose: ClassVar[str] = "private line to a third party or a data centre"
    needs_offer: ClassVar[bool] = False

    kind: Literal["circuit"]


class Tunnel(PrivateLine):
    purpose: ClassVar[str] = "encrypted tunnel to a third party or a data centre"
    needs_offer: ClassVar[bool] = False

    kind: Literal["tunnel"]
