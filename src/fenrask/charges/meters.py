"""Where the month's volumes are charged, and at which rate: one meter a line of the registry, read by all who count.

A path passes places of meters. What it sends, or carries both ways, is metered there, by the exit at which it passes;
a meter says what that place costs, and over what the steps of a graduated rate are summed.
"""

from collections.abc import Callable, Hashable, Iterator, Mapping
from copy import copy
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from math import lcm
from typing import Literal, NamedTuple

import numpy as np

from fenrask.charges.lines import Metered, Users
from fenrask.charges.rates import estate_wide, rates_of
from fenrask.estate import Described, Onward, Rate, Tiers
from fenrask.estate.traffic import Numbers
from fenrask.estate.volumes import MonthVolumes, Whole
from fenrask.routing import Paths, Trace, repeated
from fenrask.units import BYTES_PER_UNIT

__all__ = ["CARRIED", "METERS", "Charge", "Flowing", "Meter", "Meters", "Passage", "Place", "networks_left"]

CARRIED = "carried"
"""The meter of what exits carry."""


@dataclass(frozen=True)
class Charge:
    """What a metered volume is charged: an item of the bill, a rate, what the line is about, and the reason.

    Volumes of one item that are summed over the same, and over the same exit where one is named, are one volume.
    """

    item: str
    rate: Rate
    about: str
    reason: str
    over: Hashable = ""
    exit: str = ""
    """The exit whose own volume alone is summed; empty for all."""


class Passage(NamedTuple):
    """A path, as meters see it."""

    described: Described
    trace: Trace
    is_to_service: bool
    """Whether the destination is one of the provider's own services."""


@dataclass(frozen=True)
class Meter:
    """One thing that is billed by volume.

    passed: the places of a path at which it counts, each with the exit there (empty for none). charge: what a place
    costs, by the exit there.
    """

    passed: Callable[[Passage], Iterator[tuple[Hashable, str]]]
    charge: Callable[[Described, Hashable, str], Charge]
    counts: Literal["sent", "received", "both"] = "both"


_FREE = Decimal(0)

Place = tuple[str, Hashable]
"""The name of a meter, and one of its places."""


def networks_left(described: Described, trace: Trace) -> Iterator[tuple[str, str]]:
    """Each network of the estate that a path leaves for another one of it, by a peering or a hub."""
    estate = described.estate
    ingress = estate.exits.get(trace.boundary) if trace.inward is not None else None
    passed = [network for network in [estate.network_of(ingress) if ingress else None] if network]
    passed += [estate.subnets[hop.subnet].network for hop in trace.hops if hop.subnet in estate.subnets]
    if trace.there:
        passed.append(estate.subnets[trace.there].network)
    for here, onward in zip(passed, passed[1:], strict=False):
        if here != onward:
            yield here, onward


def _exits(passage: Passage) -> Iterator[tuple[Hashable, str]]:
    for name in passage.trace.exits:
        yield name, name


def _processed(described: Described, place: Hashable, name: str) -> Charge:
    """What an exit charges for carrying; steps over each exit, or over an offer's exits that pay the same."""
    rates, exit_ = rates_of(described, name), described.estate.exits[name]
    rate: Rate = rates.processed_per_gb if rates is not None else _FREE
    if not estate_wide(rate):
        return Charge("processed", rate, name, "both ways", exit=name)
    return Charge("processed", rate, name, "both ways", f"{exit_.offer_name} {described.estate.region_of(exit_)}")


def _to_internet(passage: Passage) -> Iterator[tuple[Hashable, str]]:
    if passage.trace.onward is Onward.INTERNET and not passage.is_to_service:
        yield "", passage.trace.boundary


def _to_services(passage: Passage) -> Iterator[tuple[Hashable, str]]:
    if passage.trace.onward is Onward.INTERNET and passage.is_to_service:
        yield "", passage.trace.boundary


def _tariff(described: Described, name: str) -> str:
    """The region of an exit where moving data has a price of its own there; else nothing."""
    region = described.estate.region_of(described.estate.exits[name]) if name else ""
    return described.catalogue.tariff_of(region)


def _internet_out(described: Described, place: Hashable, name: str) -> Charge:
    tariff = _tariff(described, name)
    rate, reason = described.catalogue.transfer_in(tariff).internet_out_per_gb, f"out only{_in(tariff, ' of ')}"
    if isinstance(rate, Tiers) and not estate_wide(rate):
        return Charge("internet out", rate, name, reason, tariff, name)
    return Charge("internet out", rate, tariff, reason, tariff)


def _service_out(described: Described, place: Hashable, name: str) -> Charge:
    tariff = _tariff(described, name)
    rate = described.catalogue.transfer_in(tariff).service_out_per_gb
    if rate is None:
        return _internet_out(described, place, name)
    reason = f"out only{_in(tariff, ' of ')}, to the provider's services by a door to the internet"
    return Charge("service out", rate, tariff, reason, tariff)


def _zones(passage: Passage) -> Iterator[tuple[Hashable, str]]:
    for hop in passage.trace.hops:
        if hop.crosses_zone:
            # What comes in is delivered in another zone by the last exit that it passed.
            by = hop.exit if hop.exit in passage.described.estate.exits else passage.trace.exits[-1]
            yield (hop.from_zone or "", hop.to_zone or ""), by


def _zone_crossing(described: Described, place: Hashable, name: str) -> Charge:
    from_zone, to_zone = _two(place)
    tariff = _tariff(described, name)
    rate = described.catalogue.transfer_in(tariff).cross_zone_per_gb
    return Charge(
        "zone crossing", rate, f"{from_zone} to {to_zone}", f"both ways{_in(tariff, ', in ')}", (place, tariff)
    )


def _networks(passage: Passage) -> Iterator[tuple[Hashable, str]]:
    for two in networks_left(passage.described, passage.trace):
        yield two, ""


def _network_crossing(described: Described, place: Hashable, name: str) -> Charge:
    from_, to = _two(place)
    networks = described.estate.networks
    rates, far = described.catalogue.transfer_in(networks[from_].region), networks[from_].region != networks[to].region
    item, rate = (
        ("region crossing", rates.cross_region_per_gb) if far else ("network crossing", rates.cross_network_per_gb)
    )
    return Charge(item, rate, f"{from_} to {to}", "both ways", place)


def _two(place: Hashable) -> tuple[str, str]:
    assert isinstance(place, tuple)
    return place


def _in(tariff: str, words: str) -> str:
    return f"{words}{tariff}" if tariff else ""


METERS: dict[str, Meter] = {
    CARRIED: Meter(_exits, _processed),
    "services": Meter(_to_services, _service_out, "sent"),
    "internet": Meter(_to_internet, _internet_out, "sent"),
    "zones": Meter(_zones, _zone_crossing),
    "networks": Meter(_networks, _network_crossing),
}
"""By name, in the order of a bill's lines."""


@dataclass(frozen=True, eq=False)
class Flowing:
    """What every path lays on every meter in a month: columns of shape (n_rows,).

    place: number into `places`; exit: number of `users`; path: number of the path. amounts: in the catalogue's unit,
    whole numbers over `denominator`.
    """

    users: Users
    places: tuple[Place, ...]
    place: Numbers
    exit: Numbers
    path: Numbers
    flow: Numbers
    """Rows of the estate's traffic."""
    amounts: Whole
    denominator: int

    @classmethod
    def of(cls, paths: Paths) -> "Flowing":
        """Of all paths that arrive."""
        described, pairs = paths.described, paths.pairs
        users = Users(described.estate)
        # Those at exits first, in the order of the estate.
        places: dict[Place, int] = {(CARRIED, name): number for number, name in enumerate(described.estate.exits)}
        # What a path is metered by is the same for all of its kind, but for whether its destination is a service.
        each = [
            [
                (places.setdefault(at, len(places)), users.exit[name])
                for at, name in _passed(Passage(described, trace, served))
            ]
            for trace in (kind.box.trace for kind in pairs.kinds)
            for served in (False, True)
        ]
        counts = np.array([len(some) for some in each], dtype=np.intp)
        flat = np.array([one for some in each for one in some], dtype=np.intp).reshape(-1, 2)
        served = np.array([bool(one.service) for one in described.estate.remotes.values()], dtype=np.intp)
        kind = pairs.kind[paths.own]
        own = 2 * kind + served[pairs.to[pairs.pair[paths.own]]]
        path = np.repeat(np.arange(kind.size), counts[own])
        place, exit_ = flat[repeated((np.cumsum(counts) - counts)[own], counts[own])].T
        common = lcm(*(one.share.denominator for one in pairs.kinds))
        shares = np.array([int(one.share * common) for one in pairs.kinds], dtype=object)
        volumes = described.traffic.volumes
        number = paths.rows[paths.flow[path]]
        amounts = _counted(volumes, tuple(places), place, number) * shares[kind[path]]
        unit = volumes.denominator * common * BYTES_PER_UNIT[described.catalogue.volume_unit]
        return cls(users, tuple(places), place, exit_, path, number, amounts, unit)


def _passed(passage: Passage) -> Iterator[tuple[Place, str]]:
    """The places of all meters that a path passes, with the exit at each."""
    for name, meter in METERS.items() if passage.trace.verdict.arrives else ():
        for place, exit_name in meter.passed(passage):
            yield (name, place), exit_name


def _counted(volumes: MonthVolumes, places: tuple[Place, ...], place: Numbers, flow: Numbers) -> Whole:
    """What a whole flow has of what counts at a place, by row."""
    found: Whole = np.zeros(flow.size, dtype=object)
    each = [METERS[name].counts for name, _ in places]
    for counts in dict.fromkeys(each):
        rows = np.flatnonzero(np.array([one == counts for one in each])[place])
        found[rows] = getattr(volumes, counts)[flow[rows]]
    return found


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged; all over one denominator."""

    def __init__(self, paths: Paths) -> None:
        flowing = Flowing.of(paths)
        self.users = flowing.users
        nothing = np.zeros(0, dtype=np.intp)
        self.none = Metered(self.users, nothing, nothing, np.zeros(0, dtype=object), flowing.denominator)
        order = np.argsort(flowing.place, kind="stable")
        ends = np.searchsorted(flowing.place[order], np.arange(len(flowing.places) + 1)).tolist()
        self.at: dict[Place, Metered] = {
            place: Metered.summed(
                self.users, flowing.exit[rows], flowing.flow[rows] + 1, flowing.amounts[rows], flowing.denominator
            )
            for number, place in enumerate(flowing.places)
            for rows in [order[ends[number] : ends[number + 1]]]
            if rows.size
        }

    @cached_property
    def at_exit(self) -> Mapping[str, Metered]:
        """What each exit carries."""
        return {name: self.at.get((CARRIED, name), self.none) for name in self.users.exits if name}

    def with_flow(self, flow: str, times: Fraction) -> "Meters":
        """The same volumes, those of one flow multiplied."""
        number = self.users.flow[flow]
        above, below = times.numerator, times.denominator

        def multiplied(metered: Metered) -> Metered:
            amounts = metered.amounts * np.where(metered.flow == number, above, below).astype(object)
            return Metered(metered.users, metered.exit, metered.flow, amounts, metered.denominator * below)

        return self._each(multiplied)

    def lumped(self, flow: str) -> "Meters":
        """The same volumes, all flows but one taken as one: for a total, which does not ask whose they are."""
        number = self.users.flow[flow]
        return self._each(
            lambda metered: Metered.summed(
                metered.users,
                metered.exit,
                np.where(metered.flow == number, number, 0),
                metered.amounts,
                metered.denominator,
            )
        )

    def charged(self, described: Described) -> Iterator[tuple[Charge, tuple[str, ...], Metered]]:
        """All that is metered, by what it is charged: the charge, what it is about, and the volumes it is summed over.

        In the order of the registry and of the estate's exits.
        """
        pooled: dict[Hashable, list[tuple[Charge, Metered]]] = {}
        for name, meter in METERS.items():
            for (of, place), metered in self.at.items():
                if of == name:
                    for charge, some in _by_charge(described, meter, place, metered):
                        pooled.setdefault((charge.item, charge.over, charge.exit), []).append((charge, some))
        for members in pooled.values():
            about = tuple(dict.fromkeys(charge.about for charge, _ in members if charge.about))
            yield members[0][0], about, Metered.joined([some for _, some in members])

    def _each(self, change: Callable[[Metered], Metered]) -> "Meters":
        other = copy(self)
        other.at = {place: change(metered) for place, metered in self.at.items()}
        other.none = change(self.none)
        other.__dict__.pop("at_exit", None)
        return other


def _by_charge(
    described: Described, meter: Meter, place: Hashable, metered: Metered
) -> Iterator[tuple[Charge, Metered]]:
    """What is metered at a place, exits that pay the same together."""
    found: dict[Hashable, tuple[Charge, list[str]]] = {}
    for name in metered.exits:
        charge = meter.charge(described, place, name)
        found.setdefault((charge.item, charge.over, charge.exit), (charge, []))[1].append(name)
    for charge, names in found.values():
        yield charge, metered if len(found) == 1 else metered.at(names)
