"""What happens to an estate in one case: who is cut off, which exits are overloaded."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from fenrask.capacity import Capacity, ExitCapacity, ExitLimits, capacity, explain_capacity, given
from fenrask.demand import Parts, new_in_worst_second, open_at_peak, reopened
from fenrask.derivation import Step
from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import asking_by_name, case_patch, survivors
from fenrask.routing import SubnetPath
from fenrask.units import counted, figure, rough
from fenrask.what_if.filling import full_after

__all__ = ["Help", "Outcome", "as_sized", "outcome", "zone_losses"]

_NAMELESS = "no name is resolved: what is open stays, and nothing new is opened"
_WORSE = 1e-3
"""A share of new connections that more fail, or by which a limit is exceeded more: less is not worth a word."""


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
    """The estate while it lasts; None where nothing of it is left to evaluate."""
    cut_off: Mapping[str, str]
    """Flows that are lost on the way, from hosts that are still there."""
    lost: tuple[str, ...]
    """Workloads all of whose hosts are lost themselves."""
    lost_flows: tuple[str, ...]
    """The flows of those workloads."""
    overloaded: tuple[ExitLimits, ...]
    """Exits that carried their load before, and do not now."""
    worse: tuple[ExitLimits, ...]
    """Exits that were overloaded already and are more so now: more new connections fail, a limit is exceeded more."""
    too_fast: Mapping[str, str]
    """Exits at which more connections are opened again than they take, with the numbers."""
    blocking: float
    """The largest share of new connections that find no port, at an exit that it overloads, or more than before."""
    helps: tuple[Help, ...]
    full_after: Mapping[str, float] = field(default_factory=dict)
    """In how many seconds the ports of exits that it overloads are full, at the busiest moment."""
    taken_over: Mapping[str, str] = field(default_factory=dict)
    """Exits of which another machine takes over, with what is lost at that moment."""
    told: tuple[Step, ...] = ()
    """How the ports are computed of the exits that it overloads, where that was asked for."""

    def explained(self) -> "Outcome":
        """The same with how the ports are computed of the exits that it overloads."""
        hit = {each.exit for each in (*self.overloaded, *self.worse)}
        steps = explain_capacity(self.evaluation.capacity) if self.evaluation and hit else ()
        told = (replace(step, about=f"{self.case}: {step.about}") for step in steps if step.about in hit)
        return replace(self, told=tuple(told))

    def handed_over(self) -> "Outcome":
        """The same without the estate that it was read off, as another process can take it."""
        overloaded, worse = ([_bare(one) for one in some] for some in (self.overloaded, self.worse))
        return replace(
            self, evaluation=None, cut_off=dict(self.cut_off), overloaded=tuple(overloaded), worse=tuple(worse)
        )

    @property
    def is_harmless(self) -> bool:
        return not (self.cut_off or self.lost or self.overloaded or self.worse or self.too_fast)

    @property
    def severity(self) -> tuple[int, int, float]:
        """What makes one case worse than another."""
        hit = len(self.overloaded) + len(self.too_fast) + len(self.worse)
        return (len(self.cut_off) + len(self.lost_flows), hit, self.blocking)

    @cached_property
    def reasons(self) -> dict[str, list[str]]:
        """Why flows are cut off, each reason once, with its flows."""
        found: dict[str, list[str]] = {}
        for flow, why in self.cut_off.items():
            found.setdefault(why, []).append(flow)
        return found


def _bare(exit_limits: ExitLimits) -> ExitLimits:
    """An exit's verdict without what it was computed from."""
    limits = tuple(replace(limit, grow=_unknown) for limit in exit_limits.limits)
    if isinstance(exit_limits, ExitCapacity):
        ports = replace(exit_limits.ports, feel=_unknown) if exit_limits.ports else None
        load = replace(exit_limits.load, streams=())
        return replace(exit_limits, limits=limits, basis=(), load=load, divide=_unknown, ports=ports)
    return replace(exit_limits, limits=limits, basis=())


def _unknown() -> None:
    """What is not handed over."""


def as_sized(evaluation: Evaluation) -> Evaluation:
    """The estate with the addresses that it is given when nothing is wrong: they do not grow in a case."""
    sized = given((one, one.addresses) for one in evaluation.capacity.exits if not one.stated)
    if not sized:
        return evaluation
    return evaluate(evaluation.described.patched({"exits": sized}, "as sized"), evaluation)


def outcome(before: Evaluation, name: str, case: Case) -> Outcome:
    """One case, without what would have helped."""
    described = before.described
    lost = _lost(described, case)
    traffic = described.traffic
    gone = np.array([workload in lost for workload in traffic.workloads], dtype=bool)
    lost_flows = tuple(traffic.names[row] for row in np.flatnonzero(gone[traffic.workload]).tolist())
    try:
        after = evaluate(described.struck(case_patch(described, case), name), like=before, asks_for_faults=False)
        sized, too_fast = after.capacity, dict[str, str]()
    except UnusableInput:
        cut = {flow: "nothing is left of it" for flow in described.estate.flows if flow not in lost_flows}
        return Outcome(name, None, cut, lost, lost_flows, (), (), {}, 0.0, ())
    if case.storm_s is not None:
        sized = capacity(reopened(after.demand.on_busy_day))
        too_fast = dict(_too_fast(after, case.storm_s))
    overloaded, worse = _overloaded(before.capacity, sized)
    cut_off = _cut_off(before, after, lost_flows)
    if case.resolver_down:
        cut_off = {**cut_off, **dict.fromkeys(asking_by_name(described, case), _NAMELESS)}
    full = {
        one.name: after_s
        for one in (*overloaded, *worse)
        if isinstance(one, ExitCapacity)
        and (after_s := full_after(before.capacity.of(one.exit, one.toward), one, case.storm_s)) is not None
    }
    taken_over = dict(_taken_over(before, case))
    # What was so before is none of the case's doing.
    blocking = max((one.blocking for one in (*overloaded, *worse)), default=0.0)
    return Outcome(name, after, cut_off, lost, lost_flows, overloaded, worse, too_fast, blocking, (), full, taken_over)


def _taken_over(before: Evaluation, case: Case) -> Iterator[tuple[str, str]]:
    """What is lost at the moment in which another machine of an exit takes over from one that a case loses."""
    estate = before.described.estate
    for name, exit_ in estate.exits.items():
        if exit_.takes_over_s is None or name in case.lose_exits:
            continue
        if {*estate.zones_at_work(exit_)} & {*case.lose_zones} and len({*estate.zones_of(exit_)}) > 1:
            where = f" in {exit_.in_subnets[1]}"
        elif name in case.lose_nodes:
            where = ""
        else:
            continue
        broken = round(sum(open_at_peak(part) for part in before.demand.at_exit.get(name, ())))
        break_ = f"{counted(broken, 'open connection')} {'breaks' if broken == 1 else 'break'}"
        passes = f"nothing passes for {rough(exit_.takes_over_s)} s, and " if exit_.takes_over_s else ""
        yield name, f"another machine{where} takes over: {passes}{break_}"


def zone_losses(evaluation: Evaluation) -> tuple[Outcome, ...]:
    """What the loss of each zone does."""
    before = as_sized(evaluation)
    zones = dict.fromkeys(one.zone for one in evaluation.described.estate.subnets.values() if one.zone)
    return tuple(outcome(before, f"zone {zone} lost", Case(lose_zones=(zone,))) for zone in zones)


def _lost(described: Described, case: Case) -> tuple[str, ...]:
    """The workloads whose hosts are all lost."""
    zones = case.lose_zones
    return tuple(name for name in described.estate.workloads if zones and not survivors(described, name, zones))


class _Reasons(Mapping[str, str]):
    """Why flows do not arrive, told as it is asked for; by flow, a path that is lost."""

    def __init__(self, paths: Mapping[str, SubnetPath]) -> None:
        self._paths = paths

    def __getitem__(self, flow: str) -> str:
        path = self._paths[flow]
        part = f" {path.words}" if path.words else ""
        return f"{path.trace.verdict.value}{part}: {path.trace.why}"

    def __iter__(self) -> Iterator[str]:
        return iter(self._paths)

    def __len__(self) -> int:
        return len(self._paths)


def _cut_off(before: Evaluation, after: Evaluation, lost_flows: tuple[str, ...]) -> Mapping[str, str]:
    """Flows of which more is lost on the way than before, from some subnet that is still there."""
    already: dict[tuple[str, str, str], Fraction] = {}
    for path in before.paths.lost_owns:
        key = (path.workload, path.to, path.subnet)
        already[key] = already.get(key, Fraction(0)) + path.within
    now: dict[tuple[str, str, str], Fraction] = {}
    hit: dict[tuple[str, str], SubnetPath] = {}
    for path in after.paths.lost_owns:
        key = (path.workload, path.to, path.subnet)
        now[key] = now.get(key, Fraction(0)) + path.within
        if now[key] > already.get(key, 0):
            hit.setdefault((path.workload, path.to), path)
    gone = {*lost_flows}
    return _Reasons({flow: hit[pair] for flow, pair in after.paths.flows_between(hit) if flow not in gone})


def _overloaded(before: Capacity, after: Capacity) -> tuple[tuple[ExitLimits, ...], tuple[ExitLimits, ...]]:
    """Exits that do not carry their load now though they did before; and those that did not, and are worse now."""
    new, worse = [], []
    for exit_limits in after.every:
        known = before.limits_of(exit_limits.name)
        if exit_limits.fits:
            continue
        if known is None or known.fits:
            new.append(exit_limits)
        elif exit_limits.blocking > known.blocking + _WORSE or _is_exceeded_more(exit_limits, known):
            worse.append(exit_limits)
    return tuple(new), tuple(worse)


def _is_exceeded_more(now: ExitLimits, before: ExitLimits) -> bool:
    """Whether a limit is exceeded that was not, or by more."""
    used = {(one.limit, one.of): one.use for one in before.exceeded}
    return any(one.use > used.get((one.limit, one.of), 0.0) * (1 + _WORSE) for one in now.exceeded)


def _too_fast(after: Evaluation, within_s: float) -> Iterator[tuple[str, str]]:
    """Exits that take fewer new connections per second than come when all are opened again."""
    for name, parts in after.demand.at_exit.items():
        offer = after.described.offer_of(name)
        most = offer.limits.new_per_s if offer else None
        if most is None:
            continue
        usual = new_in_worst_second(Parts.of(parts)) or after.demand.load(parts).busiest_new_per_s
        rate = usual + sum(map(open_at_peak, parts)) / within_s
        if rate > most:
            yield name, f"{figure(rate)} new connections/s, its limit is {figure(most)}"
