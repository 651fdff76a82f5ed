"""How long flows are expected to be down, from what offers promise: what fails together, and what takes over, exactly.

A path works while every exit on it works; an exit of several units (machines in pairs, nodes, routers) while any of
them does, but for the seconds in which one takes over from another, and while what its units share works. Zones fail
with all that stands in them: every state of the zones is taken by itself, and in each the exits are independent. Where
one that announces routes fails, the estate without it is traced: what then gets there by another path is not down. The
hosts of a lost zone are lost with it, and count neither as reaching nor as cut off.

Steady-state availability of series and parallel systems, and the factoring of a system on one component after the
other: Barlow & Proschan (1975), "Statistical theory of reliability and life testing", chapters 1, 2 and 7.
"""

from collections.abc import Container, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from itertools import combinations
from math import prod

from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described
from fenrask.evaluation.faults import case_patch
from fenrask.routing import FlowPath, Paths, flow_paths

__all__ = ["Availability", "availability", "availability_of", "down_minutes", "flow_availability"]

_LOST_TOGETHER = 3
"""More zones than this at once are reckoned with in estates of few zones alone; else all is down then."""
_FEW_ZONES = 6


def availability_of(described: Described, exit_name: str) -> float:
    """The share of time that an exit works; 1 where its offer says nothing."""
    exit_, offer = described.estate.exits.get(exit_name), described.offer_of(exit_name)
    if exit_ is None or offer is None:
        return 1.0
    shared = 1.0 if offer.shared_availability is None else offer.shared_availability
    if offer.availability is None:
        return shared
    works = 1.0 - (1.0 - offer.availability) ** exit_.redundant_units
    if exit_.takes_over_s and offer.repair_s:
        # One at work fails (1 - a) / (a repair) times a second: its up time is a / (1 - a) of its down time.
        works -= (1.0 - offer.availability) / (offer.availability * offer.repair_s) * exit_.takes_over_s * works
    return max(0.0, works) * shared


_Lost = tuple[frozenset[str], frozenset[str]]
"""The zones and the exits that are lost."""
_NOTHING: frozenset[str] = frozenset()


@dataclass(eq=False)
class Availability:
    """The expected share of time that flows' hosts reach their destinations, on the paths of one estate."""

    paths: Paths
    _states: dict[_Lost, Paths | None] = field(default_factory=dict)
    _exits: dict[tuple[frozenset[str], str], float] = field(default_factory=dict)
    _parts: dict[tuple[frozenset[str], object, str], float] = field(default_factory=dict)

    def of(self, flow: str, subnets: Container[str] | None = None) -> float:
        """That of a flow, or of its part from some subnets; what never arrives counts as down."""
        states = self._zones
        # States of many zones that are not looked at count as down.
        works, whole = 0.0, max(0.0, 1.0 - sum(share_of_time for share_of_time, _ in states))
        for share_of_time, zones in states:
            paths = self._state(zones, _NOTHING)
            if paths is None:
                whole += share_of_time
                continue
            workload = paths.described.estate.workloads[paths.described.estate.flows[flow].workload]
            shares: dict[str, float] = {}
            for path in paths.by_flow[flow] if workload.hosts else ():
                if subnets is None or path.subnet in subnets:
                    shares[path.subnet] = shares.get(path.subnet, 0.0) + path.own.part
            if total := sum(shares.values()):
                whole += share_of_time
                works += share_of_time * sum(self._part(zones, flow, one) for one in shares) / total
        return works / whole if whole else 0.0

    @cached_property
    def _zones(self) -> tuple[tuple[float, frozenset[str]], ...]:
        """The states of the zones, by those that are lost, each with the share of time; what is left out is none."""
        described = self.paths.described
        works = described.catalogue.zone_availability
        names = sorted({one.zone for one in described.estate.subnets.values() if one.zone})
        if works is None or not names:
            return ((1.0, _NOTHING),)
        most = len(names) if len(names) <= _FEW_ZONES else _LOST_TOGETHER
        return tuple(
            ((1.0 - works) ** number * works ** (len(names) - number), frozenset(lost))
            for number in range(most + 1)
            for lost in combinations(names, number)
        )

    def _state(self, zones: frozenset[str], exits: frozenset[str]) -> Paths | None:
        """All paths when these are lost; None where nothing of the estate is left."""
        if not zones and not exits:
            return self.paths
        key = (zones, exits)
        if key not in self._states:
            described = self.paths.described
            case = Case(lose_zones=tuple(sorted(zones)), lose_exits=tuple(sorted(exits & {*described.estate.exits})))
            try:
                struck = described.struck(case_patch(described, case), "lost")
                self._states[key] = flow_paths(struck, like=self.paths)
            except UnusableInput:
                self._states[key] = None
        return self._states[key]

    def _part(self, zones: frozenset[str], flow: str, subnet: str) -> float:
        """The share of a flow that leaves a subnet and gets there, in a state of the zones."""
        # Flows of one workload to one destination have the same paths.
        stated = self.paths.described.estate.flows[flow]
        key = (zones, (stated.from_, stated.to, stated.port), subnet)
        if key not in self._parts:
            self._parts[key] = self._factored(zones, flow, subnet, _NOTHING, _NOTHING)
        return self._parts[key]

    def _factored(
        self, zones: frozenset[str], flow: str, subnet: str, lost: frozenset[str], working: frozenset[str]
    ) -> float:
        """The same where it is known of some exits that they are lost, and of others that they work."""
        state = self._state(zones, lost)
        if state is None:
            return 0.0
        own = [path for path in state.by_flow[flow] if path.subnet == subnet and path.example.verdict.arrives]
        exits = state.described.estate.exits
        announcing = (name for path in own for name in path.example.exits if name in exits and exits[name].speaks)
        unsure = next((name for name in announcing if name not in working and self._of(zones, name) < 1.0), None)
        if unsure is None:
            return sum(self._along(zones, path, working) for path in own)
        works = self._of(zones, unsure)
        there = works * self._factored(zones, flow, subnet, lost, working | {unsure})
        return there + (1.0 - works) * self._factored(zones, flow, subnet, lost | {unsure}, working)

    def _along(self, zones: frozenset[str], path: FlowPath, working: frozenset[str]) -> float:
        """A path's share of its flow, times the share of time that all of it works."""
        return path.own.part * prod(self._of(zones, name) for name in {*path.example.exits} - working)

    def _of(self, zones: frozenset[str], name: str) -> float:
        """The availability of an exit in a state of the zones."""
        key = (zones, name)
        if key not in self._exits:
            state = self._state(zones, _NOTHING)
            self._exits[key] = 1.0 if state is None else availability_of(state.described, name)
        return self._exits[key]


@lru_cache(maxsize=4)
def availability(paths: Paths) -> Availability:
    """That of the flows of an estate, worked out once for the same paths."""
    return Availability(paths)


def flow_availability(paths: Paths) -> Mapping[str, float]:
    """The expected share of time that each flow's hosts reach its destination."""
    found, known = availability(paths), dict[int, float]()
    by_flow: dict[str, float] = {}
    for number, flow in enumerate(paths.flows):
        pair = int(paths.pair[number])
        if pair not in known:
            known[pair] = found.of(flow)
        by_flow[flow] = known[pair]
    return by_flow


def down_minutes(availability: float, hours_per_month: float) -> float:
    """Minutes a month that something of this availability is expected to be down."""
    return (1.0 - availability) * hours_per_month * 60.0
