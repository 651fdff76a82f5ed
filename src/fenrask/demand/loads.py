"""Connections held by hour: what each flow lays on each exit that it passes.

By Little's law (Little 1961) the mean number held is the rate of new connections times the mean
hold, here hour by hour with the rhythm's multiplier.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.demand.holding import hold_mean_s, release_mean_s
from fenrask.estate import Described, Estate, Flow, Offer
from fenrask.routing import Way, Ways

__all__ = ["Demand", "LeftOut", "Load", "Part", "demand"]

Hourly = NDArray[np.float64]


@dataclass(frozen=True)
class Part:
    """What one way of a flow lays on one exit. Arrays have shape (n_hours,)."""

    flow: str
    subnet: str
    destination: str
    exit: str
    way: Way
    life_s: float | None
    """Mean life; None for a standing pool, whose connections do not end."""
    release_s: float | None
    new_per_s: Hourly
    held: Hourly

    @property
    def hold_s(self) -> float | None:
        """Mean life and release together."""
        return None if self.life_s is None or self.release_s is None else self.life_s + self.release_s


@dataclass(frozen=True)
class Load:
    """Several parts together: connections held and begun by hour, arrays of shape (n_hours,)."""

    new_per_s: Hourly
    held: Hourly

    @property
    def busiest_hour(self) -> int:
        """The first hour in which most connections are held."""
        return int(np.argmax(self.held))

    @property
    def is_level(self) -> bool:
        """Whether as many are held at every hour."""
        return bool(np.all(self.held == self.held[0]))

    @property
    def busiest_held(self) -> float:
        return float(np.max(self.held))

    @property
    def mean_held(self) -> float:
        return float(np.mean(self.held))

    @property
    def busiest_new_per_s(self) -> float:
        return float(np.max(self.new_per_s))


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
    """The load of an estate on its exits, by hour of the day (24) or of the week (168)."""

    ways: Ways
    hours: int
    parts: tuple[Part, ...]
    left_out: tuple[LeftOut, ...]

    @cached_property
    def at_exit(self) -> dict[str, tuple[Part, ...]]:
        """The parts on each exit that carries any."""
        found: dict[str, list[Part]] = {}
        for part in self.parts:
            found.setdefault(part.exit, []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}

    def load(self, parts: Iterable[Part]) -> Load:
        """What these parts lay on an exit together; level zeros for none."""
        new_per_s, held = np.zeros(self.hours), np.zeros(self.hours)
        for part in parts:
            new_per_s += part.new_per_s
            held += part.held
        return Load(new_per_s, held)

    def grouped(self, exit_name: str, key: Callable[[Part], str]) -> dict[str, tuple[Part, ...]]:
        """The parts on an exit, by a key such as their flow or destination, in order of appearance."""
        found: dict[str, list[Part]] = {}
        for part in self.at_exit.get(exit_name, ()):
            found.setdefault(key(part), []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}


def demand(ways: Ways) -> Demand:
    """The load that the arriving flows of an estate lay on every exit they pass."""
    estate = ways.described.estate
    used = {flow.rhythm for flow in estate.flows.values() if flow.rhythm}
    hours = max([24, *(len(estate.rhythms[name]) for name in used)])
    multipliers = {name: np.resize(np.array(estate.rhythms[name], dtype=np.float64), hours) for name in used}
    level = np.ones(hours)
    parts: list[Part] = []
    for way in ways.ways:
        flow = estate.flows[way.flow]
        if not way.walk.verdict.arrives:
            continue
        rhythm = multipliers[flow.rhythm] if flow.rhythm else level
        for exit_name in _holding(ways.described, way):
            parts.append(_part(estate, way, flow, exit_name, ways.described.offer_of(exit_name), rhythm))
    return Demand(ways, hours, tuple(parts), tuple(_left_out(ways)))


def _left_out(ways: Ways) -> Iterator[LeftOut]:
    lost: dict[tuple[str, str], list[Way]] = {}
    for way in ways.ways:
        if not way.walk.verdict.arrives:
            lost.setdefault((way.flow, f"{way.walk.verdict.value}, {way.walk.why}"), []).append(way)
    for (flow, why), its_ways in lost.items():
        share = sum((way.share for way in its_ways), Fraction(0))
        yield LeftOut(flow, tuple(dict.fromkeys(way.subnet for way in its_ways)), share, why)


def _holding(described: Described, way: Way) -> tuple[str, ...]:
    """The exits of a way that keep connections; the last where none does. A bare door keeps nothing."""
    exits = described.estate.exits
    keeping = [n for n in way.walk.exits if exits[n].translates or described.offer_of(n) is not None]
    return tuple(keeping) or way.walk.exits[-1:]


def _part(estate: Estate, way: Way, flow: Flow, exit_name: str, offer: Offer | None, rhythm: Hourly) -> Part:
    protocol = estate.destinations[flow.to].protocol
    if not estate.exits[exit_name].translates:
        offer = None
    hosts, share = estate.workloads[flow.from_].hosts, float(way.share)
    if flow.pool_per_host is not None:
        pool = np.full(rhythm.size, share * hosts * flow.pool_per_host)
        return Part(way.flow, way.subnet, flow.to, exit_name, way, None, None, np.zeros(rhythm.size), pool)
    new = share * new_per_s(flow, hosts) * rhythm
    release = release_mean_s(flow, protocol, offer)
    held = new * hold_mean_s(flow, protocol, offer)
    return Part(way.flow, way.subnet, flow.to, exit_name, way, flow.life_mean_s, release, new, held)


def new_per_s(flow: Flow, hosts: int) -> float:
    """New connections per second of a whole flow where its rhythm's multiplier is 1."""
    if flow.people is not None and flow.connections_per_person is not None:
        return flow.people * flow.connections_per_person / flow.life_mean_s
    return hosts * (flow.per_host_per_s or 0.0)
