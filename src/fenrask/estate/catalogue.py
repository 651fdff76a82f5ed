"""A provider's offers: limits and rates of each kind of exit, addresses, transfer. All as written."""

from collections.abc import Container, Mapping
from decimal import Decimal
from typing import Annotated, Any, Literal, Self

from pydantic import Discriminator, Field, Tag, model_validator

from fenrask.estate.behaviour import Behaviour
from fenrask.estate.flows import Ending
from fenrask.estate.ports import AnyPorts
from fenrask.estate.throughput import Throughput
from fenrask.estate.values import MOST, Count, Day, Money, Number, Strict, unfit

__all__ = [
    "Addresses",
    "Catalogue",
    "Commitment",
    "Limits",
    "Offer",
    "Rate",
    "Rates",
    "MappingTimeouts",
    "Tier",
    "TimeoutBounds",
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


class TimeoutBounds(Strict):
    """A timeout that each gateway can set for itself."""

    min: Number = Field(description="the least that can be set, s")
    max: Number = Field(description="the most that can be set, s")
    default: Number = Field(description="what holds where a gateway sets none, s")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if not self.min <= self.default <= self.max:
            raise unfit("min <= default <= max")
        return self


def _timeout_shape(value: Any) -> str:
    return "bounds" if isinstance(value, dict | TimeoutBounds) else "fixed"


Timeout = Annotated[
    Annotated[Number, Tag("fixed")] | Annotated[TimeoutBounds, Tag("bounds")], Discriminator(_timeout_shape)
]
"""Seconds; or, where each gateway can set it, `{min, max, default}`."""


def _seconds(stated: float | TimeoutBounds) -> float:
    return stated.default if isinstance(stated, TimeoutBounds) else stated


class MappingTimeouts(Strict):
    """How long a translated port stays taken after its connection ended, in seconds, by ending."""

    closed: Timeout = Field(0.0, description="closed in order by both ends, s")
    reset: Timeout = Field(0.0, description="ended by a reset, s")
    idle: Timeout = Field(0.0, description="never ended, given up for idle, s")
    half_closed: Timeout | None = Field(None, description="closed by one end only, s; default: as idle")
    rejected: Timeout | None = Field(None, description="rejected by the remote end, s; default: as reset")
    unanswered: Timeout | None = Field(None, description="first packet never answered, s; default: as idle")
    udp_idle: Timeout = Field(0.0, description="UDP, given up for idle, s")
    udp_one_way: Timeout | None = Field(None, description="UDP never answered, s; default: as udp_idle")
    udp_answered: Timeout | None = Field(None, description="UDP answered, s; default: as udp_idle")
    udp_streaming: Timeout | None = Field(None, description="UDP in long exchanges, s; default: as udp_idle")

    def after(self, ending: Ending) -> float:
        """Seconds after this ending."""
        stated: float | TimeoutBounds | None = getattr(self, ending)
        if stated is not None:
            return _seconds(stated)
        return _seconds(getattr(self, "udp_idle" if ending.startswith("udp") else _AS[ending]))

    def stated(self, key: str) -> float | None:
        """Seconds under a key; None where it is not given."""
        value: float | TimeoutBounds | None = getattr(self, key)
        return None if value is None else _seconds(value)

    def bounds(self, key: str) -> TimeoutBounds | None:
        """What a gateway may set under a key; None where it may set nothing."""
        value = getattr(self, key, None)
        return value if isinstance(value, TimeoutBounds) else None

    @property
    def adjustable(self) -> tuple[str, ...]:
        """The keys that a gateway may set."""
        return tuple(key for key in type(self).model_fields if self.bounds(key))

    def changed(self, settings: Mapping[str, float]) -> "MappingTimeouts":
        """The timeouts of a gateway that sets some of them."""
        updates = {
            key: bounds.model_copy(update={"default": value})
            for key, value in settings.items()
            if (bounds := self.bounds(key))
        }
        return self.model_copy(update=updates)

    def scaled(self, times: float) -> dict[str, Any]:
        """The patch that makes every timeout this many times as long."""
        found: dict[str, Any] = {}
        for key in type(self).model_fields:
            value, bounds = self.stated(key), self.bounds(key)
            if value and bounds:
                found[key] = {"default": value * times, "max": max(bounds.max, value * times)}
            elif value:
                found[key] = value * times
        return found


_AS: dict[str, str] = {"half_closed": "idle", "rejected": "reset", "unanswered": "idle"}


class Limits(Throughput):
    """What an offer caps for each gateway; a limit that is not given does not exist."""

    addresses: Annotated[Count, Field(ge=1)] | None = Field(
        None, description="addresses on one gateway, public ones or of its private pool"
    )
    connections_per_tuple: Count | None = Field(
        None, description="concurrent connections toward one destination address, port and protocol"
    )
    hosts: Count | None = Field(None, description="hosts that may use one gateway")
    subnets: Count | None = Field(None, description="subnets that may use one gateway")
    node: Throughput = Field(
        default_factory=Throughput, description="what one of several nodes takes, each an even part of the load"
    )


class Rates(Strict):
    """What an offer costs."""

    hour: Money = Field(Decimal(0), description="money per hour for each gateway, node, host, or endpoint in a zone")
    processed_per_gb: Rate = Field(Decimal(0), description="money per volume unit carried, both ways")
    month_minimum: Money = Field(
        Decimal(0), description="least money a month for each gateway, node or endpoint, hours and volume together"
    )
    once: Money = Field(Decimal(0), description="money once, for each gateway, node, host or endpoint that is put up")


class OnChange(Strict):
    """What connections do that are open on an exit while it, or a route or name of it, is changed."""

    add_address: Literal["keep", "break"] = Field("keep", description="when it gets addresses beside those that it has")
    remove_address: Literal["break", "drain"] = Field(
        "break",
        description="when an address of theirs is taken from it; `drain`: they end by themselves within `drain_s`",
    )
    new_route: Literal["keep", "break"] | None = Field(
        None,
        description="when a route is changed to another exit; default: what `open_connections` of the catalogue says",
    )
    attach: Literal["keep", "break"] = Field("break", description="when networks are attached to a hub, or detached")
    name: Literal["keep", "break"] = Field(
        "keep", description="when a name resolves to another exit, or no longer to it"
    )
    timeout: Literal["keep", "break"] = Field("keep", description="when its mapping timeouts are set")
    drain_s: Number = Field(0.0, description="how long open connections are left, s, with `remove_address: drain`")


class Offer(Strict):
    """One offer: a kind of exit with its limits and rates."""

    kind: str = Field(description="the kind of exit this is")
    scope: Literal["zone", "region"] = Field("zone", description="what one gateway can serve")
    ports: AnyPorts | None = Field(None, description="port assignment, for offers that translate")
    protocols: tuple[Literal["tcp", "udp"], ...] = Field(
        ("tcp", "udp"), description="the transport protocols that it translates"
    )
    mapping_timeout_s: MappingTimeouts = Field(
        default_factory=MappingTimeouts, description="how long a port stays taken after its connection, s"
    )
    limits: Limits = Field(default_factory=Limits, description="caps of one gateway")
    rates: Rates = Field(default_factory=Rates, description="what it costs")
    rates_by_region: dict[str, Rates] = Field({}, description="what it costs in regions where that is something else")
    availability: Annotated[float, Field(strict=True, gt=0, le=1)] | None = Field(
        None, description="share of time that one gateway, machine, node, endpoint or router works; default: not known"
    )
    shared_availability: Annotated[float, Field(strict=True, gt=0, le=1)] | None = Field(
        None,
        description="share of time that what all units of one share works, such as the line behind two routers; "
        "default: not known, and no downtime is reckoned for it",
    )
    repair_s: Annotated[float, Field(strict=True, gt=0, le=MOST)] | None = Field(
        None,
        description="mean time until one that failed works again, s: how often machines take over from each other; "
        "default: not known, and their taking over costs no availability",
    )
    upkeep_hours: Number = Field(0.0, description="hours of work a month that each machine of it takes")
    set_up_hours: Number = Field(0.0, description="hours of work, once, to put up each machine of it")
    take_down_hours: Number = Field(0.0, description="hours of work, once, to take down each machine of it")
    on_change: OnChange = Field(
        default_factory=OnChange, description="what open connections do when it, or a route or name of it, is changed"
    )
    services: tuple[str, ...] | None = Field(
        None, description="for endpoints: the destinations it reaches, by name; default: every service"
    )

    def rates_in(self, region: str) -> Rates:
        """What it costs in a region."""
        return self.rates_by_region.get(region, self.rates)

    def leads_to(self, destination: str) -> bool:
        """Whether an endpoint of this offer can be had for a destination."""
        return self.services is None or destination in self.services


def _blocks_shape(value: Any) -> str:
    return "priced" if isinstance(value, dict) else "lengths"


BlockLength = Annotated[int, Field(ge=24, le=31)]
Blocks = Annotated[
    Annotated[tuple[Annotated[BlockLength, Field(strict=True)], ...], Tag("lengths")]
    | Annotated[dict[BlockLength, Money], Tag("priced")],
    Discriminator(_blocks_shape),
]


class Addresses(Strict):
    """What public addresses cost and how they are sold."""

    hour: Money = Field(Decimal(0), description="money per address and hour")
    class_: str = Field("", alias="class", description="the class of address that exits take")
    blocks: Blocks = Field(
        (),
        description="prefix lengths of the contiguous blocks on sale beside single addresses; or money per block "
        "and hour by prefix length, where a block does not cost what its addresses do",
    )

    def block_hour(self, length: int) -> Decimal:
        """Money per hour for a block of this prefix length; 32 is a single address."""
        if isinstance(self.blocks, dict) and length in self.blocks:
            return self.blocks[length]
        return self.hour * (1 << (32 - length))


class Transfer(Strict):
    """What moving data costs apart from the exits' own rates."""

    internet_out_per_gb: Rate = Field(Decimal(0), description="leaving to the internet, out only")
    service_out_per_gb: Rate | None = Field(
        None, description="leaving by a door to the provider's own services; default: as internet_out_per_gb"
    )
    cross_zone_per_gb: Money = Field(Decimal(0), description="crossing from one zone to another, both ways")
    cross_network_per_gb: Money = Field(
        Decimal(0), description="crossing from one network to another by a peering or a hub, both ways"
    )
    cross_region_per_gb: Money = Field(
        Decimal(0), description="the same where the networks lie in other regions, instead of cross_network_per_gb"
    )


class Commitment(Strict):
    """What is paid less for having committed to it: a share, or a fixed sum a month."""

    share: Annotated[Money, Field(le=1)] | None = Field(None, description="share taken off what it covers")
    month_off: Money | None = Field(None, description="money taken off a month, at most all that it covers")
    items: tuple[Literal["hours", "addresses", "processed", "internet out"], ...] = Field(
        ("hours",), description="the items of the bill that it covers"
    )
    offers: tuple[str, ...] = Field((), description="the offers that it covers; default: all")
    month_fee: Money = Field(Decimal(0), description="money a month that it costs, whatever is used")
    months: Annotated[int, Field(strict=True, ge=1, le=120)] | None = Field(
        None, description="months that it binds for; default: not stated"
    )
    on_offer: bool = Field(
        False, strict=True, description="whether it can be taken and is not yet: `schedule` says if, and from when on"
    )

    def overlaps(self, other: "Commitment") -> bool:
        """Whether any line of a bill may be covered by both."""
        alike = not self.offers or not other.offers or bool({*self.offers} & {*other.offers})
        return alike and bool({*self.items} & {*other.items})

    def covers(self, item: str, offer: str) -> bool:
        """Whether an item of the bill for an exit of this offer is one of those that cost less."""
        return item in self.items and (not self.offers or offer in self.offers)

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        if (self.share is None) == (self.month_off is None):
            raise unfit("either share or month_off", "Say what is taken off in one way.")
        if self.on_offer and self.months is None:
            raise unfit("months", "Say for how many months it binds who takes it.")
        return self


class Catalogue(Strict):
    """A provider's offers, rates and limits, with the day they were read."""

    catalogue: str = Field(description="the provider's name")
    currency: str = Field(description="of all rates")
    read_on: Day = Field(description="the day these figures were read")
    source: str = Field("", description="where they were read")
    made_up: bool = Field(False, strict=True, description="whether they are made up, as those of an example are")
    hours_per_month: Annotated[Money, Field(gt=0)] = Field(Decimal(730), description="hours billed for a month")
    zone_availability: Annotated[float, Field(strict=True, gt=0, lt=1)] | None = Field(
        None,
        description="share of time that one zone works, with all exits in it; offers' own shares hold while it does; "
        "default: not known, and zones do not fail",
    )
    volume_unit: Literal["GB", "GiB"] = Field("GB", description="what `gb` means in the rates: 10^9 or 2^30 bytes")
    meters: Literal["payload", "wire"] = Field(
        "payload", description="what its rates count: what connections carry, or that with all headers"
    )
    routes_per_table: Count | None = Field(None, description="routes that one route table holds at most")
    behaviour: Behaviour = Field(default_factory=Behaviour, description="what the provider's network does by itself")
    offers: dict[str, Offer] = Field(min_length=1, description="offers by name")
    addresses: Addresses = Field(default_factory=Addresses, description="public addresses")
    addresses_by_region: dict[str, Addresses] = Field(
        {}, description="public addresses in regions where they are sold otherwise"
    )
    commitments: dict[str, Commitment] = Field({}, description="commitment discounts, by name")
    transfer: Transfer = Field(default_factory=Transfer, description="moving data")
    transfer_by_region: dict[str, Transfer] = Field(
        {}, description="moving data out of, within and from regions where that costs something else"
    )

    @model_validator(mode="after")
    def _no_more_than_all(self) -> Self:
        for name, commitment in self.commitments.items():
            both = [
                other for other in self.commitments.values() if commitment.overlaps(other) and other.share is not None
            ]
            total = (
                sum((other.share or Decimal(0) for other in both), Decimal(0))
                if commitment.share is not None
                else Decimal(0)
            )
            if total > 1:
                remedy = "Lower the shares, or name the offers and items that each covers."
                raise unfit(
                    f"commitments whose shares on the same lines sum to at most 1, not {total} at {name}", remedy
                )
        return self

    @property
    def in_force(self) -> Mapping[str, Commitment]:
        """The commitments that bills count: all that are not merely on offer."""
        return {name: one for name, one in self.commitments.items() if not one.on_offer}

    def taking(self, names: Container[str]) -> "Self":
        """The same with some of the commitments on offer taken."""
        taken = {
            name: one.model_copy(update={"on_offer": False}) if name in names else one
            for name, one in self.commitments.items()
        }
        return self.model_copy(update={"commitments": taken})

    def addresses_in(self, region: str) -> Addresses:
        """How public addresses are sold in a region."""
        return self.addresses_by_region.get(region, self.addresses)

    @property
    def promises_availability(self) -> bool:
        """Whether it says of anything which share of the time that works."""
        each = [(one.availability, one.shared_availability) for one in self.offers.values()]
        return any(one is not None for some in (*each, (self.zone_availability,)) for one in some)

    def transfer_in(self, region: str) -> Transfer:
        """What moving data out of, within and from a region costs."""
        return self.transfer_by_region.get(region, self.transfer)

    def tariff_of(self, region: str) -> str:
        """The region itself where moving data has a price of its own there, else nothing: volumes are summed so."""
        return region if region in self.transfer_by_region else ""
