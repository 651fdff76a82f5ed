"""At which volume of a flow whole estates change places: standard designs, or one flow through each exit.

Each is the whole bill of an evaluated estate against the volume of one flow, all else as it is; there is no second
computation of what an exit costs.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations

from fenrask.charges import Meters, bill
from fenrask.charges.curves import Crossing, Curve, crossings
from fenrask.demand import flow_volume
from fenrask.designs.compare import Candidate, Comparison
from fenrask.errors import NoAnswer, Place, Problem, UnusableInput
from fenrask.estate import Catalogue, Described, Tiers
from fenrask.estate.suggestions import nearest
from fenrask.evaluation import Evaluation
from fenrask.units import BYTES_PER_UNIT, exact

__all__ = ["BreakEven", "Meeting", "Rival", "Wage", "break_even", "check_flow"]


@dataclass(frozen=True)
class Rival:
    """A whole design: its month's cost against the volume of one flow, all else staying as it is."""

    design: str
    fails: tuple[str, ...]
    """The needs that it breaks, `capacity` where an exit does not carry its load; empty where it may be taken."""
    curve: Curve
    down_minutes: float | None = None
    """Minutes a month that the flow is expected to be down; None where nothing promises anything."""
    upkeep_hours: float = 0.0
    """Hours of work a month on machines of one's own."""


@dataclass(frozen=True)
class Wage:
    """Two designs of which one takes more work: at which wage they cost the same, and what that buys."""

    easier: str
    harder: str
    """The one that takes more work."""
    more_hours: float
    more_down_minutes: float | None
    """Minutes a month that the flow is then down more; below 0 for less."""
    per_hour: Fraction
    """Above it, `easier` is the cheaper; below 0 where that is so at any wage."""


@dataclass(frozen=True)
class Meeting:
    """Where two designs cost the same."""

    first: str
    second: str
    at: Crossing
    hosts: Fraction | None
    """The number of hosts that send so much; None where the flow sends nothing."""


@dataclass(frozen=True)
class BreakEven:
    """The designs at a flow's volume, the cheapest that meets every need first, and where they change places."""

    flow: str
    unit: str
    currency: str
    volume: Fraction
    wage_per_hour: Fraction
    rivals: tuple[Rival, ...]
    """Judged by all that they break; with `left_aside`, by what the flow itself breaks, and the exits on its path."""
    meetings: tuple[Meeting, ...]
    left_aside: int | None = None
    """Faults of other flows, and of exits that it does not pass, in the estate as it is; None where all count."""

    @property
    def best(self) -> Rival | None:
        """The cheapest at the flow's volume of those that fail nothing."""
        return next((one for one in self.rivals if not one.fails), None)

    @property
    def curves(self) -> Mapping[str, Curve]:
        return {one.design: one.curve for one in self.rivals}

    @property
    def wages(self) -> tuple[Wage, ...]:
        """The best one beside each other that fails nothing and takes more, or less, work: at the flow's volume."""
        best, found = self.best, list[Wage]()
        for rival in self.rivals if best is not None else ():
            if best is None or rival.fails or rival.upkeep_hours == best.upkeep_hours:
                continue
            easier, harder = sorted((best, rival), key=lambda each: each.upkeep_hours)
            hours = exact(harder.upkeep_hours) - exact(easier.upkeep_hours)
            more = harder.curve.at(self.volume) - easier.curve.at(self.volume)
            down = None
            if easier.down_minutes is not None and harder.down_minutes is not None:
                down = harder.down_minutes - easier.down_minutes
            wage = self.wage_per_hour - more / hours
            found.append(Wage(easier.design, harder.design, float(hours), down, wage))
        return tuple(found)

    @property
    def nearest(self) -> Meeting | None:
        """Where the best one changes places with another that fails nothing, nearest to today's volume."""
        best, sound = self.best, {one.design for one in self.rivals if not one.fails}
        if best is None:
            return None
        crossed = [
            one
            for one in self.meetings
            if best.design in (one.first, one.second) and one.at.kind == "cross" and {one.first, one.second} <= sound
        ]
        return min(crossed, key=lambda meeting: abs(meeting.at.volume - self.volume), default=None)


def break_even(comparison: Comparison, flow: str, own: bool = False) -> BreakEven:
    """For whole designs, at the volume of one flow: more or fewer bytes over as many connections as today.

    own: whether they are judged by the faults of this flow alone, and of the exits on its path.

    UnusableInput for a flow that is not known, NoAnswer for one that carries nothing.
    """
    described = comparison.candidates[0].evaluation.described
    check_flow(described, flow)
    catalogue, estate = described.catalogue, described.estate
    unit = BYTES_PER_UNIT[catalogue.volume_unit]
    whole = flow_volume(described, flow)
    volume = (whole.out_bytes + whole.in_bytes) / unit
    if not volume:
        raise NoAnswer(f"{flow} carries no bytes", "Say out_kib_per_connection and in_kib_per_connection of it.")
    end = _SIGHT * max(volume, *(_last_edge(one.evaluation.described.catalogue) for one in comparison.candidates))
    rivals = tuple(
        Rival(
            one.design.name,
            _own_fails(one, comparison.candidates[0].evaluation, flow) if own else one.fails,
            Curve.traced(_Monthly(one.evaluation, flow, volume), end),
            one.evaluation.down_minutes.get(flow),
            one.evaluation.upkeep_hours,
        )
        for one in comparison.ranked
    )
    hosts = estate.workloads[estate.flows[flow].workload].hosts
    each = volume / hosts if hosts else Fraction(0)
    meetings = tuple(_meetings({one.design: one.curve for one in rivals}, each))
    ordered = tuple(sorted(rivals, key=lambda rival: (bool(rival.fails), rival.curve.at(volume))))
    wage = exact(estate.wage_per_hour)
    aside = _left_aside(comparison.candidates[0].evaluation, flow) if own else None
    return BreakEven(flow, catalogue.volume_unit, catalogue.currency, volume, wage, ordered, meetings, aside)


def _passed(evaluation: Evaluation, flow: str) -> set[str]:
    return {name for path in evaluation.paths.by_flow[flow] for name in path.example.exits}


def _own_fails(candidate: Candidate, current: Evaluation, flow: str) -> tuple[str, ...]:
    """What keeps a candidate from serving a flow: all that `fails` says but for other flows' faults of today."""
    evaluation = candidate.evaluation
    already = {(broken.flow, broken.need) for broken in current.broken if broken.flow != flow}
    needs = dict.fromkeys(each.need for each in evaluation.broken if (each.flow, each.need) not in already)
    theirs = {each.exit for each in current.short} - _passed(evaluation, flow)
    short = {each.exit for each in evaluation.short} - theirs
    others = [
        fault for fault in candidate.fails if fault not in {each.need for each in evaluation.broken} | {"capacity"}
    ]
    return (*needs, *(["capacity"] if short else []), *others)


def _left_aside(evaluation: Evaluation, flow: str) -> int:
    """How many faults are none of this flow, nor of an exit that it passes."""
    needs = {(one.flow, one.need) for one in evaluation.broken if one.flow != flow}
    return len(needs) + len({one.exit for one in evaluation.short} - _passed(evaluation, flow))


_SIGHT = 4
"""Curves are followed this many times beyond the last edge of a step, or the flow's volume."""


class _Monthly:
    """The month's bill at a volume of one flow; everything is metered once."""

    def __init__(self, evaluation: Evaluation, flow: str, now: Fraction) -> None:
        self._evaluation, self._flow, self._now = evaluation, flow, now
        self._meters = Meters(evaluation.paths).lumped(flow)

    def __call__(self, volume: Fraction) -> Fraction:
        metered = self._meters.with_flow(self._flow, volume / self._now)
        return bill(self._evaluation.paths, self._evaluation.plan, metered).total


def _last_edge(catalogue: Catalogue) -> Fraction:
    """The greatest volume at which any rate changes."""
    transfers = (catalogue.transfer, *catalogue.transfer_by_region.values())
    rates = [one for each in transfers for one in (each.internet_out_per_gb, each.service_out_per_gb)]
    rates += [
        one.processed_per_gb
        for offer in catalogue.offers.values()
        for one in (offer.rates, *offer.rates_by_region.values())
    ]
    edges = [tier.up_to_gb for rate in rates if isinstance(rate, Tiers) for tier in rate.tiers if tier.up_to_gb]
    return Fraction(max(edges, default=0))


def check_flow(described: Described, flow: str) -> None:
    """UnusableInput for a flow that is not known."""
    if flow not in described.estate.flows:
        remedy = nearest(flow, described.estate.flows)
        raise UnusableInput([Problem(Place(path="--break-even"), repr(flow), "a flow", remedy)])


def _meetings(curves: Mapping[str, Curve], each: Fraction) -> Iterator[Meeting]:
    """Where any two curves meet; `each` is the volume of one host."""
    for first, second in combinations(curves, 2):
        for at in crossings(curves[first], curves[second]):
            yield Meeting(first, second, at, at.volume / each if each else None)
