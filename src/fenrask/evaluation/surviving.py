"""What flows are to survive: each fault that a need names, the estate after it, and what it breaks of these flows.

A flow survives a fault if the hosts that are left still reach its destination, with all its other needs met, and if
every exit that it then passes carries the load that moves there, within `targets.blocking_after_fault`.
"""

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from fenrask.capacity import AfterFault, Capacity, ExitCapacity, ExitLimits, capacity
from fenrask.errors import UnusableInput
from fenrask.estate import Case, Described, Fault
from fenrask.evaluation.faults import case_patch, faults
from fenrask.evaluation.needs import NEEDS, SURVIVES, BrokenNeed, broken_needs, in_the_mean, is_asked
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
    entries: Mapping[tuple[str, str], int] | None
    """See `broken_needs`; they do not change in a fault."""
    addresses: Mapping[tuple[str, str], int] | None


@dataclass(frozen=True)
class Survived:
    """The estate after one fault, with the flows that are to survive it."""

    name: str
    case: Case
    flows: tuple[str, ...]
    evaluation: "Evaluation | None"
    """None where nothing of the estate is left to evaluate."""
    before: "Callable[[], Capacity]"
    """The exits before it, of which those with the same load need the same; worked out where they are sized."""
    alike: "Survived | None" = None
    """The same fault of nearly the same estate, where it is known."""

    @cached_property
    def passed(self) -> Mapping[str, frozenset[str]]:
        """By flow: the exits that it then passes, where it arrives."""
        if self.evaluation is None:
            return {}
        paths = self.evaluation.paths
        return {
            flow: frozenset(
                name for path in paths.by_flow[flow] if path.example.verdict.arrives for name in path.example.exits
            )
            for flow in self.flows
            if flow in paths.by_flow
        }

    @cached_property
    def sized(self) -> Capacity:
        """What the exits that these flows then pass need, and their limits; not what ports do through the day."""
        assert self.evaluation is not None
        passed = frozenset().union(*self.passed.values())
        known = [self.before()]
        if self.alike is not None and "sized" in self.alike.__dict__:
            known.append(self.alike.sized)
        return capacity(self.evaluation.demand, known, only=passed)

    def loaded(self) -> Iterator[tuple[ExitLimits, list[str]]]:
        """The exits, or what single destinations see of them, that these flows then pass; with these flows."""
        if self.evaluation is None:
            return
        estate = self.evaluation.described.estate
        for one in self.sized.every:
            toward = one.toward if isinstance(one, ExitCapacity) else ""
            exit_ = estate.exits[one.exit]
            users = [
                flow
                for flow, passed in self.passed.items()
                if one.exit in passed and exit_.toward(estate.flows[flow].remote) == toward
            ]
            if users:
                yield one, users


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
            if flows := tuple(name for name, kinds in wanted.items() if kind in kinds):
                alike = known.get(title)
                after = self._after(title, case, alike.evaluation if alike else None, flows)
                found.append(Survived(title, case, flows, after, self.now, alike))
        return tuple(found)

    @cached_property
    def _wanted(self) -> dict[str, frozenset[Fault]]:
        """The kinds of faults that each flow is to survive, of those that are to survive any."""
        estate = self.described.estate
        by_end = [{name: one.needs.faults for name, one in some.items()} for some in (estate.workloads, estate.remotes)]
        if not any(kinds for each in by_end for kinds in each.values()):
            return {}
        traffic = self.described.traffic
        own = [by_end[0][name] for name in traffic.workloads]
        theirs = [by_end[1][name] for name in traffic.destinations]
        asked = np.array([bool(one) for one in own])[traffic.workload]
        asked |= np.array([bool(one) for one in theirs])[traffic.destination]
        return {
            traffic.names[row]: own[traffic.workload[row]] | theirs[traffic.destination[row]]
            for row in np.flatnonzero(asked).tolist()
        }

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
            for one, _ in survived.loaded():
                if not isinstance(one, ExitCapacity):
                    continue
                known, key = found.get((one.exit, one.toward)), (one.exit, one.toward)
                if known is None or (known.needed is not None and (one.needed is None or one.needed > known.needed)):
                    found[key] = AfterFault(survived.name, one.needed, one)
        return found

    def cut_off(self, before: Before) -> frozenset[str]:
        """The flows that some fault cuts off, or makes break another need; whatever exits then carry."""
        found = set[str]()
        for survived in self.faults:
            found |= {flow for flow, why in self._each(survived, before) if why}
        return frozenset(found)

    def lacking(self, capacity: Capacity) -> frozenset[str]:
        """The flows that an exit on their path does not carry after some fault, though they still arrive."""
        return frozenset(flow for survived in self.faults for flow, _ in _short(survived, capacity))

    def broken(self, before: Before, capacity: Capacity) -> Iterator[BrokenNeed]:
        """For each flow that does not survive what it is to: the first fault that it does not, and why."""
        told: set[str] = set()
        for survived in self.faults:
            short = dict(_short(survived, capacity))
            for flow, cut in self._each(survived, before):
                why = cut or short.get(flow, "")
                if why and flow not in told:
                    told.add(flow)
                    yield BrokenNeed(flow, SURVIVES, f"{survived.name}: {why}")

    def _each(self, survived: Survived, before: Before) -> Iterator[tuple[str, str]]:
        """Each of its flows with why it does not survive, or nothing: the same for flows of one workload to one end."""
        flows, known = self.described.estate.flows, dict[object, str]()
        for flow in survived.flows:
            key = (flows[flow].from_, flows[flow].to, flows[flow].port)
            if key not in known:
                known[key] = self._why(survived, flow, before)
            yield flow, known[key]

    def cuts_off(self, flow: str, subnets: Container[str], before: Paths, already: Container[str]) -> bool:
        """Whether some fault does so to a flow's part from these subnets.

        already: the needs that it breaks now.
        """
        if flow not in self._wanted:
            return False
        return any(self._cut(one, flow, subnets, before, already) for one in self.faults if flow in one.flows)

    def _cut(
        self, survived: Survived, flow: str, subnets: Container[str], before: Paths, already: Container[str]
    ) -> bool:
        evaluation = survived.evaluation
        if evaluation is None:
            return True
        estate, by_kind = evaluation.described.estate, evaluation.by_kind
        if not estate.workloads[estate.flows[flow].workload].hosts:
            return False
        if not by_kind.arrives(flow, subnets) and self._lost(survived, flow, before, subnets):
            return True
        return any(
            not (in_the_mean(one) or one in already or one in _BY_ITSELF) for one in by_kind.broken(flow, subnets)
        )

    def _lost(self, survived: Survived, flow: str, before: Paths, subnets: Container[str] | None = None) -> str:
        """Why more of a flow is lost after a fault than before; empty where no more is."""
        assert survived.evaluation is not None
        after = survived.evaluation.paths.lost_shares
        for path in survived.evaluation.paths.by_flow[flow]:
            if subnets is not None and path.subnet not in subnets:
                continue
            key = (flow, path.subnet)
            if not path.example.verdict.arrives and after[key] > before.lost_shares.get(key, 0):
                return f"{path.subnet} is cut off: {path.trace.verdict.value}, {path.trace.why}"
        return ""

    def _why(self, survived: Survived, flow: str, before: Before) -> str:
        """Why a flow does not get there after a fault, or breaks a need that it does not break now."""
        evaluation = survived.evaluation
        if evaluation is None:
            return "nothing of it is left"
        estate = evaluation.described.estate
        if not estate.workloads[estate.flows[flow].workload].hosts:
            # The fault takes all its hosts: none is left that it could cut off.
            return ""
        if lost := self._lost(survived, flow, before.paths):
            return lost
        stated = estate.flows[flow]
        needs = estate.needs_of(stated)
        asked = any(is_asked(name, needs) for name, one in NEEDS.items() if not one.in_the_mean)
        if not asked and not estate.remotes[stated.remote].allowed:
            return ""
        # What is demanded in the mean over time says nothing of the time after a fault.
        already = {*_BY_ITSELF, *(one.need for one in before.broken.get(flow, ()))}
        others = broken_needs(evaluation.paths, flow, before.entries, before.addresses)
        left = (one for one in others if not (in_the_mean(one.need) or one.need in already))
        return next((f"{one.need} is broken: {one.why}" for one in left), "")


def _short(survived: Survived, capacity: Capacity) -> Iterator[tuple[str, str]]:
    """By flow: what an exit on its path does not carry after a fault, with the addresses that it has."""
    for one, users in survived.loaded():
        why = _too_much(one, capacity)
        if why:
            yield from ((flow, why) for flow in users)


def _too_much(one: ExitLimits, capacity: Capacity) -> str:
    """What an exit does not carry after a fault; with the addresses that it has now, which do not grow in a fault."""
    if isinstance(one, ExitCapacity):
        has = capacity.of(one.exit, one.toward)
        addresses = has.addresses if has is not None else one.addresses
        if not one.carries(addresses):
            blocking = one.blocking_with(addresses)
            needs = "no number of addresses suffices" if one.needed is None else f"it then needs {one.needed}"
            return f"{percent(blocking)} of new connections find no port at {one.name} ({needs}, and has {addresses})"
    over = next((limit for limit in one.exceeded if limit.limit != "addresses"), None)
    if over is None:
        return ""
    return f"{one.name} exceeds its limit of {figure(over.capacity)} {over.unit}: {figure(over.use)}"
