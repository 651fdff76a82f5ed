"""Every limit that an offer states, with its busiest use: the ladder that an exit climbs as load grows."""

from collections.abc import Callable, Hashable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from fenrask.capacity.streams import hosts_behind, pools
from fenrask.capacity.unevenness import Uneven, open_in_the_mean, unevenness
from fenrask.demand import (
    POINTS_PER_STEP,
    Demand,
    Laid,
    Load,
    Numbers,
    Part,
    Parts,
    Series,
    concurrent_by,
    ended_by,
    most_new,
    shaped,
    starts,
)
from fenrask.estate import Offer, Throughput
from fenrask.units import SECONDS_PER_HOUR, clock_text

__all__ = ["OF_A_TUPLE", "Groups", "LimitUse", "limit_rows", "stated_limits"]


OF_A_TUPLE = "connections of a tuple"


def _no_growth() -> None:
    """Of a limit that load does not fill."""


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
    of: str = ""
    """Whose limit it is, where it is not the exit's own."""
    grow: Callable[[], float | None] = field(default=_no_growth, compare=False, repr=False)
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
    """One limit through the day: what groups of parts use of it at each time, shape (n_groups, n_times)."""

    limit: str
    unit: str
    series: Series
    capacity: float
    about: str = ""
    load: Load | None = None
    """What the series of the only group is a part of, where its peak may lie between the times."""
    key: Hashable = None
    """What tells it from others of this limit."""
    each_s: float = float(SECONDS_PER_HOUR)
    """Between two times of the series, s."""

    @property
    def at_its_busiest(self) -> LimitUse:
        """Of the only group."""
        [series] = self.series
        busiest = int(np.argmax(series))
        time, use = busiest * self.each_s, float(series[busiest])
        if self.load is not None:
            time, use = (
                self.load.peak.time_s,
                max(use, use * self.load.peak.concurrent / float(np.max(self.load.concurrent) or 1.0)),
            )
        level = float(np.min(series)) >= use * (1 - 1e-12)
        detail = " ".join(filter(None, (self.about, "" if level else f"at {clock_text(time)}")))
        capacity = self.capacity
        return LimitUse(self.limit, self.unit, use, capacity, detail, grow=lambda: capacity / use - 1 if use else None)


@dataclass(frozen=True, eq=False)
class Groups:
    """Parts on an exit, and the group of each by number, below `count`, shape (n_parts,)."""

    parts: Parts
    group: Numbers
    count: int

    @classmethod
    def whole(cls, parts: Parts) -> "Groups":
        """All of one group."""
        return cls(parts, np.zeros(len(parts), dtype=np.intp), 1)

    def concurrent(self, weights: Series | None = None) -> Series:
        """Mean connections held, shape (n_groups, n_times)."""
        return concurrent_by(self.parts, self.group, self.count, weights)

    def of(self, parts: Parts) -> "Groups":
        """Some of the parts, in the same groups."""
        order = np.argsort(self.parts.rows)
        place = order[np.searchsorted(self.parts.rows, parts.rows, sorter=order)]
        return Groups(parts, self.group[place], self.count)


def stated_limits(demand: Demand, exit_name: str, parts: Sequence[Part], offer: Offer, nodes: int) -> list[LimitUse]:
    """The limits of an offer but for its ports and addresses, as used by these parts at their busiest."""
    busiest: dict[str, LimitUse] = {}
    some = Parts.of(parts) if parts else Parts(demand.laid, np.zeros(0, dtype=np.intp))
    for use in _through_the_day(demand, exit_name, Groups.whole(some), offer, nodes):
        one = use.at_its_busiest
        if one.limit not in busiest or one.use > busiest[one.limit].use:
            busiest[one.limit] = one
    stated, found = offer.limits, list(busiest.values())
    if stated.hosts is not None:
        found.append(LimitUse("hosts", "hosts", _hosts(parts), stated.hosts, grows=False))
    if stated.connection_gbit_per_s is not None and len(some):
        most, flow = _of_one_connection(demand, some)
        name, capacity = "bits per second of a connection", stated.connection_gbit_per_s
        found.append(LimitUse(name, "Gbit/s", most, capacity, f"of {flow}", grows=False))
    if stated.subnets is not None:
        found.append(LimitUse("subnets", "subnets", _subnets(parts), stated.subnets, grows=False))
    return found


def limit_rows(
    demand: Demand, exit_name: str, some: Groups, offer: Offer, nodes: int
) -> Iterator[tuple[Hashable, Series]]:
    """Each of those limits by key, with the share of it that groups take at each time, shape (n_groups, n_times).

    Each group is to be the parts of one subnet. Loads just add.
    """
    for use in _through_the_day(demand, exit_name, some, offer, nodes):
        if use.capacity:
            yield (use.limit, use.key), use.series / use.capacity
    if offer.limits.hosts:
        each = [parts for _, parts in sorted(some.parts.by(some.group), key=lambda one: one[0])]
        yield "hosts", np.array([[_hosts(parts) / offer.limits.hosts] for parts in each])
    if offer.limits.subnets:
        yield "subnets", np.full((some.count, 1), 1 / offer.limits.subnets)


def _through_the_day(demand: Demand, exit_name: str, some: Groups, offer: Offer, nodes: int) -> Iterator[_Use]:
    yield from _throughput(demand, some, offer.limits, "", 1)
    yield from _throughput(demand, some, offer.limits.node, " of a node", nodes)
    most = offer.limits.connections_per_tuple
    if most is not None:
        for pool in pools(demand, exit_name, "tuples", some.parts):
            those = Parts.of(pool.parts)
            at_worst = _at_worst(demand, those)
            load = pool.load if some.count == 1 and at_worst is None else None
            weights = pool.weights if at_worst is None else pool.weights * at_worst
            series = load.concurrent[None] if load else some.of(those).concurrent(weights)
            name, each_s = OF_A_TUPLE, demand.step_s / POINTS_PER_STEP
            yield _Use(name, "connections", series, most, pool.label, load, pool.key, each_s)


def _at_worst(demand: Demand, parts: Parts) -> Series | None:
    """How many times its mean each part holds when most do, as jobs start, shape (n_parts,); None without jobs."""
    traffic = demand.laid.traffic
    if not traffic.is_synchronised or not np.any(traffic.every_s[parts.flow]):
        return None
    held = demand.laid.mean_concurrent[parts.rows]
    return max((one.held for one in starts(demand.laid, parts.rows)), key=lambda factors: float(np.dot(factors, held)))


_RATES = {"new_per_s": ("new per second", "new connections per s"), "gbit_per_s": ("bits per second", "Gbit/s"),
          "out_gbit_per_s": ("bits sent per second", "Gbit/s"), "in_gbit_per_s": ("bits received per second", "Gbit/s"),
          "packets_per_s": ("packets per second", "packets per s")}  # fmt: skip


def _throughput(demand: Demand, some: Groups, stated: Throughput, of: str, among: int) -> Iterator[_Use]:
    """Connections, new ones, bits and packets; each of so many nodes takes an even part."""
    if stated.connections is not None:
        at_worst = _at_worst(demand, some.parts)
        # A table has the entries of ended connections until their timers end, whoever has their ports by then.
        ended = bool(np.any(demand.laid.entry_s[some.parts.rows]))
        load = demand.load(some.parts) if some.count == 1 and at_worst is None and not ended else None
        series = load.concurrent[None] if load else some.concurrent(at_worst)
        if ended:
            series = series + ended_by(some.parts, some.group, some.count)
        words = "ended ones included" if ended else ""
        name, each, most = f"connections{of}", series / among, stated.connections
        yield _Use(name, "connections", each, most, words, load, each_s=demand.step_s / POINTS_PER_STEP)
    for key, (name, unit) in _RATES.items():
        capacity = getattr(stated, key)
        if capacity is not None:
            uneven = Uneven(1.0) if key == "new_per_s" else unevenness(demand, some.parts, among)
            series = _by_step(demand, some, key) / among * uneven.factor
            yield _Use(f"{name}{of}", unit, series, capacity, str(uneven), each_s=demand.step_s)


def _subnets(parts: Sequence[Part]) -> int:
    return int(np.unique(Parts.of(parts).laid.subnet[Parts.of(parts).rows]).size) if parts else 0


def _hosts(parts: Sequence[Part]) -> int:
    return int(np.ceil(hosts_behind(Parts.of(parts)) - 1e-9)) if parts else 0


_AMOUNTS: dict[str, Callable[[Laid], Series]] = {
    "gbit_per_s": lambda laid: laid.wire_bytes_per_s * (8 / 1e9),
    "out_gbit_per_s": lambda laid: laid.wire_out_per_s * (8 / 1e9),
    "in_gbit_per_s": lambda laid: laid.wire_in_per_s * (8 / 1e9),
    "packets_per_s": lambda laid: laid.packets_per_s,
}


def _of_one_connection(demand: Demand, parts: Parts) -> tuple[float, str]:
    """Gbit/s of the connection that carries most in the mean of its life, and its flow."""
    laid = demand.laid
    held = open_in_the_mean(laid, parts)
    bits = laid.wire_bytes_per_s[parts.rows] * (8 / 1e9)
    each = np.where(held > 0, bits / np.where(held > 0, held, 1.0), 0.0)
    most = int(np.argmax(each))
    return float(each[most]), laid.traffic.names[int(parts.flow[most])]


def _by_step(demand: Demand, some: Groups, what: str) -> Series:
    """New connections, Gbit or packets, both ways, in a second of each step, by group: shape (n_groups, n_steps).

    What is exchanged in a month goes with the new connections, or requests, a standing pool's evenly through the day.
    """
    parts, laid = some.parts, demand.laid
    if what == "new_per_s":
        return shaped(parts, some.group, some.count, parts.rate_per_s * most_new(laid, parts))
    mean = _AMOUNTS[what](laid)[parts.rows]
    asked = laid.asked_profile[parts.rows]
    usual = laid.curves.profiles.mean(axis=1)[asked]
    moving = (parts.rate_per_s > 0) & (usual > 0)
    still = np.bincount(some.group, weights=np.where(moving, 0.0, mean), minlength=some.count)
    each = np.where(moving, mean, 0.0) / np.where(moving, usual, 1.0)
    by_step = shaped(parts, some.group, some.count, each, asked)
    return still[:, None] + by_step
