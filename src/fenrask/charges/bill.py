"""The month's bill of an estate: hours, addresses, volumes processed, transfer out, zone crossings.

Volumes follow the walk: each flow's bytes are metered on every exit and crossing that it passes.
All sums are exact fractions; money is rounded where it is shown.
"""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import ceil
from typing import TypeVar

from fenrask.addresses import SINGLE, AddressPlan, ExitAddresses
from fenrask.charges.lines import NOBODY, Line, Use, shares
from fenrask.charges.meters import Metered, Meters
from fenrask.charges.rates import Piece, pieces
from fenrask.estate import Described, Rate, Rates, Tiers
from fenrask.routing import Ways
from fenrask.units import cents, counted, exact

__all__ = ["Bill", "Owner", "bill", "rates_of"]

Key = TypeVar("Key")


@dataclass(frozen=True)
class Owner:
    """What a flow belongs to."""

    cost_centre: str
    workload: str
    destination: str


_NONE = Owner(NOBODY, NOBODY, NOBODY)


@dataclass(frozen=True)
class Bill:
    """All lines of a month, in the catalogue's currency."""

    currency: str
    lines: tuple[Line, ...]
    owners: Mapping[str, Owner]
    """What every flow belongs to."""

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
        return self._divided(lambda use: self.owners.get(use.flow, _NONE).cost_centre)

    @cached_property
    def by_workload(self) -> dict[str, Fraction]:
        """Amounts by workload; the empty name holds what nobody uses."""
        return self._divided(lambda use: self.owners.get(use.flow, _NONE).workload)

    @cached_property
    def by_destination(self) -> dict[str, Fraction]:
        """Amounts by destination; the empty name holds what nobody uses."""
        return self._divided(lambda use: self.owners.get(use.flow, _NONE).destination)

    @property
    def year(self) -> Fraction:
        """Twelve months like this one."""
        return 12 * self.total

    @property
    def idle(self) -> Fraction:
        """What is paid for things that no flow uses."""
        return self.by_flow.get(NOBODY, Fraction(0))

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
        *_upkeep(described, meters),
        *_addresses(described, plan, meters),
        *_processed(described, meters),
        *_transfer(described, meters),
    ]
    lines += _minimums(described, lines, meters)
    lines += _commitments(described, lines)
    owners = {
        name: Owner(described.estate.cost_centre_of(flow), flow.from_, flow.to)
        for name, flow in described.estate.flows.items()
    }
    return Bill(described.catalogue.currency, tuple(lines), owners)


def _hours(described: Described, meters: Meters) -> Iterator[Line]:
    """What every exit costs for standing there; a begun hour counts whole."""
    month = Fraction(described.catalogue.hours_per_month)
    for name, way_out in described.estate.exits.items():
        rates = rates_of(described, name)
        if rates is not None and rates.hour:
            hours = month
            if way_out.running_hours is not None:
                hours = min(month, Fraction(ceil(exact(way_out.running_hours))))
            reason = f"{hours} hours" if way_out.units == 1 else f"{way_out.units} x {hours} hours"
            uses = shares(meters.at_exit[name], Use(name, NOBODY))
            yield Line("hours", name, way_out.units * hours, "h", rates.hour, reason, True, uses)


def rates_of(described: Described, exit_name: str) -> Rates | None:
    """What an exit's offer costs where the exit lies; None for an exit without an offer."""
    offer = described.offer_of(exit_name)
    return None if offer is None else offer.rates_in(described.estate.region_of(described.estate.exits[exit_name]))


def _upkeep(described: Described, meters: Meters) -> Iterator[Line]:
    """The work that self-run machines take."""
    wage = described.estate.wage_per_hour
    for name, way_out in described.estate.exits.items():
        offer = described.offer_of(name)
        if offer is not None and offer.upkeep_hours and wage:
            hours = way_out.units * exact(offer.upkeep_hours)
            reason = f"{counted(way_out.units, 'machine')}, {offer.upkeep_hours:g} hours of work each"
            yield Line("upkeep", name, hours, "h", wage, reason, True, shares(meters.at_exit[name], Use(name, NOBODY)))


def _minimums(described: Described, lines: Sequence[Line], meters: Meters) -> Iterator[Line]:
    """What is missing to the least that an exit costs a month, its hours and what it carried together."""
    paid: dict[str, Fraction] = {}
    for line in lines:
        if line.item in ("hours", "processed"):
            for use, share in line.uses.items():
                paid[use.exit] = paid.get(use.exit, Fraction(0)) + line.amount * share
    for name, way_out in described.estate.exits.items():
        rates = rates_of(described, name)
        least = way_out.units * Fraction(rates.month_minimum) if rates else Fraction(0)
        missing = least - paid.get(name, Fraction(0))
        if missing > 0:
            uses = shares(meters.at_exit[name], Use(name, NOBODY))
            reason = f"up to the least of {cents(least)} a month"
            yield Line("minimum", name, missing, described.catalogue.currency, Decimal(1), reason, True, uses)


def _commitments(described: Described, lines: Sequence[Line]) -> Iterator[Line]:
    """What committed use takes off: a share of the lines that it covers, or a sum, at most all of them."""
    for name, commitment in described.catalogue.commitments.items():
        weights: dict[Use, Fraction] = {}
        for line in lines:
            if line.item in commitment.items:
                for use, share in line.uses.items():
                    offer = described.estate.exits[use.exit].offer_name if use.exit in described.estate.exits else ""
                    if not commitment.offers or offer in commitment.offers:
                        weights[use] = weights.get(use, Fraction(0)) + line.amount * share
        covered = sum(weights.values(), Fraction(0))
        if not covered:
            continue
        uses, unit = shares(weights, Use("", NOBODY)), described.catalogue.currency
        if commitment.share is not None:
            reason = f"{commitment.share * 100:f} % off {', '.join(commitment.items)}"
            yield Line("commitment", name, covered, unit, -commitment.share, reason, True, uses)
        else:
            off = min(covered, Fraction(commitment.month_off or 0))
            reason = f"a sum off {', '.join(commitment.items)}"
            yield Line("commitment", name, off, unit, Decimal(-1), reason, True, uses)


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
        rates = rates_of(described, name)
        if rates is not None:
            # Volumes are summed over all exits of one offer that pay the same.
            region = described.estate.region_of(way_out)
            pool = f"{way_out.offer_name} {region}" if _estate_wide(rates.processed_per_gb) else f"exit {name}"
            pooled.setdefault(pool, []).append(name)
    for names in pooled.values():
        rates = rates_of(described, names[0])
        assert rates is not None
        metered = {use: volume for name in names for use, volume in meters.at_exit[name].items()}
        about = ", ".join(name for name in names if meters.at_exit[name])
        yield from _by_volume(described, rates.processed_per_gb, metered, ("processed", about, "both ways"))


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
    for (one, other, far), metered in meters.between_networks.items():
        item, rate = (
            ("region crossing", rates.cross_region_per_gb) if far else ("network crossing", rates.cross_network_per_gb)
        )
        yield from _by_volume(described, rate, metered, (item, f"{one} to {other}", "both ways"))


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
