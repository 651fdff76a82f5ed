"""What is being reached, and what a destination or a workload demands of the exits on the way."""

from collections import Counter
from functools import cached_property
from typing import Annotated, Any, Literal, Self, get_args

from pydantic import BeforeValidator, Discriminator, Field, Tag, WithJsonSchema, model_validator

from fenrask.estate.values import MOST, Count, HostName, PortNumber, PrefixText, Share, Strict, unfit

__all__ = ["BY_NAME", "Destination", "Fault", "Needs", "PerSource"]


BY_NAME: Literal["by-name"] = "by-name"
"""Inspected by the name that is asked for."""


def _inspected_shape(value: Any) -> str:
    return "way" if isinstance(value, str) else "whether"


Inspected = Annotated[
    Annotated[bool, Tag("whether")] | Annotated[Literal["by-name"], Tag("way")], Discriminator(_inspected_shape)
]


Fault = Literal["zone-loss", "exit-loss", "node-loss", "session-loss", "any-one"]
"""A kind of fault: of a zone, an exit, one of an exit's nodes or machines, a routing session; or each of these."""
_FAULTS: tuple[Fault, ...] = ("zone-loss", "exit-loss", "node-loss", "session-loss")


def _as_list(value: Any) -> Any:
    """A single word as a list of one; nothing as an empty one."""
    if value is None:
        return ()
    return (value,) if isinstance(value, str) else value


_WORD = {"enum": [*get_args(Fault)]}
Faults = Annotated[
    tuple[Fault, ...],
    BeforeValidator(_as_list),
    WithJsonSchema({"anyOf": [_WORD, {"type": "array", "items": _WORD}, {"type": "null"}]}),
]
"""Kinds of faults: one, or a list of them."""


class Needs(Strict):
    """What a destination or a workload demands of its exit."""

    fixed_source: bool = Field(False, description="the remote end must see an address that does not change")
    inspected: Inspected = Field(
        False,
        description="an inspecting firewall must be passed; `by-name`: and one of its rules must let it pass for the "
        "name that is asked for, not for its address alone",
    )
    off_internet: bool = Field(False, description="the traffic must not cross the internet")
    max_source_addresses: Annotated[int, Field(strict=True, ge=1)] | None = Field(
        None, description="entries (addresses or prefixes) that the partner's allow-list takes"
    )
    one_source_per_host: bool = Field(False, description="a host must always show the same address")
    availability: Annotated[float, Field(strict=True, gt=0, lt=1)] | None = Field(
        None, description="share of time that hosts must reach it, as expected from what offers promise: 0.999"
    )
    outbound_only: bool = Field(False, description="the remote end must not be able to open connections to its hosts")
    survives: Faults = Field(
        (),
        description="the faults, one or a list, after each of which the hosts that are left must still reach it, with "
        "all its other needs met, and every exit on the path must carry the load that moves there; `any-one` for each",
    )

    @property
    def faults(self) -> frozenset[Fault]:
        """The kinds of faults that it survives."""
        return frozenset(_FAULTS if "any-one" in self.survives else self.survives)

    @property
    def of_inward(self) -> "Needs":
        """Those that make sense where the other end opens the connections: nobody sees a source of ours then."""
        return self.model_copy(
            update={"fixed_source": False, "max_source_addresses": None, "one_source_per_host": False}
        )

    def joined(self, other: "Needs") -> "Needs":
        """Both together: the stricter of each."""
        counts = [n for n in (self.max_source_addresses, other.max_source_addresses) if n is not None]
        return Needs(
            fixed_source=self.fixed_source or other.fixed_source,
            inspected="by-name" if BY_NAME in (self.inspected, other.inspected) else self.inspected or other.inspected,
            off_internet=self.off_internet or other.off_internet,
            max_source_addresses=min(counts, default=None),
            one_source_per_host=self.one_source_per_host or other.one_source_per_host,
            availability=max((n for n in (self.availability, other.availability) if n is not None), default=None),
            outbound_only=self.outbound_only or other.outbound_only,
            survives=tuple(dict.fromkeys((*self.survives, *other.survives))),
        )


def _distinct_shape(value: Any) -> str:
    return "shares" if isinstance(value, list | tuple) else "number"


DistinctAddresses = Annotated[
    Annotated[int, Field(strict=True, ge=1), Tag("number")]
    | Annotated[tuple[Share, ...], Field(min_length=1), Tag("shares")],
    Discriminator(_distinct_shape),
]


class PerSource(Strict):
    """What a partner takes from one source address; a limit that is not given does not exist."""

    connections: Annotated[Count, Field(ge=1)] | None = Field(None, description="open connections")
    new_per_s: Annotated[float, Field(strict=True, gt=0, le=MOST)] | None = Field(
        None, description="new connections per second"
    )


class Destination(Strict):
    """What is being reached."""

    prefixes: tuple[PrefixText, ...] = Field((), description="its prefixes; optional for one with names")
    names: tuple[HostName, ...] = Field((), description="its names")
    names_public: bool = Field(
        True, description="whether public resolvers answer its names; else only where an endpoint's names resolve"
    )
    port: PortNumber | None = Field(None, description="its port")
    protocol: Literal["tcp", "udp"] = Field("tcp", description="its transport protocol")
    distinct_addresses: DistinctAddresses = Field(
        1,
        description="addresses of an IP version among which connections spread evenly; or a list of the share of each",
    )
    region: str = Field("", description="the region that a service lies in")
    allowed: tuple[PrefixText, ...] = Field(
        (), description="the prefixes on the partner's allow-list today; default: not known"
    )
    per_source: PerSource | None = Field(None, description="what it takes from one source address; default: no limit")
    service: bool = Field(False, description="whether it is a service of the network's own provider")
    public_access: Literal["open", "closed", "listed"] = Field(
        "open", description="whether it takes what comes over the internet: all, nothing, or what `allowed` lists"
    )
    only_through: tuple[str, ...] | None = Field(
        None, description="the only private endpoints that its own policy lets in; default: any"
    )
    third_party: str = Field(
        "", description="the third party that it belongs to, as its lines name it; default: the internet"
    )
    needs: Needs = Field(default_factory=Needs, description="what it demands of the exit")

    @property
    def is_guarded(self) -> bool:
        """Whether it does not take all that gets there."""
        return self.public_access != "open" or self.only_through is not None

    @cached_property
    def tuple_key(self) -> tuple[object, ...] | None:
        """What makes two destinations one to a translator: address, port, protocol; None where no prefix is known."""
        return (tuple(sorted(map(str, self.prefixes))), self.port, self.protocol) if self.prefixes else None

    @cached_property
    def address_shares(self) -> dict[float, int]:
        """The shares of connections that distinct addresses get, and how many get each."""
        if isinstance(self.distinct_addresses, tuple):
            return Counter(self.distinct_addresses)
        return {1 / self.distinct_addresses: self.distinct_addresses}

    @model_validator(mode="after")
    def _somewhere(self) -> Self:
        if not self.prefixes and not self.names:
            raise unfit("`prefixes`, or at least `names`", "Say where it lies; `fenrask resolve` looks names up.")
        if isinstance(self.distinct_addresses, tuple) and abs(sum(self.distinct_addresses) - 1) > 1e-6:
            raise unfit(f"distinct_addresses whose shares sum to 1, not to {sum(self.distinct_addresses):g}")
        return self
