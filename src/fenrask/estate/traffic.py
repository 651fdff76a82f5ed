"""The flows of an estate as columns: what all that is computed on many of them reads, and no stage asks one by one."""

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.estate.client_pools import PooledLoad
from fenrask.estate.columns import Columns, Numbers, Series
from fenrask.estate.flows import Flow
from fenrask.estate.models import Estate
from fenrask.estate.volumes import MonthVolumes
from fenrask.estate.wire import OnWire
from fenrask.units import KIB, SECONDS_PER_HOUR

__all__ = ["Numbers", "Series", "Traffic", "new_per_s"]

_GIB = 2**30


def new_per_s(flow: Flow, hosts: int) -> float:
    """New connections per second of a whole flow, or requests, where its profile's multiplier is 1."""
    if flow.requests_per_host_per_s is not None:
        return hosts * flow.requests_per_host_per_s
    if flow.users is not None and flow.connections_per_user is not None:
        return flow.users * flow.connections_per_user / flow.duration_mean_s
    return hosts * (flow.per_host_per_s or 0.0)


@dataclass(frozen=True, eq=False)
class Traffic:
    """All flows of an estate, one a row; columns have shape (n_flows,). hours_per_month: the catalogue's month.

    workload, destination: numbers into the names of theirs; destinations are all of `Estate.remotes`.
    profile: number into `profiles`, 0 for a constant load.
    asked_profile: the same of what a flow states, which are requests where these are stated; else that of connections.
    pooled: what requests come to, by row; of_pools: the profiles of their connections.
    """

    estate: Estate
    columns: Columns
    hours_per_month: Fraction
    workloads: tuple[str, ...]
    destinations: tuple[str, ...]
    profiles: tuple[str, ...]
    workload: Numbers
    destination: Numbers
    profile: Numbers
    asked_profile: Numbers
    pooled: Mapping[int, PooledLoad]
    of_pools: Mapping[str, Sequence[float]]
    asked_wire: bool = False
    """Whether the bill counts headers too."""

    @classmethod
    def of(
        cls, estate: Estate, hours_per_month: Fraction, asked_wire: bool = False, like: "Traffic | None" = None
    ) -> "Traffic":
        """The columns of an estate's flows; `like`: those of another one, which may have the same."""
        is_known = like is not None and like.columns.flows is estate.flows
        columns = like.columns if like is not None and is_known else Columns(estate.flows)
        workloads, destinations = tuple(estate.workloads), tuple(estate.remotes)
        names, stated = columns.names, columns.texts[2]
        pooled = _pooled(estate, columns)
        of_pools = {f"{stated[row]} of {names[row]}": one.multipliers for row, one in pooled.items() if stated[row]}
        profiles = (*columns.profiles, *of_pools)
        asked = columns.numbered(2, profiles)
        profile = asked.copy()
        for row in pooled if of_pools else ():
            if stated[row]:
                profile[row] = profiles.index(f"{stated[row]} of {names[row]}")
        ends = columns.numbered(0, workloads), columns.numbered(1, destinations)
        months = (columns, hours_per_month, workloads, destinations, profiles)
        return cls(estate, *months, *ends, profile, asked, pooled=pooled, of_pools=of_pools, asked_wire=asked_wire)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the flows."""
        return self.columns.names

    @property
    def number(self) -> dict[str, int]:
        """The row of each flow."""
        return self.columns.number

    @property
    def meters_wire(self) -> bool:
        """Whether what the bill counts is worked out: flows state what connections carry, and it counts headers."""
        return self.asked_wire and self.estate.volumes == "payload"

    def is_of(self, estate: Estate) -> bool:
        """Whether another estate has the very same flows, and all that is asked of others for them."""
        names = ("flows", "workloads", "destinations", "profiles")
        sections = ((getattr(self.estate, name), getattr(estate, name)) for name in names)
        same = all(one is other or not (one or other) for one, other in sections)
        return same and self.estate.volumes == estate.volumes

    @cached_property
    def ends(self) -> tuple[list[tuple[str, str]], Numbers]:
        """The pairs of a workload and another end that flows have, in order of their first flows; the pair of each."""
        keys = self.workload * (len(self.destinations) or 1) + self.destination
        _, first, back = np.unique(keys, return_index=True, return_inverse=True)
        place = np.empty(first.size, dtype=np.intp)
        place[np.argsort(first)] = np.arange(first.size)
        pairs = [
            (self.workloads[self.workload[row]], self.destinations[self.destination[row]]) for row in np.sort(first)
        ]
        return pairs, place[back]

    @cached_property
    def is_inward(self) -> NDArray[np.bool_]:
        """Whether the other end opens a flow's connections."""
        inward: NDArray[np.bool_] = self.destination >= len(self.estate.destinations)
        return inward

    @cached_property
    def hosts(self) -> Series:
        """Hosts of each flow's workload."""
        each = [one.hosts for one in self.estate.workloads.values()]
        return np.array(each, dtype=np.float64)[self.workload]

    @cached_property
    def rate_per_s(self) -> Series:
        """New connections per s of the whole flow where the profile's multiplier is 1; 0 for always-open ones."""
        each = self.stated("per_host_per_s", 0.0)
        if self.pooled:
            each[[*self.pooled]] = [one.new_per_s for one in self.pooled.values()]
        users = self.stated("users", np.nan)
        of_users = users * self.stated("connections_per_user", 0.0) / np.where(np.isnan(users), 1.0, self.duration_s)
        return np.where(np.isnan(users), self.hosts * each, of_users)

    @cached_property
    def asked_per_s(self) -> Series:
        """Connections of the whole flow per s where the multiplier of `asked_profile` is 1, or requests."""
        if not self.pooled:
            return self.rate_per_s
        rows = [*self.pooled]
        asked = self.rate_per_s.copy()
        asked[rows] = (self.hosts * self.stated("requests_per_host_per_s", 0.0))[rows]
        return asked

    @cached_property
    def persistent(self) -> Series:
        """Connections of the whole flow that are open all the time."""
        return self.hosts * self.stated("persistent_per_host", 0.0)

    @cached_property
    def is_standing(self) -> NDArray[np.bool_]:
        """Whether a flow is a standing pool of connections."""
        return ~np.isnan(self.stated("persistent_per_host", np.nan))

    @cached_property
    def duration_s(self) -> Series:
        """Mean life of connections, s."""
        found = self.columns.duration_mean_s
        if self.pooled:
            found = found.copy()
            found[[*self.pooled]] = [one.life_s for one in self.pooled.values()]
        return found

    @cached_property
    def endings(self) -> tuple[list[Flow], Numbers]:
        """Examples of flows whose connections end in one way and last by one law, but for its mean; flows' numbers."""
        return self.columns.endings(self.duration_s)

    @cached_property
    def burstiness(self) -> Series:
        """Variance-to-mean ratio of busy connections."""
        return self.stated("burstiness", 1.0)

    @cached_property
    def ephemeral(self) -> tuple[Series, Series]:
        """Ports that a host of each flow has toward one address and port, 0 for no limit; and their time after, s."""
        each = self.estate.workloads.values()
        ports = np.array([one.ephemeral_ports or 0 for one in each], dtype=np.float64)
        waits = np.array([one.closed_wait_s for one in each], dtype=np.float64)
        return ports[self.workload], waits[self.workload]

    @cached_property
    def every_s(self) -> Series:
        """Between two starts of a job that all hosts begin at one time, s; 0 for none."""
        return self.stated("every_s", 0.0)

    @cached_property
    def spread_s(self) -> Series:
        """Over which the connections of one start are opened, s."""
        return self.stated("spread_s", 0.0)

    @cached_property
    def at_s(self) -> Series:
        """When a start of each job is, s after midnight; not a number where that is not known."""
        return self.stated("at_s", np.nan)

    @cached_property
    def job_share(self) -> Series:
        """The part of each flow's connections that come with the starts of its job."""
        return self.stated("job_share", 1.0)

    @cached_property
    def is_synchronised(self) -> bool:
        """Whether any flow is a job that all hosts begin at one time."""
        return bool(np.any(self.every_s))

    @cached_property
    def batch(self) -> Series:
        """Connections of each flow that come at one instant, in the mean."""
        return self.stated("batch", 1.0)

    @cached_property
    def rate_cv(self) -> Series:
        """Coefficient of variation of each flow's rate about its profile."""
        return self.stated("rate_cv", 0.0)

    @cached_property
    def rate_steady_s(self) -> Series:
        """For how long each flow's rate keeps a level, s."""
        return self.stated("rate_steady_s", 300.0)

    @cached_property
    def day_cv(self) -> Series:
        """Coefficient of variation of each flow's load from day to day."""
        return self.stated("day_cv", 0.0)

    @cached_property
    def retry_share(self) -> Series:
        """The share of connections without a free port that is tried again."""
        return self.stated("retry_share", 0.0)

    @cached_property
    def retries(self) -> Series:
        """How often a connection without a free port is tried again, later and later."""
        return self.stated("retries", 0.0)

    @cached_property
    def max_open(self) -> Series:
        """Connections that all hosts of a flow have at most at once, by their own limits; infinite for no limit."""
        each = self.stated("max_per_host", np.inf)
        capped = np.isfinite(each)
        return np.where(capped, self.hosts * np.where(capped, each, 0.0), np.inf)

    @cached_property
    def on_wire(self) -> OnWire:
        """What each flow puts on the wire."""
        return OnWire.of(self)

    @cached_property
    def mean_new_per_s(self) -> Series:
        """New connections of each whole flow in a mean second of the month."""
        mean: Series = self.rate_per_s * self._mean_profile[self.profile]
        return mean

    @cached_property
    def mean_asked_per_s(self) -> Series:
        """The same of connections, or requests where these are stated."""
        mean: Series = self.asked_per_s * self._mean_profile[self.asked_profile]
        return mean

    @cached_property
    def _mean_profile(self) -> Series:
        return np.array([float(np.mean(self.multipliers(name))) for name in self.profiles])

    def multipliers(self, profile: str) -> Sequence[float]:
        """The multipliers of one of `profiles`, by hour; one for a constant load."""
        if not profile:
            return (1.0,)
        return self.of_pools[profile] if profile in self.of_pools else self.estate.profiles[profile]

    @cached_property
    def bytes_per_s(self) -> Series:
        """Mean bytes of the whole flow in a second of the month, both ways, as far as floats tell."""
        month_s = float(self.hours_per_month) * SECONDS_PER_HOUR
        new = self.mean_asked_per_s
        total = np.zeros(len(self.names))
        for way in ("out", "in"):
            kib = self.stated(f"{way}_kib_per_connection", 0.0)
            month = self.stated(f"{way}_gib_per_month", np.nan)
            total += np.where(np.isnan(month), new * kib * KIB, month * _GIB / month_s)
        return total

    @cached_property
    def volumes(self) -> MonthVolumes:
        """What whole flows carry in a month, exactly."""
        return MonthVolumes.of(self)

    @cached_property
    def one_source(self) -> NDArray[np.bool_]:
        """Whether each host of a flow has to keep to one source."""
        estate = self.estate
        by_workload = np.array([one.needs.one_source_per_host for one in estate.workloads.values()], dtype=bool)
        by_destination = np.array([one.needs.one_source_per_host for one in estate.remotes.values()], dtype=bool)
        tied: NDArray[np.bool_] = by_workload[self.workload] | by_destination[self.destination]
        return tied

    @cached_property
    def reached(self) -> Numbers:
        """By destination: a number for the addresses, port and protocol that it is, equal where they share them."""
        places: dict[Hashable, int] = {}
        each = self.estate.remotes.items()
        return np.array([places.setdefault(one.tuple_key or name, len(places)) for name, one in each], dtype=np.intp)

    @cached_property
    def protocols(self) -> tuple[tuple[str, ...], Numbers]:
        """The transport protocols of all destinations, and by destination the number of its own."""
        each = [one.protocol for one in self.estate.remotes.values()]
        known = tuple(dict.fromkeys(each))
        return known, np.array([known.index(protocol) for protocol in each], dtype=np.intp)

    @cached_property
    def is_bursty(self) -> bool:
        """Whether any flow has a burstiness of its own, or comes in batches."""
        return bool(np.any(self.burstiness != 1.0) or np.any(self.batch != 1.0))

    @cached_property
    def is_varied(self) -> bool:
        """Whether any flow's rate varies about its profile."""
        return bool(np.any(self.rate_cv))

    @cached_property
    def is_daily(self) -> bool:
        """Whether any flow's load varies from day to day."""
        return bool(np.any(self.day_cv))

    @cached_property
    def is_retried(self) -> bool:
        """Whether any flow tries again."""
        return bool(np.any(self.retry_share))

    @cached_property
    def is_capped(self) -> bool:
        """Whether the hosts of any flow have a limit of their own."""
        return bool(np.any(np.isfinite(self.max_open)))

    @cached_property
    def is_tied(self) -> bool:
        """Whether any host has to keep to one source."""
        return bool(np.any(self.one_source))

    def stated(self, key: str, otherwise: float) -> Series:
        """What flows have under a key, stated or by default; `otherwise` for those that have nothing."""
        return self.columns.stated(key, otherwise)


def _pooled(estate: Estate, columns: Columns) -> dict[int, PooledLoad]:
    """What requests come to, by row of the flow."""
    found = {}
    for row in columns.pooled:
        profile = columns.texts[2][row]
        multipliers = estate.profiles[profile] if profile else (1.0,)
        found[row] = PooledLoad.of(estate.flows[columns.names[row]], multipliers)
    return found
