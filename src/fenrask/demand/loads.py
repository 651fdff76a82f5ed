"""Connections held through the day: what each flow lays on each exit that it passes.

Rates are steps, an hour each, by the flow's rhythm; the number held follows them late and smoothed, by the
law of its holds (`fenrask.teletraffic.held`). It is computed at every quarter of an hour, and between those
where a peak is looked for.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from fenrask.demand.holding import Holding, holding
from fenrask.demand.parts import Load, Part, Profile, Series, grid
from fenrask.demand.volumes import bytes_per_s
from fenrask.estate import Described, Flow
from fenrask.routing import Way, Ways
from fenrask.teletraffic import held_each
from fenrask.teletraffic.holds import Fixed, Hold
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["Demand", "LeftOut", "demand", "living", "new_per_s", "reopened"]


@dataclass(frozen=True)
class LeftOut:
    """The share of a flow that lays nothing on any exit, since it does not arrive."""

    flow: str
    subnets: tuple[str, ...]
    share: Fraction
    why: str

    def __str__(self) -> str:
        part = "" if self.share == 1 else f"{float(self.share):.0%} of "
        return f"{part}{self.flow} from {', '.join(self.subnets)}: {self.why}"


@dataclass(frozen=True)
class Demand:
    """The load of an estate on its exits, over a day (24 hours) or a week (168)."""

    ways: Ways
    hours: int
    parts: tuple[Part, ...]
    left_out: tuple[LeftOut, ...]

    @property
    def times_s(self) -> Series:
        """The moments at which connections held are computed, s from the start, shape (n_times,)."""
        return grid(self.hours)

    def bytes_per_s(self, part: Part) -> float:
        """Mean bytes of a part's flow, of all its ways together, in a second of the month, both ways."""
        share = float(part.way.share)
        mean_new = part.rate_per_s * part.profile.mean_rhythm / share if share else 0.0
        described = self.ways.described
        return bytes_per_s(described, described.estate.flows[part.flow], mean_new)

    @cached_property
    def at_exit(self) -> dict[str, tuple[Part, ...]]:
        """The parts on each exit that carries any."""
        found: dict[str, list[Part]] = {}
        for part in self.parts:
            found.setdefault(part.exit, []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}

    def load(self, parts: Iterable[Part]) -> Load:
        """What these parts lay on an exit together; nothing, all day, for none."""
        some = tuple(parts)
        return Load.of(some) if some else self._nothing

    @cached_property
    def _nothing(self) -> Load:
        level = Profile(-1, np.ones(self.hours), Fixed(0.0), np.zeros(self.times_s.size))
        return Load((level,), np.zeros(1), 0.0)

    def grouped(self, exit_name: str, key: Callable[[Part], str]) -> dict[str, tuple[Part, ...]]:
        """The parts on an exit, by a key such as their flow or destination, in order of appearance."""
        found: dict[str, list[Part]] = {}
        for part in self.at_exit.get(exit_name, ()):
            found.setdefault(key(part), []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}


def demand(ways: Ways) -> Demand:
    """The load that the arriving flows of an estate lay on every exit they pass."""
    estate = ways.described.estate
    rhythms = _Rhythms(ways.described)
    parts: list[tuple[Way, str, float, float, tuple[str, Holding | None]]] = []
    holdings: dict[tuple[object, ...], Holding] = {}
    profiles = _Profiles(rhythms)
    exits = _Exits(ways.described)
    for way in ways.ways:
        if not way.walk.verdict.arrives:
            continue
        flow = estate.flows[way.flow]
        hosts, share = estate.workloads[flow.from_].hosts, float(way.share)
        for exit_name in exits.holding(way.walk.exits):
            if flow.pool_per_host is not None:
                parts.append((way, exit_name, 0.0, share * hosts * flow.pool_per_host, ("", None)))
                continue
            offer = exits.offers[exit_name]
            protocol = estate.destinations[flow.to].protocol
            key = (estate.exits[exit_name].offer_name if offer else "", protocol, *flow.ending_key)
            held = holdings.get(key)
            if held is None:
                held = holdings[key] = holding(flow, protocol, offer)
            parts.append((way, exit_name, share * new_per_s(flow, hosts), 0.0, (flow.rhythm or "", held)))
    profiles.learn([profile for *_, profile in parts])
    made = tuple(
        Part(
            way.flow,
            way.subnet,
            estate.flows[way.flow].to,
            exit_name,
            way,
            held.life_s if held else None,
            held.release_s if held else None,
            rate,
            standing,
            profiles.of(rhythm, held),
        )
        for way, exit_name, rate, standing, (rhythm, held) in parts
    )
    return Demand(ways, rhythms.hours, made, tuple(_left_out(ways)))


class _Rhythms:
    """The rhythms in use as arrays of one length: a day, or a week where any is one. The empty name is level."""

    def __init__(self, described: Described) -> None:
        estate = described.estate
        used = {flow.rhythm for flow in estate.flows.values() if flow.rhythm}
        self.hours = max([24, *(len(estate.rhythms[name]) for name in used)])
        self.of = {name: np.resize(np.array(estate.rhythms[name], dtype=np.float64), self.hours) for name in used}
        self.of[""] = np.ones(self.hours)


class _Exits:
    """Which exits keep connections, and by which offer."""

    def __init__(self, described: Described) -> None:
        exits = described.estate.exits
        stated = {name: described.offer_of(name) for name in exits}
        self._keep = {name for name, one in exits.items() if one.translates or stated[name] is not None}
        self.offers = {name: stated[name] if one.translates else None for name, one in exits.items()}
        self._known: dict[tuple[str, ...], tuple[str, ...]] = {}

    def holding(self, passed: tuple[str, ...]) -> tuple[str, ...]:
        """Those of a way that keep connections; the last where none does. A bare door keeps nothing."""
        if passed not in self._known:
            self._known[passed] = tuple(name for name in passed if name in self._keep) or passed[-1:]
        return self._known[passed]


class _Profiles:
    """Every pair of a rhythm and a law once, computed together."""

    def __init__(self, rhythms: _Rhythms) -> None:
        self._rhythms = rhythms
        self._known: dict[tuple[str, Hold], Profile] = {}
        self._times = grid(rhythms.hours)

    def learn(self, pairs: Iterable[tuple[str, Holding | None]]) -> None:
        laws: dict[str, dict[Hold, None]] = {}
        for rhythm, held in pairs:
            laws.setdefault(rhythm, {})[_law(held)] = None
        for rhythm, some in laws.items():
            values = held_each(self._times, self._rhythms.of[rhythm], SECONDS_PER_HOUR, list(some))
            for law, held_by_time in zip(some, values, strict=True):
                number = len(self._known)
                self._known[rhythm, law] = Profile(number, self._rhythms.of[rhythm], law, held_by_time)

    def of(self, rhythm: str, held: Holding | None) -> Profile:
        return self._known[rhythm, _law(held)]


def _law(held: Holding | None) -> Hold:
    return held.law if held else Fixed(0.0)


def reopened(demand: Demand) -> Demand:
    """The same while all connections that live at their busiest are opened anew: the old ones' ports stay taken."""
    return replace(demand, parts=tuple(replace(one, standing=one.standing + living(one)) for one in demand.parts))


def living(part: Part) -> float:
    """Connections of a part that live at its busiest, releases not counted."""
    return part.standing + part.rate_per_s * float(np.max(part.profile.rhythm)) * (part.life_s or 0.0)


def _left_out(ways: Ways) -> Iterator[LeftOut]:
    lost: dict[tuple[str, str], list[Way]] = {}
    for way in ways.ways:
        if not way.walk.verdict.arrives:
            lost.setdefault((way.flow, f"{way.walk.verdict.value}, {way.walk.why}"), []).append(way)
    for (flow, why), its_ways in lost.items():
        share = sum((way.share for way in its_ways), Fraction(0))
        yield LeftOut(flow, tuple(dict.fromkeys(way.subnet for way in its_ways)), share, why)


def new_per_s(flow: Flow, hosts: int) -> float:
    """New connections per second of a whole flow where its rhythm's multiplier is 1."""
    if flow.people is not None and flow.connections_per_person is not None:
        return flow.people * flow.connections_per_person / flow.life_mean_s
    return hosts * (flow.per_host_per_s or 0.0)
