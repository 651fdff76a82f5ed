"""Every limit that an offer states, with its busiest use: the ladder that an exit climbs as load grows."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from fenrask.capacity.streams import hosts_behind, streams
from fenrask.demand import Demand, Load, Part, Parts, Series
from fenrask.estate import Offer, Throughput
from fenrask.units import SECONDS_PER_HOUR, clock_text

__all__ = ["LimitUse", "limit_rows", "stated_limits"]


@dataclass(frozen=True)
class LimitUse:
    """One limit of an exit: its busiest use and its capacity, in the limit's own unit."""

    limit: str
    unit: str
    use: float
    capacity: float
    detail: str = ""
    grows: bool = True
    """Whether its use grows with the load; the number of addresses, hosts and subnets does not."""
    grow: Callable[[], float | None] = field(default=lambda: None, compare=False, repr=False)
    """Works out `growth`, when it is asked for: it takes longer than the use does."""

    @cached_property
    def growth(self) -> float | None:
        """The share that the load may still grow by, below 0 where it is too much already; None: no bound by load."""
        return self.grow()

    @property
    def headroom(self) -> float:
        """(capacity - busiest use) / capacity."""
        return (self.capacity - self.use) / self.capacity if self.capacity else -1.0 if self.use else 0.0


@dataclass(frozen=True)
class _Use:
    """One limit through the day: what is used at each time, and what there is."""

    limit: str
    unit: str
    series: Series
    capacity: float
    about: str = ""
    load: Load | None = None
    """What the series is a part of, where its peak may lie between the times."""

    @property
    def at_its_busiest(self) -> LimitUse:
        time, use = _highest(self.series)
        if self.load is not None:
            time, use = (
                self.load.peak.time_s,
                max(use, use * self.load.peak.concurrent / float(np.max(self.load.concurrent) or 1.0)),
            )
        level = float(np.min(self.series)) >= use * (1 - 1e-12)
        detail = " ".join(filter(None, (self.about, "" if level else f"at {clock_text(time)}")))
        capacity = self.capacity
        return LimitUse(self.limit, self.unit, use, capacity, detail, grow=lambda: capacity / use - 1 if use else None)


def stated_limits(demand: Demand, exit_name: str, parts: Sequence[Part], offer: Offer, nodes: int) -> list[LimitUse]:
    """The limits of an offer but for its ports and addresses, as used by these parts at their busiest."""
    busiest: dict[str, LimitUse] = {}
    for use in _through_the_day(demand, exit_name, parts, offer, nodes):
        one = use.at_its_busiest
        if one.limit not in busiest or one.use > busiest[one.limit].use:
            busiest[one.limit] = one
    stated, found = offer.limits, list(busiest.values())
    if stated.hosts is not None:
        found.append(LimitUse("hosts", "hosts", _hosts(parts), stated.hosts, grows=False))
    if stated.subnets is not None:
        found.append(LimitUse("subnets", "subnets", len({part.subnet for part in parts}), stated.subnets, grows=False))
    return found


def limit_rows(
    demand: Demand, exit_name: str, parts: Sequence[Part], offer: Offer, nodes: int
) -> Iterator[tuple[str, Series]]:
    """Each of those limits by name, with the share of it that these parts take at each time; loads just add."""
    for use in _through_the_day(demand, exit_name, parts, offer, nodes):
        if use.capacity:
            yield f"{use.limit} {use.about}", use.series / use.capacity
    if offer.limits.hosts:
        yield "hosts", np.array([_hosts(parts) / offer.limits.hosts])
    if offer.limits.subnets:
        yield "subnets", np.array([len({part.subnet for part in parts}) / offer.limits.subnets])


def _through_the_day(demand: Demand, exit_name: str, parts: Sequence[Part], offer: Offer, nodes: int) -> Iterator[_Use]:
    yield from _throughput(demand, parts, offer.limits, "", 1)
    yield from _throughput(demand, parts, offer.limits.node, " of a node", nodes)
    most = offer.limits.connections_per_tuple
    if most is not None:
        for one in streams(demand, exit_name, "tuples", parts):
            yield _Use("connections of a tuple", "connections", one.load.concurrent, most, one.label, one.load)


def _throughput(demand: Demand, parts: Sequence[Part], stated: Throughput, of: str, among: int) -> Iterator[_Use]:
    """Connections, new ones, bits and packets; each of so many nodes takes an even part."""
    load = demand.load(parts)
    if stated.connections is not None:
        yield _Use(f"connections{of}", "connections", load.concurrent / among, stated.connections, load=load)
    if stated.new_per_s is not None:
        yield _Use(f"new per second{of}", "new connections per s", load.new_per_s / among, stated.new_per_s)
    if stated.gbit_per_s is not None:
        bits = _by_hour(demand, parts, packets=False) * 8 / 1e9
        yield _Use(f"bits per second{of}", "Gbit/s", bits / among, stated.gbit_per_s)
    if stated.packets_per_s is not None:
        packets = _by_hour(demand, parts, packets=True)
        yield _Use(f"packets per second{of}", "packets per s", packets / among, stated.packets_per_s)


def _highest(by_hour: Series) -> tuple[float, float]:
    hour = int(np.argmax(by_hour))
    return hour * SECONDS_PER_HOUR, float(by_hour[hour])


def _hosts(parts: Sequence[Part]) -> int:
    return int(np.ceil(hosts_behind(Parts.of(parts)) - 1e-9)) if parts else 0


def _by_hour(demand: Demand, parts: Sequence[Part], packets: bool) -> Series:
    """Bytes, or packets, both ways in a second of each hour: the month's mean shaped by what passes then.

    What is exchanged goes with the new connections, a standing pool's evenly through the day.
    """
    if not parts:
        return np.zeros(demand.hours)
    some, laid = Parts.of(parts), demand.laid
    mean = laid.bytes_per_s[some.rows]
    if packets:
        mean = mean / laid.traffic.packet_bytes[some.flow]
    curves = laid.curves
    moving = (some.rate_per_s > 0) & (curves.mean_profile[some.curve] > 0)
    total = np.full(demand.hours, float(mean[~moving].sum()))
    number = curves.profile[some.curve][moving]
    by_profile = np.bincount(number, weights=mean[moving], minlength=len(curves.profiles))
    used = np.flatnonzero(by_profile)
    total += (by_profile[used] / curves.profiles[used].mean(axis=1)) @ curves.profiles[used]
    return total
