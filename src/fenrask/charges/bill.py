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

import numpy as np

from fenrask.addresses import SINGLE, AddressPlan, ExitAddresses, Held
from fenrask.charges.adjustments import amounts_of, commitments, minimums
from fenrask.charges.lines import UNALLOCATED, Line, Metered, Shares, Use, Users, grouped
from fenrask.charges.meters import Meters
from fenrask.charges.rates import Piece, pieces
from fenrask.charges.rounding import Divided
from fenrask.charges.standing import STANDING, standing_charges
from fenrask.estate import Described, Tiers
from fenrask.estate.traffic import Numbers
from fenrask.routing import Paths
from fenrask.units import counted

__all__ = [
    "Bill",
    "StepLine",
    "address_month",
    "bill",
    "fixed_lines",
    "hosts_by_rate",
    "lasting_month",
    "lines_by_volume",
]


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
    lines = [*fixed_lines(described, plan, meters), *(one.line for one in lines_by_volume(described, meters))]
    lines += minimums(described, lines, meters)
    lines += commitments(described, lines, meters.users)
    return Bill(described.catalogue.currency, tuple(lines), meters.users, described)


def fixed_lines(described: Described, plan: AddressPlan, meters: Meters) -> Iterator[Line]:
    """What is due whatever the volume, but for what is made of other lines."""
    yield from _standing(described, meters)
    yield from _addresses(described, plan, meters)
    for name, commitment in described.catalogue.in_force.items():
        if commitment.month_fee:
            uses = Shares(Metered.of(meters.users, {Use("", UNALLOCATED): Fraction(1)}))
            yield Line(
                "committed", name, Fraction(1), "month", commitment.month_fee, "the fee of a commitment", True, uses
            )


def _standing(described: Described, meters: Meters) -> Iterator[Line]:
    """What every exit costs for standing there, item by item."""
    each = {name: standing_charges(described, name) for name in described.estate.exits}
    for item in STANDING:
        for name, charges in each.items():
            if (charge := charges.get(item)) is not None:
                uses = meters.at_exit[name].shares(Use(name, UNALLOCATED))
                yield Line(item, name, charge.quantity, charge.unit, charge.rate, charge.reason, True, uses)


def _addresses(described: Described, plan: AddressPlan, meters: Meters) -> Iterator[Line]:
    """Public addresses of exits, every address of a block, and of hosts that have their own."""
    for exit_ in plan.exits:
        uses = _uses(described, exit_, meters)
        for quantity, unit, rate, reason in _of_exit(described, exit_):
            if rate:
                yield Line("addresses", exit_.exit, quantity, unit, rate, reason, True, uses)
    yield from _held(described, plan.held, meters)
    yield from _of_hosts(described, meters.users)


_Priced = tuple[Fraction, str, Decimal, str]
"""A quantity with its unit and rate, and the reason."""


def _of_exit(described: Described, exit_addresses: ExitAddresses) -> Iterator[_Priced]:
    """What the addresses of one exit cost: a line for each size, where blocks have a price of their own."""
    stated = described.catalogue.addresses_in(described.estate.region_of(described.estate.exits[exit_addresses.exit]))
    month = Fraction(described.catalogue.hours_per_month)
    if exit_addresses.purchase is not None and isinstance(stated.blocks, dict):
        for length, number in sorted(Counter(exit_addresses.purchase.lengths).items()):
            what, unit = ("single addresses", "address-h") if length == SINGLE else (f"/{length}", "block-h")
            yield number * month, unit, stated.block_hour(length), f"{number} x {what}, {month} hours"
    elif exit_addresses.bought:
        spare = f", {exit_addresses.waste} of them to fill a block" if exit_addresses.waste else ""
        whose = f" for {exit_addresses.toward} alone" if exit_addresses.toward else ""
        reason = f"{counted(exit_addresses.bought, 'address', 'addresses')}{whose}{spare}, {month} hours"
        yield exit_addresses.bought * month, "address-h", stated.hour, reason


def address_month(described: Described, exit_addresses: ExitAddresses) -> Fraction:
    """What the addresses of one exit cost a month."""
    return sum((quantity * Fraction(rate) for quantity, _, rate, _ in _of_exit(described, exit_addresses)), Fraction(0))


def lasting_month(described: Described, held: Sequence[Held]) -> Fraction:
    """What addresses cost a month that no exit's number changes: those that are held, and those of hosts."""
    month, total = Fraction(described.catalogue.hours_per_month), Fraction(0)
    for block in held:
        if block.prefix.version == 4:
            total += Fraction(_hour_of(described, block)) * month
    for rates in hosts_by_rate(described).values():
        total += sum((Fraction(rate) * hosts * month for rate, hosts in rates), Fraction(0))
    return total


def _hour_of(described: Described, held: Held) -> Decimal:
    """What a held address or block costs an hour."""
    return described.catalogue.addresses_in(held.region).block_hour(held.prefix.prefixlen)


def _held(described: Described, held: Sequence[Held], meters: Meters) -> Iterator[Line]:
    """Addresses and blocks that are held, used or not; by use of the exits that list them."""
    month = Fraction(described.catalogue.hours_per_month)
    for block in held:
        rate = _hour_of(described, block)
        if not rate or block.prefix.version != 4:
            continue
        size = int(block.prefix.num_addresses)
        reason = f"{counted(size, 'address', 'addresses')} held, {block.idle} of them unused, {month} hours"
        uses: dict[Use, Fraction] = {Use("", UNALLOCATED): Fraction(block.idle, size)} if block.idle else {}
        for exit_name, number in block.used.items():
            for use, share in meters.at_exit[exit_name].shares(Use(exit_name, UNALLOCATED)).items():
                uses[use] = uses.get(use, Fraction(0)) + share * Fraction(number, size)
        unit = "address-h" if size == 1 else "block-h"
        by_use = Shares(Metered.of(meters.users, uses))
        yield Line("addresses", block.name, month, unit, rate, reason, True, by_use)


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


def _uses(described: Described, exit_addresses: ExitAddresses, meters: Meters) -> Shares:
    """Who uses addresses of an exit: flows to the destination that alone sees them, or those to all others."""
    metered, exit_ = meters.at_exit[exit_addresses.exit], described.estate.exits[exit_addresses.exit]
    if exit_.own_addresses:
        flows = described.estate.flows
        mine = [
            bool(name) and exit_.toward(flows[name].remote) == exit_addresses.toward for name in metered.users.flows
        ]
        metered = metered.where(np.array(mine, dtype=bool)[metered.flow])
    return metered.shares(Use(exit_addresses.exit, UNALLOCATED))


@dataclass(frozen=True)
class StepLine:
    """A line by volume, and the step of the whole volume that it is; of a flat rate the only one."""

    line: Line
    volume: Fraction
    piece: Piece


def lines_by_volume(described: Described, meters: Meters, every_step: bool = False) -> Iterator[StepLine]:
    """The lines of all that is metered: one for a flat rate, one for each step of a graduated one.

    every_step: those that the volume does not reach, too.
    """
    unit = described.catalogue.volume_unit
    for charge, about, metered in meters.charged(described):
        volume = metered.total
        if not volume or not charge.rate:
            continue
        uses = metered.shares(Use("", UNALLOCATED))
        for piece in pieces(charge.rate, volume, every_step):
            reason = f"{charge.reason}{_step(piece, unit) if isinstance(charge.rate, Tiers) else ''}"
            line = Line(charge.item, ", ".join(about), piece.quantity, unit, piece.rate, reason, False, uses)
            yield StepLine(line, volume, piece)


def _step(piece: Piece, unit: str) -> str:
    if piece.up_to is None:
        return f", above {piece.above:,f} {unit}" if piece.above else ""
    return f", {piece.above:,f} to {piece.up_to:,f} {unit}" if piece.above else f", first {piece.up_to:,f} {unit}"
