"""A provider's offers: limits and rates of each kind of exit, addresses, transfer. All as written."""

from decimal import Decimal
from typing import Annotated, Any, Literal, Self

from pydantic import Discriminator, Field, Tag, model_validator

from fenrask.estate.values import Count, Day, Money, Number, Strict, unfit

__all__ = [
    "Addresses",
    "Catalogue",
    "Limits",
    "Offer",
    "Ports",
    "Rate",
    "Rates",
    "Release",
    "Tier",
    "Tiers",
    "Transfer",
]


class Tier(Strict):
    """One step of a graduated rate: it holds up to and including a volume; the last step has no end."""

    up_to_gb: Money | None = Field(None, description="end of the step in volume units, its own boundary included")
    rate: Money = Field(description="money per volume unit inside this step")


class Tiers(Strict):
    """A graduated rate and over what its volume is summed."""

    sum_over: Literal["exit", "estate"] = Field("estate", description="volumes are summed over this before the steps")
    tiers: tuple[Tier, ...] = Field(min_length=1, description="steps in rising order; the last without up_to_gb")

    @model_validator(mode="after")
    def _rising(self) -> Self:
        ends = [tier.up_to_gb for tier in self.tiers]
        known = [end for end in ends[:-1] if end is not None]
        rising = all(a < b for a, b in zip(known, known[1:], strict=False))
        if ends[-1] is not None or len(known) != len(ends) - 1 or not rising:
            raise unfit("steps with rising up_to_gb, and none on the last", "Give each step but the last an up_to_gb.")
        return self


def _rate_shape(value: Any) -> str:
    return "tiers" if isinstance(value, dict | Tiers) else "flat"


Rate = Annotated[Annotated[Money, Tag("flat")] | Annotated[Tiers, Tag("tiers")], Discriminator(_rate_shape)]
"""Money per volume unit: flat, or graduated."""


class Ports(Strict):
    """How a translator hands out ports (RFC 4787)."""

    assignment: Literal["shared-per-destination"] = Field(description="who shares a port with whom")
    per_address: Annotated[int, Field(strict=True, ge=1, le=65536)] = Field(
        description="ports that one address offers for each transport protocol"
    )
    address_choice: Literal["any-free"] = Field(
        "any-free", description="which address a new connection takes its port from"
    )


class Release(Strict):
    """How long a translated port stays taken after its connection ended, in seconds, by ending."""

    closed: Number = Field(0.0, description="closed in order by both ends, s")
    reset: Number = Field(0.0, description="ended by a reset, s")
    idle: Number = Field(0.0, description="never ended, given up for idle, s")
    udp_idle: Number = Field(0.0, description="UDP, given up for idle, s")


class Limits(Strict):
    """What an offer caps for each gateway; a limit left out does not exist."""

    addresses: Count | None = Field(None, description="public addresses on one gateway")
    connections: Count | None = Field(None, description="connections held at once in all")
    new_per_s: Number | None = Field(None, description="new connections per second")
    gbit_per_s: Number | None = Field(None, description="bits per second both ways together, in 10^9")
    subnets: Count | None = Field(None, description="subnets that may use one gateway")


class Rates(Strict):
    """What an offer costs."""

    hour: Money = Field(Decimal(0), description="money per hour for each gateway, node, host, or endpoint in a zone")
    processed_per_gb: Rate = Field(Decimal(0), description="money per volume unit carried, both ways")


class Offer(Strict):
    """One offer: a kind of exit with its limits and rates."""

    kind: str = Field(description="the kind of exit this is")
    scope: Literal["zone", "region"] = Field("zone", description="what one gateway can serve")
    ports: Ports | None = Field(None, description="port assignment, for offers that translate")
    protocols: tuple[Literal["tcp", "udp"], ...] = Field(
        ("tcp", "udp"), description="the transport protocols that it translates"
    )
    release_s: Release = Field(
        default_factory=Release, description="how long a port stays taken after its connection, s"
    )
    limits: Limits = Field(default_factory=Limits, description="caps of one gateway")
    rates: Rates = Field(default_factory=Rates, description="what it costs")
    services: tuple[str, ...] | None = Field(
        None, description="for endpoints: the destinations it leads to, by name; left out: every service"
    )

    def leads_to(self, destination: str) -> bool:
        """Whether an endpoint of this offer can be had for a destination."""
        return self.services is None or destination in self.services


class Addresses(Strict):
    """What public addresses cost and how they are sold."""

    hour: Money = Field(Decimal(0), description="money per address and hour")
    class_: str = Field("", alias="class", description="the class of address that exits take")
    blocks: tuple[Annotated[int, Field(strict=True, ge=24, le=31)], ...] = Field(
        (), description="prefix lengths of the contiguous blocks on sale, beside single addresses"
    )


class Transfer(Strict):
    """What moving data costs apart from the exits' own rates."""

    internet_out_per_gb: Rate = Field(Decimal(0), description="leaving to the internet, out only")
    service_out_per_gb: Rate | None = Field(
        None, description="leaving by a door to the provider's own services; left out: as internet_out_per_gb"
    )
    cross_zone_per_gb: Money = Field(Decimal(0), description="crossing from one zone to another, both ways")


class Catalogue(Strict):
    """A provider's offers, rates and limits, with the day they were read."""

    catalogue: str = Field(description="the provider's name")
    currency: str = Field(description="of all rates")
    noted: Day = Field(description="the day these figures were read")
    source: str = Field("", description="where they were read")
    hours_per_month: Annotated[Money, Field(gt=0)] = Field(Decimal(730), description="hours billed for a month")
    volume_unit: Literal["GB", "GiB"] = Field("GB", description="what `gb` means in the rates: 10^9 or 2^30 bytes")
    routes_per_table: Count | None = Field(None, description="routes that one route table holds at most")
    offers: dict[str, Offer] = Field(min_length=1, description="offers by name")
    addresses: Addresses = Field(default_factory=Addresses, description="public addresses")
    transfer: Transfer = Field(default_factory=Transfer, description="moving data")
