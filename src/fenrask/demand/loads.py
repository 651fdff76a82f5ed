"""The load of an estate on its exits: what each path puts on each exit that keeps its connections.

Rates are steps, an hour each, by the flow's profile; concurrent connections follow them late and smoothed, by the law
of the holding time (`fenrask.teletraffic.concurrent`). They are computed at every quarter of an hour, and between
those where a peak is looked for.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from fenrask.demand.curves import ConcurrencyCurve, grid
from fenrask.demand.holding import Delays, Holding, delays_of
from fenrask.demand.load import Load
from fenrask.demand.parts import Laid, Part, Parts
from fenrask.estate.traffic import Numbers, Series, Traffic
from fenrask.estate import Described, Flow
from fenrask.routing import FlowPath, Paths, repeated
from fenrask.teletraffic import concurrent_each
from fenrask.teletraffic.holding import Fixed, HoldingTime
from fenrask.units import SECONDS_PER_HOUR, percent

__all__ = ["Demand", "NotCounted", "demand", "open_at_peak", "reopened"]


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
    laid: Laid

    @cached_property
    def not_counted(self) -> tuple[NotCounted, ...]:
        """What does not arrive, and so puts nothing on any exit."""
        return tuple(_not_counted(self.paths))

    @cached_property
    def parts(self) -> Parts:
        """What each path puts on each exit that keeps its connections."""
        return Parts(self.laid, np.arange(self.laid.flow.size))

    @property
    def times_s(self) -> Series:
        """The moments at which concurrent connections are computed, s from the start, shape (n_times,)."""
        return grid(self.hours)

    def bytes_per_s(self, part: Part) -> float:
        """Mean bytes of a part's flow, of all its paths together, in a second of the month, both ways."""
        return float(self.laid.traffic.bytes_per_s[self.laid.flow[part.row]])

    @cached_property
    def at_exit(self) -> dict[str, Parts]:
        """The parts on each exit that carries any."""
        return {self.laid.exits[number]: parts for number, parts in self.parts.by(self.laid.exit)}

    @cached_property
    def by_destination(self) -> dict[str, Sequence[Part]]:
        """The parts to each destination, each connection once: at the exit of its path that keeps it longest."""
        laid = self.laid
        order = np.lexsort((np.arange(laid.path.size), -laid.mean_concurrent, laid.path))
        longest = np.sort(order[np.r_[True, np.diff(laid.path[order]) > 0]]) if laid.path.size else order
        some = Parts(laid, longest)
        found: dict[str, Sequence[Part]] = dict.fromkeys(laid.traffic.destinations, ())
        return found | {laid.traffic.destinations[number]: parts for number, parts in some.by(some.destination)}

    def load(self, parts: Iterable[Part]) -> Load:
        """What these parts put on an exit together; nothing, all day, for none."""
        some = parts if isinstance(parts, Parts) else tuple(parts)
        return Load.of(some) if some else self._nothing

    @cached_property
    def _nothing(self) -> Load:
        [level] = ConcurrencyCurve.each(-1, np.ones(self.hours), [Fixed(0.0)], np.zeros((1, self.times_s.size)))
        return Load((level,), np.zeros(1), 0.0)

    def by_flow(self, exit_name: str) -> dict[str, Parts]:
        """The parts on an exit by their flow, in order of appearance."""
        some = self.at_exit.get(exit_name)
        return {self.laid.traffic.names[row]: parts for row, parts in some.by(some.flow)} if some else {}

    def grouped(self, exit_name: str, key: Callable[[Part], str]) -> dict[str, tuple[Part, ...]]:
        """The parts on an exit, by a key such as their flow or destination, in order of appearance."""
        found: dict[str, list[Part]] = {}
        for part in self.at_exit.get(exit_name, ()):
            found.setdefault(key(part), []).append(part)
        return {name: tuple(parts) for name, parts in found.items()}


def demand(paths: Paths, like: Demand | None = None) -> Demand:
    """The load that the arriving flows of an estate put on every exit they pass.

    like: the demand of an estate that this one was patched from, kept where all that it follows from is the same.
    """
    described = paths.described
    if like is not None and _is_same(like.paths, paths):
        return Demand(paths, like.hours, replace(like.laid, paths=paths))
    traffic, exits, profiles = described.traffic, _Exits(described), _Profiles(described)
    # A path counts at each exit that keeps its connections; what does not arrive counts at none.
    traces = [one.box.trace for one in paths.pairs.kinds]
    keeping = [exits.holding(trace.exits) if trace.verdict.arrives else () for trace in traces]
    counts = np.array([len(names) for names in keeping], dtype=np.intp)
    starts = np.cumsum(counts) - counts
    numbers = np.array([exits.number[name] for names in keeping for name in names], dtype=np.intp)
    kind_of = paths.pairs.kind[paths.own]
    path = np.repeat(np.arange(kind_of.size), counts[kind_of])
    own, flow = paths.own[path], paths.flow[path]
    exit_ = numbers[repeated(starts[kind_of], counts[kind_of])]
    share = paths.pairs.share[own]
    laws = _Laws(described, exits)
    holding = laws.of_rows(traffic, flow, exit_)
    profile = np.where(traffic.is_standing, 0, traffic.profile)[flow]
    curves, curve = _curves(described, profiles, traffic, laws.holdings, profile, holding)
    laid = Laid(
        paths,
        traffic,
        exits.names,
        curves,
        laws.holdings,
        path,
        flow,
        own,
        exit_,
        curve,
        holding,
        np.where(traffic.is_standing, 0.0, traffic.rate_per_s)[flow] * share,
        traffic.persistent[flow] * share,
    )
    return Demand(paths, profiles.hours, laid)


def _is_same(before: Paths, after: Paths) -> bool:
    """Whether two estates have the same flows, on the same paths, through exits that keep ports as long."""
    old, new = before.described.estate, after.described.estate
    sections = ("flows", "workloads", "destinations", "profiles")
    # Values that no patch names are the same objects, so that this is soon said.
    if any(getattr(old, name) != getattr(new, name) for name in sections) or not before.pairs.is_same(after.pairs):
        return False
    first, second = _Exits(before.described), _Exits(after.described)
    same = (first.names, first.keys, first.offers) == (second.names, second.keys, second.offers)
    return same and np.array_equal(first.timers, second.timers)


class _Laws:
    """The holding times of flows at exits; those that end in the same way, with one offer, are worked out together.

    What is known of an estate that was evaluated before is found by the same key, and has the same number.
    """

    def __init__(self, described: Described, exits: "_Exits") -> None:
        self._described, self._exits = described, exits
        self._delays: dict[tuple[Hashable, ...], Delays] = {}
        self._known: dict[tuple[Hashable, ...], int] = described.reused.setdefault(_HOLDING, {})
        self.holdings: list[Holding | None] = described.reused.setdefault(_HOLDINGS, [None])

    def of_rows(self, traffic: Traffic, flow: Numbers, exit_: Numbers) -> Numbers:
        """The number of the holding time of each row; 0 for standing pools."""
        estate, exits = self._described.estate, self._exits
        width = len(exits.offer_by_timers) or 1
        pairs, back = np.unique(flow * width + exits.timers[exit_], return_inverse=True)
        flows, numbers = list(estate.flows.values()), []
        for pair in pairs.tolist():
            row, timers = divmod(pair, width)
            one = flows[row]
            protocol = estate.destinations[one.to].protocol
            numbers.append(0 if one.persistent_per_host is not None else self._number(one, protocol, timers))
        each: Numbers = np.array(numbers, dtype=np.intp)[back.reshape(-1)]
        return each

    def _number(self, flow: Flow, protocol: str, timers: int) -> int:
        offer = self._exits.keys[timers]
        key = (offer, protocol, *flow.ending_key)
        known = self._known.get(key)
        if known is None:
            ending = (timers, protocol, *flow.ending_shares)
            delays = self._delays.get(ending)
            if delays is None:
                delays = self._delays[ending] = delays_of(flow, protocol, self._exits.offer_by_timers[timers])
            known = self._known[key] = len(self.holdings)
            self.holdings.append(delays.after(flow))
        return known


_HOLDING, _HOLDINGS = "holding", "holdings"
"""Under which holding times, and their numbers, are found among what is reused."""


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
        self.names = tuple(exits)
        self.number = {name: place for place, name in enumerate(self.names)}
        keys = [
            (one.offer_name, *sorted(one.timeouts.items())) if self.offers[name] else () for name, one in exits.items()
        ]
        self.keys: list[Hashable] = list(dict.fromkeys(keys))
        places = {key: place for place, key in enumerate(self.keys)}
        self.timers: Numbers = np.array([places[key] for key in keys], dtype=np.intp)
        """By exit: the number of the offer, with timeouts as set, that ports are kept by."""
        self.offer_by_timers = {places[key]: self.offers[name] for key, name in zip(keys, exits, strict=True)}
        self._known: dict[tuple[str, ...], tuple[str, ...]] = {}

    def holding(self, passed: tuple[str, ...]) -> tuple[str, ...]:
        """Those of a way that keep connections; the last where none does. A bare door keeps nothing."""
        if passed not in self._known:
            self._known[passed] = tuple(name for name in passed if name in self._keep) or passed[-1:]
        return self._known[passed]


def _curves(
    described: Described,
    profiles: _Profiles,
    traffic: Traffic,
    holdings: Sequence[Holding | None],
    profile: Numbers,
    holding: Numbers,
) -> tuple[list[ConcurrencyCurve], Numbers]:
    """The curve of every pair of a profile and a law, each computed once, those of one profile together.

    Returns them, and the number of each row's.
    """
    width = len(holdings)
    pairs, back = np.unique(profile * width + holding, return_inverse=True)
    keys = [(_CURVE, profiles.of[name].tobytes()) for name in traffic.profiles]
    numbers = [described.reused.setdefault(key, len(described.reused)) for key in keys]
    known: dict[tuple[int, int], ConcurrencyCurve] = described.reused.setdefault(_CURVE, {})
    wanted = [(numbers[pair // width], pair % width) for pair in pairs.tolist()]
    lacking: dict[int, list[int]] = {}
    for (number, held), pair in zip(wanted, pairs.tolist(), strict=True):
        if (number, held) not in known:
            lacking.setdefault(pair // width, []).append(held)
    times = grid(profiles.hours)
    for place, some in lacking.items():
        rates = profiles.of[traffic.profiles[place]]
        laws = [_law(holdings[held]) for held in some]
        values = concurrent_each(times, rates, SECONDS_PER_HOUR, laws)
        curves = ConcurrencyCurve.each(len(known), rates, laws, values)
        known |= {(numbers[place], held): curve for held, curve in zip(some, curves, strict=True)}
    return [known[key] for key in wanted], back.reshape(-1).astype(np.intp)


_CURVE = "curve"
"""Under which curves, by profile and holding time, are found among what is reused."""


def _law(concurrent: Holding | None) -> HoldingTime:
    return concurrent.law if concurrent else Fixed(0.0)


def reopened(demand: Demand) -> Demand:
    """The same while all connections that live at their busiest are opened anew: the old ones' ports stay taken."""
    opened = np.array([open_at_peak(part) for part in demand.parts])
    return replace(demand, laid=demand.laid.with_persistent(demand.laid.persistent + opened))


def open_at_peak(part: Part) -> float:
    """Connections of a part that live at its busiest, mapping timeouts not counted."""
    return part.persistent + part.rate_per_s * float(np.max(part.curve.profile)) * (part.duration_s or 0.0)


def _not_counted(paths: Paths) -> Iterator[NotCounted]:
    lost: dict[tuple[str, str, str], list[FlowPath]] = {}
    for path in paths.lost:
        why = f"{path.trace.verdict.value}, {path.trace.why}"
        lost.setdefault((path.flow, path.words, why), []).append(path)
    for (flow, part, why), its_paths in lost.items():
        share = sum((path.share for path in its_paths), Fraction(0))
        yield NotCounted(flow, tuple(dict.fromkeys(path.subnet for path in its_paths)), share, why, part)
