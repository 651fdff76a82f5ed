"""Connections held by hour: what each flow lays on each exit that it passes.

By Little's law (Little 1961) the mean number held is the rate of new connections times the mean
hold, here hour by hour with the rhythm's multiplier.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.demand.holding import hold_mean_s, release_mean_s
from fenrask.estate import Estate, Flow, Offer
from fenrask.routing import Way, Ways

__all__ = ["Demand", "LeftOut", "Part", "demand"]

Hourly = NDArray[np.float64]


@dataclass(frozen=True)
class Part:
    """What one way of a flow lays on one exit. Arrays have shape (n_hours,)."""

    flow: str
    subnet: str
    destination: str
    exit: str
    way: Way
    life_s: float
    release_s: float
    new_per_s: Hourly
    held: Hourly

    @property
    def hold_s(self) -> float:
        return self.life_s + self.release_s


@dataclass(frozen=True)
class LeftOut:
    """A way that lays nothing on any exit, since it does not arrive."""

    flow: str
    subnet: str
    why: str


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

    def held(self, parts: Iterable[Part]) -> Hourly:
        """Connections that these parts hold together, by hour: shape (n_hours,)."""
        total = np.zeros(self.hours)
        for part in parts:
            total += part.held
        return total


def demand(ways: Ways) -> Demand:
    """The load that the arriving flows of an estate lay on every exit they pass."""
    estate = ways.described.estate
    used = {flow.rhythm for flow in estate.flows.values() if flow.rhythm}
    hours = max([24, *(len(estate.rhythms[name]) for name in used)])
    multipliers = {name: np.resize(np.array(estate.rhythms[name], dtype=np.float64), hours) for name in used}
    level = np.ones(hours)
    parts: list[Part] = []
    left_out: list[LeftOut] = []
    for way in ways.ways:
        flow = estate.flows[way.flow]
        if not way.walk.verdict.arrives:
            left_out.append(LeftOut(way.flow, way.subnet, f"{way.walk.verdict.value}: {way.walk.why}"))
            continue
        rhythm = multipliers[flow.rhythm] if flow.rhythm else level
        for exit_name in way.walk.exits:
            parts.append(_part(estate, way, flow, exit_name, ways.described.offer_of(exit_name), rhythm))
    return Demand(ways, hours, tuple(parts), tuple(left_out))


def _part(estate: Estate, way: Way, flow: Flow, exit_name: str, offer: Offer | None, rhythm: Hourly) -> Part:
    protocol = estate.destinations[flow.to].protocol
    if not estate.exits[exit_name].translates:
        offer = None
    hold = hold_mean_s(flow, protocol, offer)
    hosts, share = estate.workloads[flow.from_].hosts, float(way.share)
    if flow.pool_per_host is not None:
        new, held = np.zeros(rhythm.size), np.full(rhythm.size, share * hosts * flow.pool_per_host)
    else:
        new = share * new_per_s(flow, hosts) * rhythm
        held = new * hold
    release = release_mean_s(flow, protocol, offer)
    return Part(way.flow, way.subnet, flow.to, exit_name, way, flow.life_mean_s, release, new, held)


def new_per_s(flow: Flow, hosts: int) -> float:
    """New connections per second of a whole flow where its rhythm's multiplier is 1."""
    if flow.people is not None and flow.connections_per_person is not None:
        return flow.people * flow.connections_per_person / flow.life_mean_s
    return hosts * (flow.per_host_per_s or 0.0)
