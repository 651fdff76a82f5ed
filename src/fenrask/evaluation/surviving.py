"""What flows are to survive: each fault that a need names, the estate after it, and what it breaks of these flows.

A flow survives a fault if the hosts that are left still reach its destination, with all its other needs met, and if
every exit that it then passes carries the load that moves there, within `targets.blocking_after_fault`.
"""

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from fenrask.capacity import AfterFault, Capacity, ExitCapacity, ExitLimits, LimitUse, capacity
from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described, Fault
from fenrask.evaluation.faults import case_patch, faults
from fenrask.evaluation.needs import SURVIVES, BrokenNeed, Given, broken_needs, in_the_mean
from fenrask.routing import Paths
from fenrask.units import figure, percent

if TYPE_CHECKING:
    from fenrask.evaluation.stages import Evaluation

__all__ = ["Before", "Survived", "Surviving"]

_BY_ITSELF = (SURVIVES, "arrives")
"""What is looked at by itself."""


@dataclass(frozen=True)
class Before:
    """An estate as it is without a fault: what is lost, which needs are broken, and how many addresses exits have."""

    paths: Paths
    broken: Mapping[str, list[BrokenNeed]]
    """By flow."""
    given: Given
    """What exits have: it does not change in a fault."""


Ends = tuple[str, str]
"""A workload, and the other end of its flows: flows between the two have the same paths, and the same is demanded."""


@dataclass(frozen=True)
class Survived:
    """The estate after one fault, with the flows that are to survive it."""

    name: str
    kind: Fault
    case: Case
    ends: tuple[Ends, ...]
    """Those between which they are, in the order of their first flows."""
    evaluation: "Evaluation | None"
    """None where nothing of the estate is left to evaluate."""
    before: "Callable[[], Capacity]"
    """The exits before it, of which those with the same load need the same; worked out where they are sized."""
    similar: "Survived | None" = None
    """The same fault of nearly the same estate, where it is known."""

    @cached_property
    def passed(self) -> Mapping[Ends, frozenset[str]]:
        """The exits that they then pass, where they arrive."""
        if self.evaluation is None:
            return {}
        known = self.evaluation.paths.exits_between
        return {ends: known[ends] for ends in self.ends if ends in known}

    @cached_property
    def sized(self) -> Capacity:
        """What the exits that these flows then pass need, and their limits; not what ports do through the day."""
        assert self.evaluation is not None
        passed = frozenset().union(*self.passed.values())
        known = [self.before()]
        if self.similar is not None and "sized" in self.similar.__dict__:
            known.append(self.similar.sized)
        return capacity(self.evaluation.demand, known, only=passed)

    def loaded(self) -> Iterator[tuple[ExitLimits, list[Ends]]]:
        """The exits, or what single destinations see of them, that these flows then pass; with these flows."""
        if self.evaluation is None:
            return
        users: dict[str, list[Ends]] = {}
        for ends, passed in self.passed.items():
            for name in passed:
                users.setdefault(name, []).append(ends)
        for exit_limits in self.sized.every:
            toward = exit_limits.toward if isinstance(exit_limits, ExitCapacity) else ""
            exit_ = self.evaluation.described.estate.exits[exit_limits.exit]
            if own := [ends for ends in users.get(exit_limits.exit, ()) if exit_.toward(ends[1]) == toward]:
                yield exit_limits, own


@dataclass(frozen=True)
class Surviving:
    """Every fault that any flow of an estate is to survive. `evaluated` evaluates an estate without asking for this."""

    described: Described
    evaluated: "Callable[[Described, Evaluation | None, Sequence[str]], Evaluation]"
    now: "Callable[[], Capacity]"
    """The exits as they are without a fault."""
    like: "Surviving | None" = None
    """The faults of nearly the same estate: what has been worked out of them may still hold."""

    @cached_property
    def faults(self) -> tuple[Survived, ...]:
        """The estate after each of them, in the order of `faults`."""
        wanted, found = self._wanted, []
        known = {one.name: one for one in self.like.faults} if self.like and "faults" in self.like.__dict__ else {}
        for title, (kind, case) in faults(self.described).items() if wanted else ():
            if ends := tuple(each for each, kinds in wanted.items() if kind in kinds):
                similar = known.get(title)
                flows = [flow for flow, each in self._flows if kind in wanted[each]]
                after = self._after(title, case, similar.evaluation if similar else None, flows)
                found.append(Survived(title, kind, case, ends, after, self.now, similar))
        return tuple(found)

    @cached_property
    def _wanted(self) -> dict[Ends, frozenset[Fault]]:
        """The kinds of faults that flows are to survive, by their ends, of those that are to survive any."""
        estate = self.described.estate
        own, theirs = (
            {name: one.needs.faults for name, one in some.items()} for some in (estate.workloads, estate.remotes)
        )
        if not any((*own.values(), *theirs.values())):
            return {}
        joined = ((ends, own[ends[0]] | theirs[ends[1]]) for ends in self.described.traffic.ends[0])
        return {ends: kinds for ends, kinds in joined if kinds}

    @cached_property
    def _flows(self) -> list[tuple[str, Ends]]:
        """The flows that are to survive any fault, in their order, each with its ends."""
        traffic = self.described.traffic
        ends, number = traffic.ends
        asked = np.array([one in self._wanted for one in ends], dtype=bool)[number]
        return [(traffic.names[row], ends[number[row]]) for row in np.flatnonzero(asked).tolist()]

    def _after(
        self, title: str, case: Case, like: "Evaluation | None", surviving: Sequence[str]
    ) -> "Evaluation | None":
        patch: dict[str, Any] = case_patch(self.described, case)
        if (allowed := self.described.estate.targets.blocking_after_fault) is not None:
            patch = {**patch, "targets": {"blocking": allowed}}
        try:
            return self.evaluated(self.described.struck(patch, title), like, surviving)
        except UnusableInput:
            return None

    @cached_property
    def needed(self) -> Mapping[tuple[str, str], AfterFault]:
        """What exits need after the fault that asks for most; see `capacity`."""
        found: dict[tuple[str, str], AfterFault] = {}
        for survived in self.faults:
            for sized, _ in survived.loaded():
                if not isinstance(sized, ExitCapacity):
                    continue
                known, key = found.get((sized.exit, sized.toward)), (sized.exit, sized.toward)
                if known is None or (
                    known.needed is not None and (sized.needed is None or sized.needed > known.needed)
                ):
                    found[key] = AfterFault(survived.name, sized.needed, sized)
        return found

    @cached_property
    def tightest(self) -> Mapping[str, Mapping[str, LimitUse]]:
        """By exit and fault: the limit that is then the tightest, ports and addresses apart."""
        found: dict[str, dict[str, LimitUse]] = {}
        for survived in self.faults:
            for exit_limits, _ in survived.loaded():
                if exit_limits.of_load:
                    found.setdefault(exit_limits.name, {})[survived.name] = min(
                        exit_limits.of_load, key=lambda limit: limit.headroom
                    )
        return found

    def cut_off(self, before: Before) -> frozenset[str]:
        """The flows that some fault cuts off, or makes break another need; whatever exits then carry."""
        return self._flows_of({ends for one in self.faults for ends, why in self._each(one, before) if why})

    def lacking(self, capacity: Capacity) -> frozenset[str]:
        """The flows that an exit on their path does not carry after some fault, though they still arrive."""
        return self._flows_of({ends for one in self.faults for ends, _, _ in _short(one, capacity)})

    def _flows_of(self, those: Container[Ends]) -> frozenset[str]:
        return frozenset(flow for flow, ends in self._flows if ends in those)

    def broken(self, before: Before, capacity: Capacity) -> Iterator[BrokenNeed]:
        """For each flow that does not survive what it is to: the worst fault of all, or the first of them, and why."""
        worst: dict[Ends, tuple[float, str]] = {}
        for survived in self.faults:
            found = {ends: (_ALL, why) for ends, why in self._each(survived, before) if why}
            for ends, share, why in _short(survived, capacity):
                if share > found.get(ends, _NOTHING)[0]:
                    found[ends] = (share, why)
            for ends, (share, why) in found.items():
                if share > worst.get(ends, _NOTHING)[0]:
                    worst[ends] = (share, f"{survived.name}: {why}")
        for flow, ends in self._flows if worst else ():
            if ends in worst:
                yield BrokenNeed(flow, SURVIVES, worst[ends][1])

    def _each(self, survived: Survived, before: Before) -> Iterator[tuple[Ends, str]]:
        """Each of its flows, by their ends, with why they do not survive, or nothing."""
        return ((ends, self._why(survived, ends, before)) for ends in survived.ends)

    def cuts_off(self, flow: str, subnets: Container[str], before: Paths, already: Container[str]) -> bool:
        """Whether some fault does so to a flow's part from these subnets.

        already: the needs that it breaks now.
        """
        stated = self.described.estate.flows[flow]
        kinds = self._wanted.get((stated.workload, stated.remote))
        if kinds is None:
            return False
        return any(self._cut(one, flow, subnets, before, already) for one in self.faults if one.kind in kinds)

    def _cut(
        self, survived: Survived, flow: str, subnets: Container[str], before: Paths, already: Container[str]
    ) -> bool:
        evaluation = survived.evaluation
        if evaluation is None:
            return True
        estate, by_kind = evaluation.described.estate, evaluation.by_kind
        stated = estate.flows[flow]
        if not estate.workloads[stated.workload].hosts:
            return False
        if not by_kind.arrives(flow, subnets) and self._lost(
            survived, (stated.workload, stated.remote), before, subnets
        ):
            return True
        return any(
            not (in_the_mean(one) or one in already or one in _BY_ITSELF) for one in by_kind.broken(flow, subnets)
        )

    def _lost(self, survived: Survived, ends: Ends, before: Paths, subnets: Container[str] | None = None) -> str:
        """Why more of a flow is lost after a fault than before; empty where no more is."""
        assert survived.evaluation is not None
        known = before.lost_between.get(ends, {})
        for subnet, (share, path) in survived.evaluation.paths.lost_between.get(ends, {}).items():
            if (subnets is None or subnet in subnets) and (subnet not in known or share > known[subnet][0]):
                return f"{subnet} is cut off: {path.trace.verdict.value}, {path.trace.why}"
        return ""

    def _why(self, survived: Survived, ends: Ends, before: Before) -> str:
        """Why flows do not get there after a fault, or break a need that they do not break now."""
        evaluation = survived.evaluation
        if evaluation is None:
            return "nothing of it is left"
        estate = evaluation.described.estate
        if not estate.workloads[ends[0]].hosts:
            # The fault takes all its hosts: none is left that it could cut off.
            return ""
        if lost := self._lost(survived, ends, before.paths):
            return lost
        flow = evaluation.paths.flow_between[ends]
        if evaluation.by_kind.holds(flow):
            return ""
        # What is demanded in the mean over time says nothing of the time after a fault.
        already = {*_BY_ITSELF, *(one.need for one in before.broken.get(flow, ()))}
        others = broken_needs(evaluation.paths, flow, before.given)
        left = (one for one in others if not (in_the_mean(one.need) or one.need in already))
        return next((f"{one.need} is broken: {one.why}" for one in left), "")


_ALL, _NOTHING = 2.0, (0.0, "")
"""More than any share: nothing arrives, or another need is broken; and that all is well."""
_LEAST = 1e-12


def _short(survived: Survived, capacity: Capacity) -> Iterator[tuple[Ends, float, str]]:
    """By flows' ends: what an exit on their path does not carry after a fault, with the addresses that it has.

    With the share of it, by which one is worse than another.
    """
    for exit_limits, users in survived.loaded():
        share, why = _too_much(exit_limits, capacity)
        if why:
            yield from ((ends, share, why) for ends in users)


def _too_much(exit_limits: ExitLimits, capacity: Capacity) -> tuple[float, str]:
    """What an exit does not carry after a fault; with the addresses that it has now, which do not grow in a fault."""
    if isinstance(exit_limits, ExitCapacity):
        has = capacity.of(exit_limits.exit, exit_limits.toward)
        addresses = has.addresses if has is not None else exit_limits.addresses
        if not exit_limits.carries(addresses):
            blocking = exit_limits.blocking_with(addresses)
            needs = (
                "no number of addresses suffices"
                if exit_limits.needed is None
                else f"it then needs {exit_limits.needed}"
            )
            why = (
                f"{percent(blocking)} of new connections find no port at {exit_limits.name} "
                f"({needs}, and has {addresses})"
            )
            return max(blocking, _LEAST), why
    over = next(iter(exit_limits.overloaded_by), None)
    if over is None:
        return _NOTHING
    beyond = max(1 - over.capacity / over.use, _LEAST) if over.use else 1.0
    return beyond, f"{exit_limits.name} exceeds its limit of {figure(over.capacity)} {over.unit}: {figure(over.use)}"
