"""The month's bill of an estate: hours, addresses, volumes processed, transfer out, zone crossings.

Volumes follow the walk: each flow's bytes are metered on every exit and crossing that it passes.
All sums are exact fractions; money is rounded where it is shown.
"""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import TypeVar

from fenrask.addresses import SINGLE, AddressPlan, ExitAddresses
from fenrask.charges.lines import NOBODY, Line, Use, shares
from fenrask.charges.meters import Metered, Meters
from fenrask.charges.rates import Piece, pieces
from fenrask.estate import Described, Rate, Tiers
from fenrask.routing import Ways
from fenrask.units import counted

__all__ = ["Bill", "bill"]

Key = TypeVar("Key")


@dataclass(frozen=True)
class Bill:
    """All lines of a month, in the catalogue's currency."""

    currency: str
    lines: tuple[Line, ...]
    flows: Mapping[str, str]
    """The cost centre of every flow."""

    @property
    def total(self) -> Fraction:
        return sum((line.amount for line in self.lines), Fraction(0))

    @property
    def fixed(self) -> Fraction:
        """What is due whatever the volume."""
        return sum((line.amount for line in self.lines if line.fixed), Fraction(0))

    @property
    def by_volume(self) -> Fraction:
        return self.total - self.fixed

    @cached_property
    def by_use(self) -> dict[Use, Fraction]:
        """Amounts by exit and flow; they sum to the total."""
        return self._divided(lambda use: use)

    @cached_property
    def by_exit(self) -> dict[str, Fraction]:
        return self._divided(lambda use: use.exit)

    @cached_property
    def by_flow(self) -> dict[str, Fraction]:
        """Amounts by flow; the empty name holds what nobody uses."""
        return self._divided(lambda use: use.flow)

    @cached_property
    def by_cost_centre(self) -> dict[str, Fraction]:
        """Amounts by cost centre; the empty name holds what nobody uses."""
        return self._divided(lambda use: self.flows.get(use.flow, NOBODY))

    def _divided(self, key: Callable[[Use], Key]) -> dict[Key, Fraction]:
        found: dict[Key, Fraction] = {}
        for line in self.lines:
            for use, share in line.uses.items():
                found[key(use)] = found.get(key(use), Fraction(0)) + line.amount * share
        return found


def bill(ways: Ways, plan: AddressPlan) -> Bill:
    """The month's bill of an estate as it stands, with the addresses as planned."""
    described = ways.described
    meters = Meters(ways)
    lines = [
        *_hours(described, meters),
        *_addresses(described, plan, meters),
        *_processed(described, meters),
        *_transfer(described, meters),
    ]
    flows = {name: described.estate.cost_centre_of(flow) for name, flow in described.estate.flows.items()}
    return Bill(described.catalogue.currency, tuple(lines), flows)


def _hours(described: Described, meters: Meters) -> Iterator[Line]:
    """What every exit costs for standing there."""
    month = Fraction(described.catalogue.hours_per_month)
    for name, way_out in described.estate.exits.items():
        offer = described.offer_of(name)
        if offer is not None and offer.rates.hour:
            reason = f"{month} hours" if way_out.units == 1 else f"{way_out.units} x {month} hours"
            uses = shares(meters.at_exit[name], Use(name, NOBODY))
            yield Line("hours", name, way_out.units * month, "h", offer.rates.hour, reason, True, uses)


def _addresses(described: Described, plan: AddressPlan, meters: Meters) -> Iterator[Line]:
    """Public addresses of exits, every address of a block, and of hosts that have their own."""
    month, rate = Fraction(described.catalogue.hours_per_month), described.catalogue.addresses.hour
    if not rate:
        return
    for one in plan.exits:
        if one.purchase is not None and isinstance(described.catalogue.addresses.blocks, dict):
            yield from _blocks(described, one, meters)
        elif one.bought:
            spare = f", {one.waste} of them to fill a block" if one.waste else ""
            reason = f"{counted(one.bought, 'address', 'addresses')}{spare}, {month} hours"
            uses = shares(meters.at_exit[one.exit], Use(one.exit, NOBODY))
            yield Line("addresses", one.exit, one.bought * month, "address-h", rate, reason, True, uses)
    for name, workload in described.estate.workloads.items():
        if workload.public_address and workload.hosts:
            flows = [flow for flow, stated in described.estate.flows.items() if stated.from_ == name]
            even = {Use("", flow): Fraction(1) for flow in flows}
            reason = f"{workload.hosts} hosts with an address of their own, {month} hours"
            uses = shares(even, Use("", NOBODY))
            yield Line("addresses", name, workload.hosts * month, "address-h", rate, reason, True, uses)


def _blocks(described: Described, one: ExitAddresses, meters: Meters) -> Iterator[Line]:
    """The addresses of one exit where blocks have a price of their own: a line for each size."""
    month = Fraction(described.catalogue.hours_per_month)
    uses = shares(meters.at_exit[one.exit], Use(one.exit, NOBODY))
    for length, number in sorted(Counter(one.purchase.lengths if one.purchase else ()).items()):
        rate = described.catalogue.addresses.block_hour(length)
        if rate:
            what, unit = ("single addresses", "address-h") if length == SINGLE else (f"/{length}", "block-h")
            yield Line(
                "addresses", one.exit, number * month, unit, rate, f"{number} x {what}, {month} hours", True, uses
            )


def _processed(described: Described, meters: Meters) -> Iterator[Line]:
    """What exits charge for carrying, both ways together; tiers over each exit, or over an offer."""
    pooled: dict[str, list[str]] = {}
    for name, way_out in described.estate.exits.items():
        offer = described.offer_of(name)
        if offer is not None:
            pool = way_out.offer_name if _estate_wide(offer.rates.processed_per_gb) else f"exit {name}"
            pooled.setdefault(pool, []).append(name)
    for names in pooled.values():
        offer = described.offer_of(names[0])
        assert offer is not None
        metered = {use: volume for name in names for use, volume in meters.at_exit[name].items()}
        about = ", ".join(name for name in names if meters.at_exit[name])
        yield from _by_volume(described, offer.rates.processed_per_gb, metered, ("processed", about, "both ways"))


def _transfer(described: Described, meters: Meters) -> Iterator[Line]:
    """What leaves to the internet and to services, out only; and what crosses zones."""
    rates = described.catalogue.transfer
    to_internet = dict(meters.to_internet)
    if rates.service_out_per_gb is None:
        to_internet |= meters.to_services
    else:
        what = ("service out", "", "out only, to the provider's services by a door to the internet")
        yield from _by_volume(described, rates.service_out_per_gb, meters.to_services, what)
    for about, metered in _by_tier_scope(rates.internet_out_per_gb, to_internet):
        what = ("internet out", about, "out only")
        yield from _by_volume(described, rates.internet_out_per_gb, metered, what)
    for (one, other), metered in meters.crossing.items():
        what = ("zone crossing", f"{one} to {other}", "both ways")
        yield from _by_volume(described, rates.cross_zone_per_gb, metered, what)


def _estate_wide(rate: Rate) -> bool:
    return isinstance(rate, Tiers) and rate.sum_over == "estate"


def _by_tier_scope(rate: Rate, metered: Metered) -> Iterator[tuple[str, Metered]]:
    """The volume over which a rate's steps are summed: all of it, or each exit's for itself."""
    if not isinstance(rate, Tiers) or _estate_wide(rate):
        yield "", metered
        return
    for name in dict.fromkeys(use.exit for use in metered):
        yield name, {use: volume for use, volume in metered.items() if use.exit == name}


def _by_volume(described: Described, rate: Rate, metered: Metered, what: tuple[str, str, str]) -> Iterator[Line]:
    """The lines of one metered volume: one for a flat rate, one for each step of a graduated one.

    `what` is the line's item, what it is about, and its reason.
    """
    volume = sum(metered.values(), Fraction(0))
    if not volume or not rate:
        return
    item, about, reason = what
    unit = described.catalogue.volume_unit
    uses = shares(metered, Use("", NOBODY))
    for piece in pieces(rate, volume):
        step = _step(piece, unit) if isinstance(rate, Tiers) else ""
        yield Line(item, about, piece.quantity, unit, piece.rate, f"{reason}{step}", False, uses)


def _step(piece: Piece, unit: str) -> str:
    if piece.up_to is None:
        return f", above {piece.above:,f} {unit}" if piece.above else ""
    return f", {piece.above:,f} to {piece.up_to:,f} {unit}" if piece.above else f", first {piece.up_to:,f} {unit}"
