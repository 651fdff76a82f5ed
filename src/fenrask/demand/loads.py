"""Connections held through the day: what each flow lays on each exit that it passes.

Rates are steps, an hour each, by the flow's profile; the number held follows them late and smoothed, by the
law of its holds (`fenrask.teletraffic.held`). It is computed at every quarter of an hour, and between those
where a peak is looked for.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from fenrask.demand.holding import Delays, Holding, delays_of
from fenrask.demand.parts import ConcurrencyCurve, Load, Part, Series, grid
from fenrask.demand.volumes import bytes_per_s
from fenrask.estate import Described, Flow
from fenrask.routing import FlowPath, Paths
from fenrask.teletraffic import concurrent_each
from fenrask.teletraffic.holding import Fixed, HoldingTime
from fenrask.units import SECONDS_PER_HOUR, percent

__all__ = ["Demand", "NotCounted", "demand", "open_at_peak", "new_per_s", "reopened"]


@dataclass(frozen=True)
class NotCounted:
    """The share of a flow that lays nothing on any exit, since it does not arrive."""

    flow: str
    subnets: tuple[str, ...]
    share: Fraction
    why: str
    part: str = ""
    """Which of its packets, in words; empty for all from these subnets."""

    def __str__(self) -> str:
        share = "" if self.share == 1 else f"{percent(float(self.share))} of "
        part = f" ({self.part})" if self.part else ""
        return f"{share}{self.flow} from {', '.join(self.subnets)}{part}: {self.why}"


@dataclass(frozen=True)
class Demand:
    """The load of an estate on its exits, over a day (24 hours) or a week (168)."""

    paths: Paths
    hours: int
    parts: tuple[Part, ...]
    not_counted: tuple[NotCounted, ...]

    @property
    def times_s(self) -> Series:
        """The moments at which connections held are computed, s from the start, shape (n_times,)."""
        return grid(self.hours)

    def bytes_per_s(self, part: Part) -> float:
        """Mean bytes of a part's flow, of all its ways together, in a second of the month, both ways."""
        share = part.path.own.part
        mean_new = part.rate_per_s * part.curve.mean_profile / share if share else 0.0
        described = self.paths.described
        return bytes_per_s(described, described.estate.flows[part.flow], mean_new)

    @cached_property
    def at_exit(self) -> dict[str, tuple[Part, ...]]:
        """The parts on each exit that carries any."""
        found: dict[str, list[Part]] = {}
        for part in self.parts:
            found.setdefault(part.exit, []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}

    @cached_property
    def by_destination(self) -> dict[str, tuple[Part, ...]]:
        """The parts to each destination, each connection once: at the exit of its path that keeps it longest."""
        longest: dict[tuple[str, str, int], Part] = {}
        for part in self.parts:
            key = (part.flow, part.subnet, id(part.path))
            known = longest.get(key)
            if known is None or part.mean_concurrent > known.mean_concurrent:
                longest[key] = part
        found: dict[str, list[Part]] = {name: [] for name in self.paths.described.estate.destinations}
        for part in longest.values():
            found[part.destination].append(part)
        return {name: tuple(parts) for name, parts in found.items()}

    def load(self, parts: Iterable[Part]) -> Load:
        """What these parts lay on an exit together; nothing, all day, for none."""
        some = tuple(parts)
        return Load.of(some) if some else self._nothing

    @cached_property
    def _nothing(self) -> Load:
        level = ConcurrencyCurve(-1, np.ones(self.hours), Fixed(0.0), np.zeros(self.times_s.size))
        return Load((level,), np.zeros(1), 0.0)

    def grouped(self, exit_name: str, key: Callable[[Part], str]) -> dict[str, tuple[Part, ...]]:
        """The parts on an exit, by a key such as their flow or destination, in order of appearance."""
        found: dict[str, list[Part]] = {}
        for part in self.at_exit.get(exit_name, ()):
            found.setdefault(key(part), []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}


def demand(paths: Paths) -> Demand:
    """The load that the arriving flows of an estate lay on every exit they pass."""
    estate = paths.described.estate
    profiles, exits = _Profiles(paths.described), _Exits(paths.described)
    laws = _Laws(paths.described, exits)
    laid: list[tuple[FlowPath, str, float, float, str, Holding | None]] = []
    for path in paths.paths:
        if not path.example.verdict.arrives:
            continue
        flow = estate.flows[path.flow]
        hosts, share = estate.workloads[flow.from_].hosts, path.own.part
        for exit_name in exits.holding(path.example.exits):
            if flow.persistent_per_host is not None:
                laid.append((path, exit_name, 0.0, share * hosts * flow.persistent_per_host, "", None))
            else:
                rate = share * new_per_s(flow, hosts)
                laid.append((path, exit_name, rate, 0.0, flow.profile or "", laws.of(flow, exit_name)))
    curves = _curves(paths.described, profiles, ((profile, held) for *_, profile, held in laid))
    made = tuple(
        Part(
            path.flow,
            path.subnet,
            estate.flows[path.flow].to,
            exit_name,
            path,
            held.duration_s if held else None,
            held.mapping_timeout_s if held else None,
            rate,
            persistent,
            curve,
        )
        for (path, exit_name, rate, persistent, _, held), curve in zip(laid, curves, strict=True)
    )
    return Demand(paths, profiles.hours, made, tuple(_not_counted(paths)))


class _Laws:
    """The holding times of flows at exits; those that end alike, and have one offer, are worked out together."""

    def __init__(self, described: Described, exits: "_Exits") -> None:
        self._estate, self._exits = described.estate, exits
        self._delays: dict[tuple[Hashable, ...], Delays] = {}
        self._known: dict[tuple[Hashable, ...], Holding] = {}

    def of(self, flow: Flow, exit_name: str) -> Holding:
        protocol, timers = self._estate.destinations[flow.to].protocol, self._exits.timers[exit_name]
        key = (timers, protocol, *flow.ending_key)
        known = self._known.get(key)
        if known is None:
            alike = (timers, protocol, *flow.ending_shares)
            delays = self._delays.get(alike)
            if delays is None:
                delays = self._delays[alike] = delays_of(flow, protocol, self._exits.offers[exit_name])
            known = self._known[key] = delays.after(flow)
        return known


class _Profiles:
    """The profiles in use as arrays of one length: a day, or a week where any is one. The empty name is level."""

    def __init__(self, described: Described) -> None:
        estate = described.estate
        used = {flow.profile for flow in estate.flows.values() if flow.profile}
        self.hours = max([24, *(len(estate.profiles[name]) for name in used)])
        self.of = {name: np.resize(np.array(estate.profiles[name], dtype=np.float64), self.hours) for name in used}
        self.of[""] = np.ones(self.hours)


class _Exits:
    """Which exits keep connections, and by which offer."""

    def __init__(self, described: Described) -> None:
        exits = described.estate.exits
        stated = {name: described.offer_of(name) for name in exits}
        self._keep = {name for name, one in exits.items() if one.translates or stated[name] is not None}
        self.offers = {name: stated[name] if one.translates else None for name, one in exits.items()}
        self.timers: dict[str, Hashable] = {
            name: (one.offer_name, *sorted(one.timeouts.items())) if self.offers[name] else ()
            for name, one in exits.items()
        }
        self._known: dict[tuple[str, ...], tuple[str, ...]] = {}

    def holding(self, passed: tuple[str, ...]) -> tuple[str, ...]:
        """Those of a way that keep connections; the last where none does. A bare door keeps nothing."""
        if passed not in self._known:
            self._known[passed] = tuple(name for name in passed if name in self._keep) or passed[-1:]
        return self._known[passed]


def _curves(
    described: Described, profiles: _Profiles, pairs: Iterable[tuple[str, Holding | None]]
) -> list[ConcurrencyCurve]:
    """The curve of every pair of a profile and a law, each computed once, those of one profile together."""
    keys = {name: (_CURVE, values.tobytes()) for name, values in profiles.of.items()}
    wanted = [((*keys[profile], _law(held)), profile) for profile, held in pairs]
    known = described.reused
    lacking: dict[str, dict[HoldingTime, None]] = {}
    for key, profile in wanted:
        if key not in known:
            lacking.setdefault(profile, {})[key[-1]] = None
    times = grid(profiles.hours)
    for profile, laws in lacking.items():
        rates = profiles.of[profile]
        values = concurrent_each(times, rates, SECONDS_PER_HOUR, list(laws))
        for law, by_time in zip(laws, values, strict=True):
            number = known[_NUMBER] = known.get(_NUMBER, -1) + 1
            known[*keys[profile], law] = ConcurrencyCurve(number, rates, law, by_time)
    return [known[key] for key, _ in wanted]


_CURVE, _NUMBER = "concurrency curve", "number of curves"
"""Under which curves, and how many there are, are found among what is reused."""


def _law(concurrent: Holding | None) -> HoldingTime:
    return concurrent.law if concurrent else Fixed(0.0)


def reopened(demand: Demand) -> Demand:
    """The same while all connections that live at their busiest are opened anew: the old ones' ports stay taken."""
    return replace(
        demand, parts=tuple(replace(one, persistent=one.persistent + open_at_peak(one)) for one in demand.parts)
    )


def open_at_peak(part: Part) -> float:
    """Connections of a part that live at its busiest, releases not counted."""
    return part.persistent + part.rate_per_s * float(np.max(part.curve.profile)) * (part.duration_s or 0.0)


def _not_counted(paths: Paths) -> Iterator[NotCounted]:
    lost: dict[tuple[str, str, str], list[FlowPath]] = {}
    for path in paths.paths:
        if not path.example.verdict.arrives:
            why = f"{path.trace.verdict.value}, {path.trace.why}"
            lost.setdefault((path.flow, path.trace.part, why), []).append(path)
    for (flow, part, why), its_paths in lost.items():
        share = sum((path.share for path in its_paths), Fraction(0))
        yield NotCounted(flow, tuple(dict.fromkeys(path.subnet for path in its_paths)), share, why, part)


def new_per_s(flow: Flow, hosts: int) -> float:
    """New connections per second of a whole flow where its profile's multiplier is 1."""
    if flow.users is not None and flow.connections_per_user is not None:
        return flow.users * flow.connections_per_user / flow.duration_mean_s
    return hosts * (flow.per_host_per_s or 0.0)
