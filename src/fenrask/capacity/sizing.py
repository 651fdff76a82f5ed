"""Every translating exit against its limits: the addresses it needs, and what limits it first."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS, PortUse, TupleLoad
from fenrask.demand import Demand, Part, month_volume
from fenrask.estate import Offer
from fenrask.units import SECONDS_PER_HOUR, counted, hour_text

__all__ = ["Capacity", "ExitCapacity", "LimitUse", "capacity"]


@dataclass(frozen=True)
class LimitUse:
    """One limit of an exit: its busiest use and its capacity, in the limit's own unit."""

    limit: str
    unit: str
    use: float
    capacity: float
    detail: str = ""
    grows: bool = True
    """Whether its use grows with the load; the number of addresses and of subnets does not."""

    @property
    def headroom(self) -> float:
        """(capacity - busiest use) / capacity."""
        return (self.capacity - self.use) / self.capacity if self.capacity else -1.0 if self.use else 0.0


@dataclass(frozen=True)
class ExitCapacity:
    """One translating exit: addresses in force and needed, and its limits, the tightest first."""

    exit: str
    stated: bool
    """Whether the number of addresses was stated; else the tool chose the least that serves."""
    addresses: int
    needed: int
    most_addresses: int | None
    ports: PortUse | None
    limits: tuple[LimitUse, ...]
    target: float

    @property
    def refused_share(self) -> float:
        return self.ports.refused_share if self.ports else 0.0

    @property
    def tightest(self) -> LimitUse:
        return self.limits[0]

    @property
    def port_limit(self) -> LimitUse:
        return next(limit for limit in self.limits if limit.limit == "ports")

    @property
    def enough_addresses(self) -> bool:
        return self.refused_share <= self.target and self.addresses >= min(self.needed, 1)

    @property
    def fits(self) -> bool:
        """Whether the refused share is met and no limit is passed."""
        return self.enough_addresses and all(
            limit.use <= limit.capacity for limit in self.limits if limit.limit != "ports"
        )

    @property
    def verdict(self) -> str:
        """One sentence: what it needs, has, and what runs out when."""
        if not self.enough_addresses and self.ports:
            most = self.most_addresses
            limit = f", but its offer takes {most}" if most is not None and self.needed > most else ""
            ports = self.ports
            needed = counted(self.needed, "address", "addresses")
            return (
                f"{self.exit} needs {needed}{limit}; it has {self.addresses}: "
                f"{ports.binding} runs out at {hour_text(ports.hour)}, {ports.refused_share:.2%} refused"
            )
        over = [limit for limit in self.limits if limit.use > limit.capacity and limit.limit != "ports"]
        if over:
            return f"{self.exit} passes its limit of {over[0].capacity:g} {over[0].unit} ({over[0].use:.6g})"
        chosen = "has" if self.stated else "is given"
        return f"{self.exit} needs {counted(self.needed, 'address', 'addresses')} and {chosen} {self.addresses}"


@dataclass(frozen=True)
class Capacity:
    """All translating exits of an estate."""

    demand: Demand
    exits: tuple[ExitCapacity, ...]

    @property
    def fits(self) -> bool:
        return all(one.fits for one in self.exits)

    def of(self, exit_name: str) -> ExitCapacity | None:
        return next((one for one in self.exits if one.exit == exit_name), None)


def capacity(demand: Demand) -> Capacity:
    """Size and judge every exit that translates by an offer, in the estate's order.

    `addresses: auto` becomes the least number that meets the target of refused share, and one where
    nothing is held; a stated number is judged as it stands.
    """
    described = demand.ways.described
    found = []
    for name, way_out in described.estate.exits.items():
        offer = described.offer_of(name)
        if way_out.translates and offer is not None and offer.ports is not None:
            found.append(_exit(demand, name, offer, way_out.stated_addresses))
    return Capacity(demand, tuple(found))


def _exit(demand: Demand, name: str, offer: Offer, stated: int | None) -> ExitCapacity:
    assert offer.ports is not None
    parts = demand.at_exit.get(name, ())
    target = demand.ways.described.estate.targets.refused_share
    assignment = ASSIGNMENTS[offer.ports.assignment]
    loads = tuple_loads(demand, name)
    needed = max(1, assignment.least_addresses(loads, offer.ports.per_address, target))
    most = offer.limits.addresses
    addresses = stated if stated is not None else min(needed, most or needed)
    ports = assignment.use(loads, addresses, offer.ports.per_address)
    limits = sorted(_limits(demand, parts, offer, addresses, ports), key=lambda limit: limit.headroom)
    return ExitCapacity(name, stated is not None, addresses, needed, most, ports, tuple(limits), target)


def tuple_loads(demand: Demand, exit_name: str) -> tuple[TupleLoad, ...]:
    """The load of an exit by destination, port and protocol."""
    loads = []
    for name, parts in demand.grouped(exit_name, lambda part: part.destination).items():
        destination = demand.ways.described.estate.destinations[name]
        distinct = destination.distinct_addresses
        each = sum((part.held / float(distinct * part.way.reach) for part in parts), np.zeros(demand.hours))
        new = demand.load(parts).new_per_s
        loads.append(TupleLoad(name, destination.port, destination.protocol, each, new))
    return tuple(loads)


def _limits(
    demand: Demand, parts: Sequence[Part], offer: Offer, addresses: int, ports: PortUse | None
) -> list[LimitUse]:
    """Every limit that the offer states, with its busiest use."""
    assert offer.ports is not None
    binding = f"{ports.binding} at {hour_text(ports.hour)}" if ports else "nothing held"
    size = addresses * offer.ports.per_address
    limits = [LimitUse("ports", "ports of one tuple", ports.held if ports else 0.0, size, binding)]
    stated = offer.limits
    if stated.addresses is not None:
        limits.append(LimitUse("addresses", "addresses", addresses, stated.addresses, grows=False))
    load = demand.load(parts)
    if stated.connections is not None:
        limits.append(_busiest("connections", "connections", load.held, stated.connections))
    if stated.new_per_s is not None:
        limits.append(_busiest("new per second", "new connections per s", load.new_per_s, stated.new_per_s))
    if stated.gbit_per_s is not None:
        limits.append(_busiest("bits per second", "Gbit/s", _gbit_per_s(demand, parts), stated.gbit_per_s))
    if stated.subnets is not None:
        limits.append(LimitUse("subnets", "subnets", len({part.subnet for part in parts}), stated.subnets, grows=False))
    return limits


def _busiest(name: str, unit: str, by_hour: np.ndarray[tuple[int], np.dtype[np.float64]], most: float) -> LimitUse:
    hour = int(np.argmax(by_hour))
    level = float(np.min(by_hour)) == float(by_hour[hour])
    return LimitUse(name, unit, float(by_hour[hour]), float(most), "" if level else f"at {hour_text(hour)}")


def _gbit_per_s(demand: Demand, parts: Sequence[Part]) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """Bits both ways by hour, in 10^9 per s: the month's mean shaped by each flow's rhythm."""
    total = np.zeros(demand.hours)
    described = demand.ways.described
    month_s = float(described.catalogue.hours_per_month) * SECONDS_PER_HOUR
    for part in parts:
        mean = float(month_volume(described, part.way).both_bytes) * 8 / month_s / 1e9
        weight = float(np.mean(part.new_per_s))
        total += mean * part.new_per_s / weight if weight else np.full(demand.hours, mean)
    return total
