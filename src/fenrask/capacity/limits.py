"""Every limit that an offer states, with its busiest use: the ladder that an exit climbs as load grows.

One limit is one entry of the registry: what it is called, what an offer states of it, and how much of it groups of
parts use. Whoever asks what an exit holds, or how loads share one, reads the registry.
"""

from collections.abc import Callable, Hashable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity.streams import host_groups, pools
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

__all__ = [
    "LIMITS",
    "OF_A_TUPLE",
    "OF_PACKETS",
    "Each",
    "Groups",
    "Limit",
    "LimitUse",
    "Present",
    "Use",
    "stated_limits",
    "uses",
]


OF_A_TUPLE = "connections of a tuple"
OF_PACKETS = "packets per second"
Follows = Literal["opened", "held", "carried"]


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


@dataclass(frozen=True, eq=False)
class Groups:
    """Parts on an exit, and the group of each by number, below `count`, shape (n_parts,)."""

    parts: Parts
    group: Numbers
    count: int
    in_the_mean: bool = False
    """Whether what they use is to be added to what others do: without what hangs on who else is there."""

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
        return replace(self, parts=parts, group=self.group[place])


@dataclass(frozen=True, eq=False)
class Use:
    """What groups use of a limit through the day, which adds up: shape (n_groups, n_times), in the limit's unit."""

    series: Series
    about: str = ""
    load: Load | None = None
    """What the series of the only group is a part of, where its peak may lie between the times."""
    key: Hashable = None
    """What tells it from others of this limit."""
    each_s: float = float(SECONDS_PER_HOUR)
    """Between two times of the series, s."""

    def busiest(self, limit: "Limit", capacity: float) -> LimitUse:
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
        return LimitUse(limit.name, limit.unit, use, capacity, detail, grow=lambda: capacity / use - 1 if use else None)

    def shares(self, capacity: float) -> Series | None:
        """What of the limit each group takes, shape (n_groups, n_times)."""
        return self.series / capacity if capacity else None


@dataclass(frozen=True, eq=False)
class Present:
    """What counts once, whichever groups bring it: hosts, subnets. amount: by member; there: by group and member."""

    members: tuple[Hashable, ...]
    amount: Series
    there: NDArray[np.bool_]
    key: Hashable = None

    def busiest(self, limit: "Limit", capacity: float) -> LimitUse:
        """Of the only group; whole ones."""
        use = int(np.ceil(float(self.there[0] @ self.amount) - 1e-9))
        return LimitUse(limit.name, limit.unit, use, capacity, grows=False)

    def shares(self, capacity: float) -> Series | None:
        """What of the limit each group takes, shape (n_groups, 1); of groups that have no member in common."""
        return (self.there @ self.amount)[:, None] / capacity if capacity else None


@dataclass(frozen=True, eq=False)
class Each:
    """What every connection has to keep to by itself: the most of each group, shape (n_groups,)."""

    most: Series
    about: str
    key: Hashable = None

    def busiest(self, limit: "Limit", capacity: float) -> LimitUse:
        """Of the only group."""
        return LimitUse(limit.name, limit.unit, float(self.most[0]), capacity, self.about, grows=False)

    def shares(self, capacity: float) -> Series | None:
        """Nothing that adds up."""
        return None


@dataclass(frozen=True)
class Limit:
    """One limit of an offer. stated: what an offer caps it at, None for nothing.

    used: what groups of parts on an exit of this many nodes use of it, by tuple or in all.
    """

    name: str
    unit: str
    stated: Callable[[Offer], float | None]
    used: Callable[[Demand, str, Groups, int], Iterator[Use | Present | Each]]
    follows: Follows = "opened"
    """What of a flow it follows: how many connections it opens, how many it holds, or what they carry."""


def uses(
    demand: Demand, exit_name: str, some: Groups, offer: Offer, nodes: int
) -> Iterator[tuple[str, float, Use | Present | Each]]:
    """What groups use of each limit that an offer states: the key of the limit, its capacity, and the use."""
    for key, limit in LIMITS.items():
        if (capacity := limit.stated(offer)) is not None:
            for use in limit.used(demand, exit_name, some, nodes):
                yield key, capacity, use


def stated_limits(demand: Demand, exit_name: str, parts: Sequence[Part], offer: Offer, nodes: int) -> list[LimitUse]:
    """The limits of an offer but for its ports and addresses, as used by these parts at their busiest."""
    busiest: dict[str, LimitUse] = {}
    some = Parts.of(parts) if parts else Parts(demand.laid, np.zeros(0, dtype=np.intp))
    for key, capacity, use in uses(demand, exit_name, Groups.whole(some), offer, nodes):
        used = use.busiest(LIMITS[key], capacity)
        if key not in busiest or used.use > busiest[key].use:
            busiest[key] = used
    return list(busiest.values())


def _at_worst(demand: Demand, some: Groups, parts: Parts) -> Series | None:
    """How many times its mean each part holds when most do, as jobs start, shape (n_parts,); None without jobs."""
    traffic = demand.laid.traffic
    if some.in_the_mean or not traffic.is_synchronised or not np.any(traffic.every_s[parts.flow]):
        return None
    held = demand.laid.mean_concurrent[parts.rows]
    return max((one.held for one in starts(demand.laid, parts.rows)), key=lambda factors: float(np.dot(factors, held)))


def _tuples(demand: Demand, exit_name: str, some: Groups, nodes: int) -> Iterator[Use]:
    """Connections toward the busiest address of each destination; equal prefixes and ports are one."""
    for pool in pools(demand, exit_name, "tuples", some.parts):
        those = Parts.of(pool.parts)
        at_worst = _at_worst(demand, some, those)
        load = pool.load if some.count == 1 and at_worst is None else None
        weights = pool.weights if at_worst is None else pool.weights * at_worst
        series = load.concurrent[None] if load else some.of(those).concurrent(weights)
        yield Use(series, pool.label, load, pool.key, demand.step_s / POINTS_PER_STEP)


def _connections(demand: Demand, exit_name: str, some: Groups, nodes: int) -> Iterator[Use]:
    """Connections held; each of this many nodes takes an even part."""
    at_worst = _at_worst(demand, some, some.parts)
    # A table has the entries of ended connections until their timers end, whoever has their ports by then.
    ended = bool(np.any(demand.laid.entry_s[some.parts.rows]))
    load = demand.load(some.parts) if some.count == 1 and at_worst is None and not ended else None
    series = load.concurrent[None] if load else some.concurrent(at_worst)
    if ended:
        series = series + ended_by(some.parts, some.group, some.count)
    yield Use(series / nodes, "ended ones included" if ended else "", load, each_s=demand.step_s / POINTS_PER_STEP)


def _rate(demand: Demand, exit_name: str, some: Groups, nodes: int, what: str) -> Iterator[Use]:
    """New connections, bits or packets per s; with this many nodes, of the one on which most falls by chance."""
    uneven = Uneven(1.0)
    if what != "new_per_s" and not some.in_the_mean:
        uneven = unevenness(demand, some.parts, nodes)
    yield Use(_by_step(demand, some, what) / nodes * uneven.factor, str(uneven), each_s=demand.step_s)


def _subnets(demand: Demand, exit_name: str, some: Groups, nodes: int) -> Iterator[Present]:
    subnet = some.parts.laid.subnet[some.parts.rows]
    yield _present(some, subnet, np.ones(subnet.size), lambda number: some.parts.laid.subnets[number])


def _hosts(demand: Demand, exit_name: str, some: Groups, nodes: int) -> Iterator[Present]:
    """The hosts of all workloads and subnets: where flows come from parts of them, the most count."""
    laid = some.parts.laid
    workloads, width = laid.traffic.workloads, len(laid.subnets)
    hosts = laid.hosts[some.parts.rows]
    yield _present(
        some, host_groups(some.parts), hosts, lambda key: (workloads[key // width], laid.subnets[key % width])
    )


def _present(some: Groups, member: Numbers, amount: Series, name: Callable[[int], Hashable]) -> Present:
    """Members by part, with the amount that each counts: the most of any of its parts."""
    members, back = np.unique(member, return_inverse=True)
    most = np.zeros(members.size)
    np.maximum.at(most, back, amount)
    there = np.zeros((some.count, members.size), dtype=bool)
    there[some.group, back] = True
    return Present(tuple(name(one) for one in members.tolist()), most, there)


def _of_one_connection(demand: Demand, exit_name: str, some: Groups, nodes: int) -> Iterator[Each]:
    """Gbit/s of the connection that carries most in the mean of its life, and its flow."""
    laid, parts = demand.laid, some.parts
    if not len(parts):
        return
    held = open_in_the_mean(laid, parts)
    bits = laid.wire_bytes_per_s[parts.rows] * (8 / 1e9)
    each = np.where(held > 0, bits / np.where(held > 0, held, 1.0), 0.0)
    most = np.zeros(some.count)
    np.maximum.at(most, some.group, each)
    yield Each(most, f"of {laid.traffic.names[int(parts.flow[int(np.argmax(each))])]}")


_AMOUNTS: dict[str, Callable[[Laid], Series]] = {
    "gbit_per_s": lambda laid: laid.wire_bytes_per_s * (8 / 1e9),
    "out_gbit_per_s": lambda laid: laid.wire_out_per_s * (8 / 1e9),
    "in_gbit_per_s": lambda laid: laid.wire_in_per_s * (8 / 1e9),
    "packets_per_s": lambda laid: laid.packets_per_s,
}


def _by_step(demand: Demand, some: Groups, what: str) -> Series:
    """New connections, Gbit or packets, both ways, in a second of each step, by group: shape (n_groups, n_steps).

    What is exchanged in a month goes with the new connections, or requests, a standing pool's evenly through the day.
    """
    parts, laid = some.parts, demand.laid
    if what == "new_per_s":
        together = 1.0 if some.in_the_mean else most_new(laid, parts)
        return shaped(parts, some.group, some.count, parts.rate_per_s * together)
    mean = _AMOUNTS[what](laid)[parts.rows]
    asked = laid.asked_profile[parts.rows]
    usual = laid.curves.profiles.mean(axis=1)[asked]
    moving = (parts.rate_per_s > 0) & (usual > 0)
    still = np.bincount(some.group, weights=np.where(moving, 0.0, mean), minlength=some.count)
    each = np.where(moving, mean, 0.0) / np.where(moving, usual, 1.0)
    by_step = shaped(parts, some.group, some.count, each, asked)
    return still[:, None] + by_step


_RATES = {"new_per_s": ("new per second", "new connections per s"), "gbit_per_s": ("bits per second", "Gbit/s"),
          "out_gbit_per_s": ("bits sent per second", "Gbit/s"), "in_gbit_per_s": ("bits received per second", "Gbit/s"),
          "packets_per_s": (OF_PACKETS, "packets per s")}  # fmt: skip


_FOLLOWS: dict[str, Follows] = {"new_per_s": "opened"}


def _throughput(of: str, stated: Callable[[Offer], Throughput], by_node: bool) -> Iterator[tuple[str, Limit]]:
    """The limits of a gateway, or of each of its nodes."""

    def among(used: Callable[[Demand, str, Groups, int], Iterator[Use]]) -> Callable[..., Iterator[Use]]:
        return used if by_node else lambda demand, name, some, nodes: used(demand, name, some, 1)

    yield (
        f"connections{of}",
        Limit(f"connections{of}", "connections", lambda offer: stated(offer).connections, among(_connections), "held"),
    )
    for key, (name, unit) in _RATES.items():
        used, follows = among(partial(_rate, what=key)), _FOLLOWS.get(key, "carried")
        yield f"{key}{of}", Limit(f"{name}{of}", unit, partial(_stated, stated, key), used, follows)


def _stated(stated: Callable[[Offer], Throughput], key: str, offer: Offer) -> float | None:
    capped: float | None = getattr(stated(offer), key)
    return capped


LIMITS: dict[str, Limit] = {
    **dict(_throughput("", lambda offer: offer.limits, by_node=False)),
    **dict(_throughput(" of a node", lambda offer: offer.limits.node, by_node=True)),
    "connections_per_tuple": Limit(
        OF_A_TUPLE, "connections", lambda offer: offer.limits.connections_per_tuple, _tuples, "held"
    ),
    "hosts": Limit("hosts", "hosts", lambda offer: offer.limits.hosts, _hosts),
    "connection_gbit_per_s": Limit(
        "bits per second of a connection",
        "Gbit/s",
        lambda offer: offer.limits.connection_gbit_per_s,
        _of_one_connection,
    ),
    "subnets": Limit("subnets", "subnets", lambda offer: offer.limits.subnets, _subnets),
}
"""By key, in the order in which they are shown: all that offers state but their ports and addresses."""
