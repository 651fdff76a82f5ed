"""The load of an estate on its exits: what each path puts on each exit that keeps its connections.

Rates are steps, of an hour unless a profile has others, by the flow's profile; concurrent connections follow them late
and smoothed, by the law of the holding time (`fenrask.teletraffic.concurrent`). They are computed at every quarter of a
step, and between those where a peak is looked for.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from math import gcd

import numpy as np

from fenrask.demand.curves import Curves, Rows, grid, highest
from fenrask.demand.holding import Family
from fenrask.demand.load import Load
from fenrask.demand.parts import Laid, Part, Parts
from fenrask.estate import Described, Offer
from fenrask.estate.profile_steps import step_of
from fenrask.estate.traffic import Numbers, Series
from fenrask.routing import FlowPath, Paths, repeated
from fenrask.teletraffic.holding import Fixed
from fenrask.teletraffic.variation import day_level
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
    """The load of an estate on its exits, over a day (24 hours) or a week (168), in the steps of its profiles."""

    paths: Paths
    hours: int
    laid: Laid

    @cached_property
    def not_counted(self) -> tuple[NotCounted, ...]:
        """What does not arrive, and so puts nothing on any exit."""
        return tuple(_not_counted(self.paths))

    @cached_property
    def on_busy_day(self) -> "Demand":
        """The load on the day that the targets' share of days does not exceed: all flows have theirs at once."""
        if not self.laid.traffic.is_daily or self.laid.level is not None:
            return self
        return replace(self, laid=self.laid.on_a_day(self.busy_levels))

    @property
    def busy_levels(self) -> Series:
        """How many times the mean day's load each flow has on that day, shape (n_flows,)."""
        cvs, back = np.unique(self.laid.traffic.day_cv, return_inverse=True)
        days = self.paths.described.estate.targets.days
        levels: Series = np.array([day_level(cv, days) for cv in cvs.tolist()])[back]
        return levels

    @cached_property
    def parts(self) -> Parts:
        """What each path puts on each exit that keeps its connections."""
        return Parts(self.laid, np.arange(self.laid.flow.size))

    @property
    def times_s(self) -> Series:
        """The moments at which concurrent connections are computed, s from the start, shape (n_times,)."""
        return grid(self.laid.curves.profiles.shape[1], self.step_s)

    @property
    def step_s(self) -> float:
        """Seconds for which each multiplier of the profiles holds."""
        return self.laid.curves.step_s

    def multipliers(self, profile: str) -> Series:
        """Those of a profile of the traffic, in the steps of all, shape (n_steps,)."""
        return self._profiles.of[profile]

    @cached_property
    def _profiles(self) -> "_Profiles":
        return _Profiles(self.paths.described)

    def highest_by_hour(self, series: Series) -> Series:
        """The highest of each hour of what is known at `times_s`, shape (n_hours,)."""
        return highest(series, self.step_s, SECONDS_PER_HOUR)

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
        nothing = np.zeros(1, dtype=np.intp)
        level = np.ones((1, self.laid.curves.profiles.shape[1]))
        curves, numbers = Curves.of(level, [STANDING], Rows(nothing, nothing, np.zeros(1)), step_s=self.step_s)
        return Load(curves, numbers, np.zeros(1), 0.0)

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
    # Paths of some flows are numbered by these alone.
    own, flow = paths.own[path], paths.rows[paths.flow[path]]
    exit_ = numbers[repeated(starts[kind_of], counts[kind_of])]
    share = paths.pairs.share[own]
    curves, curve, asked = _curves(described, profiles, exits, flow, exit_)
    laid = Laid(
        paths,
        traffic,
        exits.names,
        curves,
        path,
        flow,
        own,
        exit_,
        curve,
        np.where(traffic.is_standing[flow], _dropped(described, exits, flow, exit_), traffic.rate_per_s[flow]) * share,
        traffic.persistent[flow] * share,
        asked,
    )
    return Demand(paths, profiles.hours, laid)


def _dropped(described: Described, exits: "_Exits", flow: Numbers, exit_: Numbers) -> Series:
    """How often per s always-open connections of whole flows are dropped and opened again, by row.

    That is each time where keep-alives come later than the exit's idle timeout.
    """
    traffic = described.traffic
    every = traffic.stated("keepalive_s", np.nan)
    found = np.zeros(flow.size)
    if not np.any(traffic.is_standing & ~np.isnan(every)):
        return found
    protocols, numbers = traffic.protocols
    is_udp = np.array([name == "udp" for name in protocols], dtype=bool)[numbers][traffic.destination][flow]
    timeouts = np.array([_idle(exits.offers[name]) for name in exits.names]).reshape(-1, 2)[exit_]
    timeout = np.where(is_udp, timeouts[:, 1], timeouts[:, 0])
    late = (timeout > 0) & (every[flow] >= timeout)
    found[late] = (traffic.persistent / every)[flow][late]
    return found


def _idle(offer: Offer | None) -> tuple[float, float]:
    """An offer's idle timeouts of TCP and UDP, s; 0 for none."""
    if offer is None or offer.ports is None:
        return 0.0, 0.0
    return offer.mapping_timeout_s.after("idle"), offer.mapping_timeout_s.after("udp_answered")


def _is_same(before: Paths, after: Paths) -> bool:
    """Whether two estates have the same flows, on the same paths, through exits that keep ports as long."""
    old, new = before.described.estate, after.described.estate
    sections = ("flows", "workloads", "destinations", "profiles")
    # Values that no patch names are the same objects, so that this is soon said.
    both = ((getattr(old, name), getattr(new, name)) for name in sections)
    if any(first is not second and first != second for first, second in both) or not before.pairs.is_same(after.pairs):
        return False
    if before.flows is not after.flows and before.flows != after.flows:
        return False
    first, second = _Exits(before.described), _Exits(after.described)
    same = (first.names, first.keys, first.offers) == (second.names, second.keys, second.offers)
    return same and np.array_equal(first.timers, second.timers)


class _Profiles:
    """The profiles in use as arrays of one length: a day, or a week where any is one, in steps that divide all theirs.

    The empty name is level.
    """

    def __init__(self, described: Described) -> None:
        each = {name: described.traffic.multipliers(name) for name in described.traffic.profiles}
        stated = {name: one for name, one in each.items() if len(one) > 1}
        steps = {name: step_of(len(one)) or SECONDS_PER_HOUR for name, one in stated.items()}
        self.step_s = gcd(SECONDS_PER_HOUR, *steps.values())
        self.hours = max([24, *(steps[name] * len(one) // SECONDS_PER_HOUR for name, one in stated.items())])
        size = self.hours * SECONDS_PER_HOUR // self.step_s
        times = {name: steps.get(name, self.step_s) // self.step_s for name in each}
        self.of: dict[str, Series] = {
            name: np.resize(np.repeat(np.array(one, dtype=np.float64), times[name]), size) for name, one in each.items()
        }


class _Exits:
    """Which exits keep connections, and by which offer."""

    def __init__(self, described: Described) -> None:
        exits = described.estate.exits
        stated = {name: described.limits_of(name) for name in exits}
        self._keep = {name for name, one in exits.items() if one.translates or stated[name] is not None}
        keep_ports = {name for name, one in exits.items() if one.translates or one.limited_beyond is not None}
        self.offers = {name: stated[name] if name in keep_ports else None for name in exits}
        self.names = tuple(exits)
        self.number = {name: place for place, name in enumerate(self.names)}
        keys = [
            (one.offer_name, str(one.limited_beyond or ""), *sorted(one.timeouts.items())) if self.offers[name] else ()
            for name, one in exits.items()
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


STANDING = Family((), Fixed(0.0))
"""Of pools whose connections do not end."""
_CURVES, _FAMILIES, _KNOWN, _PROFILES = "curves", "families", "known families", "profiles"
"""Under which curves, and the numbers of families and profiles, are found among what is reused."""


def _curves(
    described: Described, profiles: "_Profiles", exits: "_Exits", flow: Numbers, exit_: Numbers
) -> tuple[Curves, Numbers, Numbers]:
    """The curve of every pair of a profile and a law of holds, each computed once; the number of each row's.

    Third, the number of the profile of what each row carries.

    flow, exit_: of each row, shape (n_rows,). What is known of an estate that was evaluated before has the same number.
    """
    traffic, reused = described.traffic, described.reused
    families: list[Family] = reused.setdefault(_FAMILIES, [STANDING])
    examples, ending = traffic.endings
    protocols, protocol = traffic.protocols
    which = (exits.timers[exit_], ending[flow], protocol[traffic.destination[flow]])
    shape = (len(exits.offer_by_timers) or 1, len(examples) or 1, len(protocols) or 1)
    distinct, back = np.unique(np.ravel_multi_index(which, shape), return_inverse=True)
    numbers = []
    for timers, number, its_protocol in zip(*(one.tolist() for one in np.unravel_index(distinct, shape)), strict=True):
        example, name = examples[number], protocols[its_protocol]
        key = (exits.keys[timers], name, *example.ending_key)
        known = reused.setdefault(_KNOWN, {})
        if key not in known:
            known[key] = len(families)
            families.append(Family.of(example, name, exits.offer_by_timers[timers]))
        numbers.append(known[key])
    standing = traffic.is_standing[flow]
    family = np.where(standing, 0, np.array(numbers, dtype=np.intp)[back])
    duration_s = np.where(standing, 0.0, traffic.duration_s[flow])
    of_these = (profiles.hours, profiles.step_s)
    rows = reused.setdefault((_PROFILES, *of_these), {})
    each = [rows.setdefault(profiles.of[name].tobytes(), len(rows)) for name in traffic.profiles]
    profile, asked = (
        np.array(each, dtype=np.intp)[np.where(standing, 0, one[flow])]
        for one in (traffic.profile, traffic.asked_profile)
    )
    matrix = np.array([np.frombuffer(one) for one in rows])
    before = reused.get((_CURVES, *of_these))
    curves, curve = Curves.of(matrix, families, Rows(profile, family, duration_s), before, float(profiles.step_s))
    reused.setdefault((_CURVES, *of_these), curves)
    return curves, curve, asked


def reopened(demand: Demand) -> Demand:
    """The same while all connections that live at their busiest are opened anew: the old ones' ports stay taken."""
    laid, curves = demand.laid, demand.laid.curves
    lives = np.array([one.connected for one in curves.families])[curves.family] * curves.duration_s
    busiest = curves.profiles.max(axis=1)[curves.profile]
    opened = laid.persistent + laid.rate_per_s * (busiest * lives)[laid.curve]
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
