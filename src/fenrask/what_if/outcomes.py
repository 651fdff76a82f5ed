"""What happens to an estate in one case: who is cut off, which exits are overloaded."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction

from fenrask.capacity import Capacity, ExitCapacity, capacity
from fenrask.demand import open_at_peak, reopened
from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.what_if.faults import case_patch

__all__ = ["Help", "Outcome", "as_sized", "outcome", "zone_losses"]


@dataclass(frozen=True)
class Help:
    """What would have prevented something, and what that costs more a month."""

    what: str
    month: Fraction


@dataclass(frozen=True)
class Outcome:
    """One case: flows cut off (by name, with the reason), exits overloaded, and what follows."""

    case: str
    evaluation: Evaluation | None
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
    def blocking(self) -> float:
        return max((one.blocking for one in self.overloaded), default=0.0)

    @property
    def is_harmless(self) -> bool:
        return not (self.cut_off or self.overloaded or self.too_fast)

    @property
    def severity(self) -> tuple[int, int, float]:
        """What makes one case worse than another."""
        return (len(self.cut_off), len(self.overloaded) + len(self.too_fast), self.blocking)


def as_sized(evaluation: Evaluation) -> Evaluation:
    """The estate with the addresses that it is given when nothing is wrong: they do not grow in a case."""
    sized = {one.exit: {"addresses": one.addresses} for one in evaluation.capacity.exits if not one.stated}
    return evaluate(evaluation.described.patched({"exits": sized}, "as sized")) if sized else evaluation


def outcome(before: Evaluation, name: str, case: Case) -> Outcome:
    """One case, without what would have helped."""
    described = before.described
    lost = _lost(described, case)
    try:
        after = evaluate(described.patched(case_patch(described, case), name))
    except UnusableInput:
        cut = {flow: "nothing is left" for flow, stated in described.estate.flows.items() if stated.from_ not in lost}
        return Outcome(name, None, cut, lost, (), {}, Fraction(0), ())
    sized, too_fast = after.capacity, dict[str, str]()
    if case.reopen_within_s is not None:
        sized = capacity(reopened(after.demand))
        too_fast = dict(_too_fast(after, case.reopen_within_s))
    overloaded = tuple(_overloaded(before.capacity, sized))
    change = after.bill.total - before.bill.total
    return Outcome(name, after, _cut_off(before, after, lost), lost, overloaded, too_fast, change, ())


def _lost(described: Described, case: Case) -> tuple[str, ...]:
    zones = {name: one.zone for name, one in described.estate.subnets.items()}
    return tuple(
        name
        for name, workload in described.estate.workloads.items()
        if all(zones[subnet] in case.lose_zones for subnet in workload.subnets)
    )


def _cut_off(before: Evaluation, after: Evaluation, lost: Iterable[str]) -> dict[str, str]:
    """Flows of which more is lost on the way than before, from some subnet that is still there."""
    found: dict[str, str] = {}
    gone = set(lost)
    already: dict[tuple[str, str, str], Fraction] = {}
    for path in before.paths.paths:
        if not path.trace.verdict.arrives:
            already[path.flow, path.subnet, path.trace.why] = path.reach
    for path in after.paths.paths:
        known = already.get((path.flow, path.subnet, path.trace.why), Fraction(0))
        if path.trace.verdict.arrives or path.reach <= known:
            continue
        if before.described.estate.flows[path.flow].from_ not in gone:
            found.setdefault(path.flow, f"from {path.subnet}: {path.trace.verdict.value}, {path.trace.why}")
    return found


def _overloaded(before: Capacity, after: Capacity) -> Iterator[ExitCapacity]:
    """Exits that do not carry their load now: they did before, or they refuse more."""
    for one in after.exits:
        known = before.of(one.exit)
        if not one.fits and (known is None or known.fits or one.blocking > known.blocking * (1 + 1e-9)):
            yield one


def _too_fast(after: Evaluation, within_s: float) -> Iterator[tuple[str, str]]:
    """Exits that take fewer new connections per second than come when all are opened anew."""
    for name, parts in after.demand.at_exit.items():
        offer = after.described.offer_of(name)
        most = offer.limits.new_per_s if offer else None
        if most is None:
            continue
        rate = after.demand.load(parts).busiest_new_per_s + sum(map(open_at_peak, parts)) / within_s
        if rate > most:
            yield name, f"{rate:,.6g} new connections per s, of at most {most:,.6g}"


def zone_losses(evaluation: Evaluation) -> tuple[Outcome, ...]:
    """What the loss of each zone does."""
    before = as_sized(evaluation)
    zones = dict.fromkeys(one.zone for one in evaluation.described.estate.subnets.values() if one.zone)
    return tuple(outcome(before, f"zone {zone} lost", Case(lose_zones=(zone,))) for zone in zones)
