"""What paths put on exits, as columns: one row for each exit that keeps a path's connections."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import overload

import numpy as np

from fenrask.demand.curves import ConcurrencyCurve, Curves
from fenrask.estate.traffic import Numbers, Series, Traffic
from fenrask.estate.wire import MTU, OnWire
from fenrask.routing import FlowPath, Paths
from fenrask.teletraffic.bursts import fresh, left_over

__all__ = ["Laid", "Part", "Parts"]


@dataclass(frozen=True, eq=False)
class Laid:
    """All rows of an estate; columns have shape (n_rows,).

    path: number of the path, in the order of `paths.paths`; flow: its row of `traffic`; own: row of `paths.pairs`;
    exit: number into `exits`; curve: number into `curves`. rate_per_s: new connections per s at multiplier 1;
    persistent: connections that are always open. asked_profile: number into the profiles of `curves`, of what is
    carried: of requests, where connections follow from these.
    """

    paths: Paths
    traffic: Traffic
    exits: tuple[str, ...]
    curves: Curves
    path: Numbers
    flow: Numbers
    own: Numbers
    exit: Numbers
    curve: Numbers
    rate_per_s: Series
    persistent: Series
    asked_profile: Numbers
    level: Series | None = None
    """How many times the mean day's load each row has; None for the mean day."""

    @cached_property
    def share(self) -> Series:
        """The part of its whole flow that a row is."""
        return self.paths.pairs.share[self.own]

    @cached_property
    def reach(self) -> Series:
        """The share of the destination's addresses that a row is to."""
        pairs = self.paths.pairs
        return pairs.of_rows([float(one.box.reach) for one in pairs.kinds], float)[self.own]

    @cached_property
    def chance(self) -> Series:
        """The part of its connections that chance sends by each row: one over the number of equal routes."""
        pairs = self.paths.pairs
        return pairs.of_rows([float(one.box.part) for one in pairs.kinds], float)[self.own]

    @cached_property
    def hosts(self) -> Series:
        """The hosts that a row is from."""
        return self.paths.pairs.hosts[self.own]

    @cached_property
    def subnets(self) -> tuple[str, ...]:
        """The names of subnets."""
        # Not those of `traffic`, which may be of an estate that differs in subnets alone.
        return tuple(self.paths.described.estate.subnets)

    @cached_property
    def subnet(self) -> Numbers:
        """The number of each row's subnet, into `subnets`."""
        return self.paths.pairs.subnet[self.own]

    @cached_property
    def mean_concurrent(self) -> Series:
        """Mean concurrent connections of each row over the day."""
        mean: Series = self.persistent + self.rate_per_s * self.curves.mean_concurrent[self.curve]
        return mean

    @cached_property
    def busiest(self) -> Series:
        """Concurrent connections of each row at the busiest of the times that are computed."""
        busiest: Series = self.persistent + self.rate_per_s * self.curves.busiest[self.curve]
        return busiest

    @property
    def wire_bytes_per_s(self) -> Series:
        """Bytes of each row on the wire in a mean second of the month, both ways; of the day, where that is another."""
        return self.wire_out_per_s + self.wire_in_per_s

    @property
    def wire_out_per_s(self) -> Series:
        """The same of those sent."""
        return self._wire[0]

    @property
    def wire_in_per_s(self) -> Series:
        """The same of those received."""
        return self._wire[1]

    @property
    def packets_per_s(self) -> Series:
        """Packets of each row in a mean second of the month, both ways; of the day, where that is another."""
        return self._wire[2]

    @cached_property
    def _wire(self) -> tuple[Series, Series, Series]:
        """Sent, received, packets, by the largest packet that each path takes and what each exit adds."""
        exits = self.paths.described.estate.exits
        largest = {name: one.largest_packet for name, one in exits.items()}
        of_kind = [min([MTU, *(largest.get(name, MTU) for name in one.exits)]) for one in self.paths.examples]
        path_mtu = self.paths.pairs.of_rows(of_kind, int)[self.own]
        added = np.array([*(one.adds_bytes for one in exits.values()), 0], dtype=np.intp)[self.exit]
        found = tuple(np.zeros(self.flow.size) for _ in range(3))
        for mtu, overhead in np.unique(np.stack([path_mtu, added]), axis=1).T.tolist():
            usual = (mtu, overhead) == (MTU, 0)
            wire = self.traffic.on_wire if usual else OnWire.of(self.traffic, mtu, overhead)
            rows = np.flatnonzero((path_mtu == mtu) & (added == overhead))
            for column, each in zip(found, (wire.out_per_s, wire.in_per_s, wire.packets_per_s), strict=True):
                column[rows] = each[self.flow[rows]]
        share = self.share if self.level is None else self.share * self.level
        return found[0] * share, found[1] * share, found[2] * share

    @cached_property
    def bursts(self) -> tuple[Series, Series]:
        """At the worst moment of synchronised jobs: what is held of the last start, and of earlier ones, of each row.

        As factors of what it holds in the mean over time; 0 and 1 for connections that come by chance.
        """
        last, earlier = np.zeros(self.flow.size), np.ones(self.flow.size)
        every, spread = self.traffic.every_s[self.flow], self.traffic.spread_s[self.flow]
        rows = np.flatnonzero(every > 0)
        keys, back = np.unique(np.stack([self.curve[rows], every[rows], spread[rows]]), axis=1, return_inverse=True)
        laws = [(self.curves.curve(int(curve)).law, *of) for curve, *of in keys.T.tolist()]
        for found, of in ((last, fresh), (earlier, left_over)):
            found[rows] = np.array([of(*one) for one in laws])[back.ravel()] if laws else 0.0
        return last, earlier

    @property
    def entry_s(self) -> Series:
        """How much longer in the mean a translator's table has an entry of each row than a port is taken, s."""
        longer: Series = np.array([one.entry_s for one in self.curves.families])[self.curves.family][self.curve]
        return longer

    @property
    def new_at_worst(self) -> Series:
        """How many times its mean rate each row opens in the second in which synchronised jobs start."""
        every, spread = self.traffic.every_s[self.flow], self.traffic.spread_s[self.flow]
        times: Series = np.where(every > 0, every / np.maximum(spread, 1.0), 1.0)
        return np.maximum(times, 1.0)

    def on_a_day(self, level: Series) -> "Laid":
        """The same on a day when each flow has this multiple of its load, shape (n_flows,)."""
        levels = level[self.flow]
        return replace(self, rate_per_s=self.rate_per_s * levels, level=levels)

    def with_persistent(self, persistent: Series) -> "Laid":
        """The same with other always-open connections."""
        return replace(self, persistent=persistent)


class Part:
    """One row: what one path of a flow puts on one exit."""

    __slots__ = ("laid", "row")

    def __init__(self, laid: Laid, row: int) -> None:
        self.laid, self.row = laid, row

    @property
    def flow(self) -> str:
        return self.laid.traffic.names[int(self.laid.flow[self.row])]

    @property
    def subnet(self) -> str:
        return self.laid.subnets[int(self.laid.subnet[self.row])]

    @property
    def destination(self) -> str:
        traffic = self.laid.traffic
        return traffic.destinations[int(traffic.destination[self.laid.flow[self.row]])]

    @property
    def exit(self) -> str:
        return self.laid.exits[int(self.laid.exit[self.row])]

    @property
    def path(self) -> FlowPath:
        return self.laid.paths.path(int(self.laid.path[self.row]))

    @property
    def duration_s(self) -> float | None:
        """Mean duration; None for a standing pool, whose connections do not end."""
        return None if self._stands else self.curve.family.connected * self.curve.duration_s

    @property
    def mapping_timeout_s(self) -> float | None:
        return None if self._stands else self.curve.family.mapping_timeout_s

    @property
    def holding_s(self) -> float | None:
        """Mean duration and mapping timeout together."""
        life, timeout = self.duration_s, self.mapping_timeout_s
        return None if life is None or timeout is None else life + timeout

    @property
    def _stands(self) -> bool:
        return bool(self.laid.traffic.is_standing[self.laid.flow[self.row]])

    @property
    def rate_per_s(self) -> float:
        """New connections per s where the profile's multiplier is 1."""
        return float(self.laid.rate_per_s[self.row])

    @property
    def persistent(self) -> float:
        """Connections that are open all the time."""
        return float(self.laid.persistent[self.row])

    @property
    def curve(self) -> ConcurrencyCurve:
        return self.laid.curves.curve(int(self.laid.curve[self.row]))

    @property
    def new_per_s(self) -> Series:
        """New connections per s by step of the profiles, shape (n_steps,)."""
        return self.rate_per_s * self.curve.profile

    @property
    def concurrent(self) -> Series:
        """Mean concurrent connections, shape (n_times,)."""
        return self.persistent + self.rate_per_s * self.curve.concurrent

    @property
    def mean_concurrent(self) -> float:
        return self.persistent + self.rate_per_s * self.curve.mean_concurrent


class Parts(Sequence[Part]):
    """Some rows, in their order: columns for what is computed, `Part`s for who asks one by one."""

    def __init__(self, laid: Laid, rows: Numbers) -> None:
        self.laid, self.rows = laid, rows

    @classmethod
    def of(cls, parts: Sequence[Part]) -> "Parts":
        """Parts of one estate, at least one."""
        if isinstance(parts, Parts):
            return parts
        return cls(parts[0].laid, np.array([part.row for part in parts], dtype=np.intp))

    def __len__(self) -> int:
        return int(self.rows.size)

    @overload
    def __getitem__(self, place: int) -> Part: ...
    @overload
    def __getitem__(self, place: slice) -> "Parts": ...
    def __getitem__(self, place: int | slice) -> "Part | Parts":
        if isinstance(place, slice):
            return Parts(self.laid, self.rows[place])
        return Part(self.laid, int(self.rows[place]))

    def __iter__(self) -> Iterator[Part]:
        laid = self.laid
        return (Part(laid, row) for row in self.rows.tolist())

    def by(self, keys: Numbers) -> Iterator[tuple[int, "Parts"]]:
        """The rows by a key of each, shape (n_rows,), in order of first appearance."""
        if not keys.size:
            return
        numbers, first, back = np.unique(keys, return_index=True, return_inverse=True)
        order = np.argsort(back, kind="stable")
        ends = np.cumsum(np.bincount(back, minlength=numbers.size))
        groups = np.split(self.rows[order], ends[:-1])
        for place in np.argsort(first, kind="stable").tolist():
            yield int(numbers[place]), Parts(self.laid, groups[place])

    @property
    def outward(self) -> "Parts":
        """Those of connections that our hosts open."""
        inward = self.laid.traffic.is_inward[self.flow]
        return Parts(self.laid, self.rows[~inward]) if inward.any() else self

    @property
    def rate_per_s(self) -> Series:
        return self.laid.rate_per_s[self.rows]

    @property
    def persistent(self) -> Series:
        return self.laid.persistent[self.rows]

    @property
    def curve(self) -> Numbers:
        return self.laid.curve[self.rows]

    @property
    def flow(self) -> Numbers:
        """The rows of `traffic`."""
        return self.laid.flow[self.rows]

    @property
    def destination(self) -> Numbers:
        """The numbers of the destinations of `traffic`."""
        return self.laid.traffic.destination[self.flow]
