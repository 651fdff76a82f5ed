"""What happens in each case of stress: who is cut off, who is overloaded, what it costs, what would have helped."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations

from fenrask.capacity import Capacity, ExitCapacity, capacity
from fenrask.demand import living, reopened
from fenrask.designs.compare import Comparison, compare
from fenrask.designs.faults import case_patch
from fenrask.designs.judge import Judged, judge
from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described
from fenrask.units import counted, exact

__all__ = ["Help", "Outcome", "pairs_of", "stress"]


@dataclass(frozen=True)
class Help:
    """What would have prevented something, and what that costs more a month."""

    what: str
    month: Fraction


@dataclass(frozen=True)
class Outcome:
    """One case: flows cut off (by name, with the reason), exits overloaded, and what follows."""

    case: str
    judged: Judged | None
    """The estate while it lasts; None where nothing of it is left to judge."""
    cut_off: Mapping[str, str]
    lost: tuple[str, ...]
    """Workloads all of whose hosts are lost themselves."""
    overloaded: tuple[ExitCapacity, ...]
    too_fast: Mapping[str, str]
    """Exits at which more connections are opened anew than they take, with the numbers."""
    month_change: Fraction
    """What a month of it would cost more."""
    helps: tuple[Help, ...]

    @property
    def refused_share(self) -> float:
        return max((one.refused_share for one in self.overloaded), default=0.0)

    @property
    def is_harmless(self) -> bool:
        return not (self.cut_off or self.overloaded or self.too_fast)

    @property
    def severity(self) -> tuple[int, int, float]:
        """What makes one case worse than another."""
        return (len(self.cut_off), len(self.overloaded) + len(self.too_fast), self.refused_share)


def pairs_of(cases: Mapping[str, Case]) -> dict[str, Case]:
    """Each two cases at once."""
    return {
        f"{one}, {other}": cases[one].joined(cases[other])
        for one, other in combinations(cases, 2)
        if cases[one] != cases[other]
    }


def stress(described: Described, cases: Mapping[str, Case]) -> Iterator[Outcome]:
    """The outcome of each case, on the addresses that the estate has or is given when nothing is wrong."""
    now = judge(described)
    fixed = described.patched({"exits": dict(_as_sized(now))}, "as sized")
    before = judge(fixed)
    designs: list[Comparison] = []
    for name, case in cases.items():
        yield _outcome(before, name, case, designs)


def _as_sized(judged: Judged) -> Iterator[tuple[str, dict[str, int]]]:
    for one in judged.capacity.exits:
        if not one.stated:
            yield one.exit, {"addresses": one.addresses}


def _outcome(before: Judged, name: str, case: Case, designs: list[Comparison]) -> Outcome:
    described = before.described
    lost = _lost(described, case)
    try:
        after = judge(described.patched(case_patch(described, case), name))
    except UnusableInput:
        cut = {flow: "nothing is left" for flow, stated in described.estate.flows.items() if stated.from_ not in lost}
        return Outcome(name, None, cut, lost, (), {}, Fraction(0), ())
    cut_off = _cut_off(before, after, lost)
    sized = after.capacity
    too_fast: dict[str, str] = {}
    if case.reopen_within_s is not None:
        sized = capacity(reopened(after.demand))
        too_fast = dict(_too_fast(after, case.reopen_within_s))
    overloaded = tuple(_overloaded(before.capacity, sized))
    helps = [help_ for one in overloaded if (help_ := _more_addresses(described, one))]
    if cut_off:
        helps += _other_designs(before, name, case, designs)
    change = after.bill.total - before.bill.total
    return Outcome(name, after, cut_off, lost, overloaded, too_fast, change, tuple(helps))


def _lost(described: Described, case: Case) -> tuple[str, ...]:
    zones = {name: one.zone for name, one in described.estate.subnets.items()}
    return tuple(
        name
        for name, workload in described.estate.workloads.items()
        if all(zones[subnet] in case.lose_zones for subnet in workload.subnets)
    )


def _cut_off(before: Judged, after: Judged, lost: Iterable[str]) -> dict[str, str]:
    """Flows of which more is lost on the way than before, from some subnet that is still there."""
    found: dict[str, str] = {}
    gone = set(lost)
    already: dict[tuple[str, str, str], Fraction] = {}
    for way in before.ways.ways:
        if not way.walk.verdict.arrives:
            already[way.flow, way.subnet, way.walk.why] = way.reach
    for way in after.ways.ways:
        known = already.get((way.flow, way.subnet, way.walk.why), Fraction(0))
        if way.walk.verdict.arrives or way.reach <= known:
            continue
        if before.described.estate.flows[way.flow].from_ not in gone:
            found.setdefault(way.flow, f"from {way.subnet}: {way.walk.verdict.value}, {way.walk.why}")
    return found


def _overloaded(before: Capacity, after: Capacity) -> Iterator[ExitCapacity]:
    """Exits that do not carry their load now: they did before, or they refuse more."""
    for one in after.exits:
        known = before.of(one.exit)
        if not one.fits and (known is None or known.fits or one.refused_share > known.refused_share * (1 + 1e-9)):
            yield one


def _too_fast(after: Judged, within_s: float) -> Iterator[tuple[str, str]]:
    """Exits that take fewer new connections per second than come when all are opened anew."""
    for name, parts in after.demand.at_exit.items():
        offer = after.described.offer_of(name)
        most = offer.limits.new_per_s if offer else None
        if most is None:
            continue
        rate = after.demand.load(parts).busiest_new_per_s + sum(map(living, parts)) / within_s
        if rate > most:
            yield name, f"{rate:,.6g} new connections per s, of at most {most:,.6g}"


def _more_addresses(described: Described, one: ExitCapacity) -> Help | None:
    """The addresses that would have done, at their price."""
    if one.needed_now is None or one.needed_now <= one.addresses or one.passed:
        return None
    if one.most_addresses is not None and one.needed_now > one.most_addresses:
        return None
    more = one.needed_now - one.addresses
    rate, month = described.catalogue.addresses.hour, described.catalogue.hours_per_month
    what = f"{counted(more, 'more address', 'more addresses')} at {one.exit}"
    return Help(what, more * exact(rate) * exact(month))


def _other_designs(before: Judged, name: str, case: Case, designs: list[Comparison]) -> Iterator[Help]:
    """The cheapest standard design in which the case cuts nobody off."""
    if not designs:
        designs.append(compare(before.described))
    ordered = sorted(designs[0].candidates[1:], key=lambda one: (not one.judged.meets_all, one.judged.bill.total))
    for one in ordered:
        estate = one.judged.described.estate
        if not {*case.lose_exits, *case.lose_nodes} <= {*estate.exits}:
            continue
        try:
            after = judge(one.judged.described.patched(case_patch(one.judged.described, case), name))
        except UnusableInput:
            continue
        if not _cut_off(one.judged, after, _lost(one.judged.described, case)):
            yield Help(f"the design {one.design.name}", one.judged.bill.total - before.bill.total)
            return
