"""The month's bill of an estate: hours, addresses, volumes processed, transfer out, zone crossings.

Volumes follow the walk: each flow's bytes are metered on every exit and crossing that it passes.
All sums are exact fractions; money is rounded where it is shown.
"""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import ceil

import numpy as np

from fenrask.addresses import SINGLE, AddressPlan, ExitAddresses
from fenrask.charges.adjustments import amounts_of, commitments, minimums
from fenrask.charges.lines import UNALLOCATED, Line, Metered, Shares, Use, Users, grouped
from fenrask.charges.meters import Meters
from fenrask.charges.rates import Piece, estate_wide, pieces, rates_of
from fenrask.charges.rounding import Divided
from fenrask.estate import Addresses, Described, Rate, Tiers
from fenrask.estate.traffic import Numbers
from fenrask.routing import Paths
from fenrask.units import counted, exact

__all__ = ["UPKEEP", "Bill", "bill", "hosts_by_rate"]

UPKEEP = "upkeep"
"""The item of work on machines of one's own, which no provider charges."""


@dataclass(frozen=True)
class Bill:
    """All lines of a month, in the catalogue's currency."""

    currency: str
    lines: tuple[Line, ...]
    users: Users
    described: Described

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
        metered = self._metered
        rows = zip(metered.exit.tolist(), metered.flow.tolist(), metered.amounts.tolist(), strict=True)
        exits, flows = self.users.exits, self.users.flows
        return {Use(exits[exit_], flows[flow]): Fraction(part, metered.denominator) for exit_, flow, part in rows}

    @cached_property
    def by_exit(self) -> Divided[str]:
        return self._divided(self._metered.exit, self.users.exits)

    @cached_property
    def by_flow(self) -> Divided[str]:
        """Amounts by flow; the empty name holds what nobody uses."""
        return self._divided(self._metered.flow, self.users.flows)

    @cached_property
    def by_cost_centre(self) -> Divided[str]:
        """Amounts by cost centre; the empty name holds what nobody uses."""
        estate, traffic = self.described.estate, self.described.traffic
        each = [estate.cost_centre_of(name) for name in traffic.workloads]
        names = tuple(dict.fromkeys(each))
        places = {name: number for number, name in enumerate(names)}
        return self._owned(np.array([places[name] for name in each], dtype=np.intp)[traffic.workload], names)

    @cached_property
    def by_workload(self) -> Divided[str]:
        """Amounts by workload; the empty name holds what nobody uses."""
        return self._owned(self.described.traffic.workload, self.described.traffic.workloads)

    @cached_property
    def by_destination(self) -> Divided[str]:
        """Amounts by destination; the empty name holds what nobody uses."""
        return self._owned(self.described.traffic.destination, self.described.traffic.destinations)

    @property
    def year(self) -> Fraction:
        """Twelve months like this one."""
        return 12 * self.total

    @property
    def idle(self) -> Fraction:
        """What is paid for things that no flow uses."""
        return self.by_flow.get(UNALLOCATED, Fraction(0))

    def _owned(self, owner: Numbers, names: Sequence[str]) -> Divided[str]:
        """Amounts by what flows belong to; owner: number into `names` of every flow, shape (n_flows,)."""
        numbers = np.concatenate((np.zeros(1, dtype=np.intp), owner + 1))
        return self._divided(numbers[self._metered.flow], (UNALLOCATED, *names))

    def _divided(self, keys: Numbers, names: Sequence[str]) -> Divided[str]:
        numbers, parts = grouped(keys, self._metered.amounts)
        return Divided([names[number] for number in numbers.tolist()], parts, self._metered.denominator)

    @cached_property
    def _metered(self) -> Metered:
        return amounts_of(self.users, self.lines)


def bill(paths: Paths, plan: AddressPlan, meters: Meters | None = None) -> Bill:
    """The month's bill of an estate with the addresses as planned; of other volumes, where they are metered already."""
    described = paths.described
    meters = meters or Meters(paths)
    lines = [
        *_hours(described, meters),
        *_upkeep(described, meters),
        *_addresses(described, plan, meters),
        *_processed(described, meters),
        *_transfer(described, meters),
    ]
    lines += minimums(described, lines, meters)
    lines += commitments(described, lines, meters.users)
    return Bill(described.catalogue.currency, tuple(lines), meters.users, described)


def _hours(described: Described, meters: Meters) -> Iterator[Line]:
    """What every exit costs for standing there; a begun hour counts whole."""
    month = Fraction(described.catalogue.hours_per_month)
    for name, exit_ in described.estate.exits.items():
        rates = rates_of(described, name)
        if rates is not None and rates.hour:
            hours = month
            if exit_.running_hours is not None:
                hours = min(month, Fraction(ceil(exact(exit_.running_hours))))
            reason = f"{hours} hours" if exit_.units == 1 else f"{exit_.units} x {hours} hours"
            uses = meters.at_exit[name].shares(Use(name, UNALLOCATED))
            yield Line("hours", name, exit_.units * hours, "h", rates.hour, reason, True, uses)


def _upkeep(described: Described, meters: Meters) -> Iterator[Line]:
    """The work that self-run machines take."""
    wage = described.estate.wage_per_hour
    for name, exit_ in described.estate.exits.items():
        offer = described.offer_of(name)
        if offer is not None and offer.upkeep_hours and wage:
            hours = exit_.units * exact(offer.upkeep_hours)
            reason = f"{counted(exit_.units, 'machine')}, {offer.upkeep_hours:g} hours of work each"
            yield Line(
                UPKEEP, name, hours, "h", wage, reason, True, meters.at_exit[name].shares(Use(name, UNALLOCATED))
            )


def _addresses(described: Described, plan: AddressPlan, meters: Meters) -> Iterator[Line]:
    """Public addresses of exits, every address of a block, and of hosts that have their own."""
    estate, catalogue = described.estate, described.catalogue
    month = Fraction(catalogue.hours_per_month)
    for one in plan.exits:
        stated = catalogue.addresses_in(estate.region_of(estate.exits[one.exit]))
        rate = stated.hour
        if one.purchase is not None and isinstance(stated.blocks, dict):
            yield from _blocks(stated, month, one, _uses(described, one, meters))
        elif one.bought and rate:
            spare = f", {one.waste} of them to fill a block" if one.waste else ""
            whose = f" for {one.toward} alone" if one.toward else ""
            reason = f"{counted(one.bought, 'address', 'addresses')}{whose}{spare}, {month} hours"
            by_use = _uses(described, one, meters)
            yield Line("addresses", one.exit, one.bought * month, "address-h", rate, reason, True, by_use)
    yield from _held(described, plan, meters)
    yield from _of_hosts(described, meters.users)


def _held(described: Described, plan: AddressPlan, meters: Meters) -> Iterator[Line]:
    """Addresses and blocks that are held, used or not; by use of the exits that list them."""
    month = Fraction(described.catalogue.hours_per_month)
    for one in plan.held:
        rate = described.catalogue.addresses_in(one.region).block_hour(one.prefix.prefixlen)
        if not rate or one.prefix.version != 4:
            continue
        size = int(one.prefix.num_addresses)
        reason = f"{counted(size, 'address', 'addresses')} held, {one.idle} of them unused, {month} hours"
        uses: dict[Use, Fraction] = {Use("", UNALLOCATED): Fraction(one.idle, size)} if one.idle else {}
        for exit_name, number in one.used.items():
            for use, share in meters.at_exit[exit_name].shares(Use(exit_name, UNALLOCATED)).items():
                uses[use] = uses.get(use, Fraction(0)) + share * Fraction(number, size)
        unit = "address-h" if size == 1 else "block-h"
        by_use = Shares(Metered.of(meters.users, uses))
        yield Line("addresses", one.name, month, unit, rate, reason, True, by_use)


def _of_hosts(described: Described, users: Users) -> Iterator[Line]:
    """Addresses of hosts that have their own."""
    month = Fraction(described.catalogue.hours_per_month)
    for name, rates in hosts_by_rate(described).items():
        traffic = described.traffic
        flows = np.flatnonzero(traffic.workload == traffic.workloads.index(name)) + 1
        even = Metered(users, np.zeros_like(flows), flows, np.ones(flows.size, dtype=object), 1)
        uses = even.shares(Use("", UNALLOCATED))
        for rate, hosts in rates:
            reason = f"{hosts} hosts with an address of their own, {month} hours"
            yield Line("addresses", name, hosts * month, "address-h", rate, reason, True, uses)


def hosts_by_rate(described: Described) -> dict[str, list[tuple[Decimal, Fraction]]]:
    """The hosts with public addresses of each workload that has such, by what an address costs an hour there."""
    estate, every = described.estate, dict[str, list[tuple[Decimal, Fraction]]]()
    for workload, stated in estate.workloads.items():
        if not stated.public_address or not stated.hosts:
            continue
        found: dict[Decimal, Fraction] = {}
        for name, share in estate.host_shares(workload).items():
            rate = described.catalogue.addresses_in(estate.networks[estate.subnets[name].network].region).hour
            found[rate] = found.get(rate, Fraction(0)) + stated.hosts * share
        every[workload] = [(rate, hosts) for rate, hosts in found.items() if rate]
    return every


def _uses(described: Described, one: ExitAddresses, meters: Meters) -> Shares:
    """Who uses addresses of an exit: flows to the destination that alone sees them, or those to all others."""
    metered, exit_ = meters.at_exit[one.exit], described.estate.exits[one.exit]
    if exit_.own_addresses:
        flows = described.estate.flows
        mine = [bool(name) and exit_.toward(flows[name].remote) == one.toward for name in metered.users.flows]
        metered = metered.where(np.array(mine, dtype=bool)[metered.flow])
    return metered.shares(Use(one.exit, UNALLOCATED))


def _blocks(stated: Addresses, month: Fraction, one: ExitAddresses, uses: Shares) -> Iterator[Line]:
    """The addresses of one exit where blocks have a price of their own: a line for each size."""
    for length, number in sorted(Counter(one.purchase.lengths if one.purchase else ()).items()):
        rate = stated.block_hour(length)
        if rate:
            what, unit = ("single addresses", "address-h") if length == SINGLE else (f"/{length}", "block-h")
            yield Line(
                "addresses", one.exit, number * month, unit, rate, f"{number} x {what}, {month} hours", True, uses
            )


def _processed(described: Described, meters: Meters) -> Iterator[Line]:
    """What exits charge for carrying, both ways together; tiers over each exit, or over an offer."""
    pooled: dict[str, list[str]] = {}
    for name, exit_ in described.estate.exits.items():
        rates = rates_of(described, name)
        if rates is not None:
            # Volumes are summed over all exits of one offer that pay the same.
            region = described.estate.region_of(exit_)
            pool = f"{exit_.offer_name} {region}" if estate_wide(rates.processed_per_gb) else f"exit {name}"
            pooled.setdefault(pool, []).append(name)
    for names in pooled.values():
        rates = rates_of(described, names[0])
        assert rates is not None
        some = [meters.at_exit[name] for name in names]
        metered = Metered.joined(some)
        about = ", ".join(name for name in names if len(meters.at_exit[name]))
        yield from _by_volume(described, rates.processed_per_gb, metered, ("processed", about, "both ways"))


def _transfer(described: Described, meters: Meters) -> Iterator[Line]:
    """What leaves to the internet and to services, out only; and what crosses zones."""
    catalogue, estate = described.catalogue, described.estate
    to_internet, to_services = _by_tariff(described, meters.to_internet), _by_tariff(described, meters.to_services)
    for tariff in dict.fromkeys([*to_internet, *to_services]):
        rates, in_region = catalogue.transfer_in(tariff), f" of {tariff}" if tariff else ""
        none = meters.to_internet.at(())
        sent, served = to_internet.get(tariff, none), to_services.get(tariff, none)
        if rates.service_out_per_gb is None:
            sent = Metered.joined((sent, served))
        else:
            what = ("service out", tariff, f"out only{in_region}, to the provider's services by a door to the internet")
            yield from _by_volume(described, rates.service_out_per_gb, served, what)
        for about, metered in _by_tier_scope(rates.internet_out_per_gb, sent):
            what = ("internet out", about or tariff, f"out only{in_region}")
            yield from _by_volume(described, rates.internet_out_per_gb, metered, what)
    for (one, other), crossed in meters.crossing.items():
        for tariff, metered in _by_tariff(described, crossed).items():
            what = ("zone crossing", f"{one} to {other}", f"both ways{f', in {tariff}' if tariff else ''}")
            yield from _by_volume(described, catalogue.transfer_in(tariff).cross_zone_per_gb, metered, what)
    for (one, other, far), metered in meters.between_networks.items():
        rates = catalogue.transfer_in(estate.networks[one].region)
        item, rate = (
            ("region crossing", rates.cross_region_per_gb) if far else ("network crossing", rates.cross_network_per_gb)
        )
        yield from _by_volume(described, rate, metered, (item, f"{one} to {other}", "both ways"))


def _by_tariff(described: Described, metered: Metered) -> dict[str, Metered]:
    """A metered volume by the region of its exit where moving data has a price of its own there; else under nothing."""
    found: dict[str, list[str]] = {}
    for name in metered.exits:
        region = described.estate.region_of(described.estate.exits[name]) if name else ""
        found.setdefault(described.catalogue.tariff_of(region), []).append(name)
    return {tariff: metered.at(names) for tariff, names in found.items()}


def _by_tier_scope(rate: Rate, metered: Metered) -> Iterator[tuple[str, Metered]]:
    """The volume over which a rate's steps are summed: all of it, or each exit's for itself."""
    if not isinstance(rate, Tiers) or estate_wide(rate):
        yield "", metered
        return
    for name in metered.exits:
        yield name, metered.at((name,))


def _by_volume(described: Described, rate: Rate, metered: Metered, what: tuple[str, str, str]) -> Iterator[Line]:
    """The lines of one metered volume: one for a flat rate, one for each step of a graduated one.

    `what` is the line's item, what it is about, and its reason.
    """
    volume = metered.total
    if not volume or not rate:
        return
    item, about, reason = what
    unit = described.catalogue.volume_unit
    uses = metered.shares(Use("", UNALLOCATED))
    for piece in pieces(rate, volume):
        step = _step(piece, unit) if isinstance(rate, Tiers) else ""
        yield Line(item, about, piece.quantity, unit, piece.rate, f"{reason}{step}", False, uses)


def _step(piece: Piece, unit: str) -> str:
    if piece.up_to is None:
        return f", above {piece.above:,f} {unit}" if piece.above else ""
    return f", {piece.above:,f} to {piece.up_to:,f} {unit}" if piece.above else f", first {piece.up_to:,f} {unit}"
