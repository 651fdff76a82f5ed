"""In which order a plan is built from what there is: each step a patch, tried on the estate before it is told.

Of the parts that may be done next, that is done first after which nothing fails that did not at the start: no flow
that works then and in the end, and nothing that `check` calls an error. Where each harms something, that which harms
least is done, and its step says what fails, and until when.
"""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

from fenrask.checks import errors_of
from fenrask.designs.changes import FlowChange, moves
from fenrask.designs.contract import Patch
from fenrask.designs.parts import DESCRIBE, FORGET, Part, difference, parts_of, patch_of
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.prefixes import Address
from fenrask.routing import FlowPath

__all__ = ["BuildStep", "Harm", "Look", "build_steps", "nothing_built"]


@dataclass(frozen=True)
class Look:
    """What must be seen after a step: from a subnet, at a destination."""

    flow: str
    subnet: str
    destination: str
    exits: tuple[str, ...]
    source: str
    """The source address that the destination sees; empty where nothing arrives."""
    verdict: str
    comes_in: bool = False
    """Whether the other end opens the connections: the subnet is then theirs, or who they are."""


class Harm(NamedTuple):
    """What fails on the way: a flow from a subnet (the rule is then empty), or what a rule of `check` finds at a place.

    until: the number of the step after which it is well again.
    """

    rule: str
    at: str
    subnet: str = ""
    until: int = 0


@dataclass(frozen=True)
class BuildStep:
    """One step: what is done, the patch of the estate that says the same, and what to look at before the next."""

    what: str
    kind: str
    """`add`, `move` or `remove`."""
    names: tuple[str, ...]
    """The exits, tables or other entries that it is about."""
    patch: Patch
    undo: Patch
    """The patch that leads back to the estate before it."""
    after: Evaluation
    looks: tuple[Look, ...]
    """Paths that are other than before, and, for what is new and carries nothing yet, none."""
    moved: tuple[FlowChange, ...]
    """Flows whose paths change, with the connections that break at the peak and for how long."""
    harm: tuple[Harm, ...] = ()
    """What begins to fail with it, where no order of single steps avoids that."""


def nothing_built(now: Evaluation) -> Evaluation:
    """The estate before anything of the plan is there: no exit, and every route table empty."""
    data = now.described.data
    patch: Patch = {"exits": dict.fromkeys(data.get("exits") or {})}
    patch["route_tables"] = {
        name: dict.fromkeys(stated or {}) for name, stated in (data.get("route_tables") or {}).items()
    }
    return evaluate(now.described.patched(patch, "before"))


def build_steps(base: Evaluation, now: Evaluation) -> list[BuildStep]:
    """The steps from one estate to the other; none where they say the same of what is built."""
    steps, before, change = list[BuildStep](), base, _Change(base, now)
    harm = [frozenset[Harm]()]
    parts = list(parts_of(base.described.data, now.described.data))
    waiting = [part for part in parts if part.is_work]
    describing = [part for part in parts if part.kind == DESCRIBE]
    forgetting = [part for part in parts if part.kind == FORGET]
    while waiting:
        together, after, failing = change.next(before, harm[-1], waiting, describing)
        waiting = [part for part in waiting if part not in together]
        describing = [part for part in describing if part not in together]
        if not waiting:
            together += [*describing, *forgetting]
            after = _tried(before, together) or after
            failing = change.harm(after)
        steps.append(_step(together, before, after))
        harm.append(failing)
        before = after
    return [*_with_harm(steps, harm)]


class _Change:
    """From one estate to another: which part is best done next."""

    def __init__(self, base: Evaluation, end: Evaluation) -> None:
        self._base, self._end = base, end

    def next(
        self, before: Evaluation, known: frozenset[Harm], waiting: Sequence[Part], describing: Sequence[Part]
    ) -> tuple[list[Part], Evaluation, frozenset[Harm]]:
        """The first part that harms nothing, or less than the others; what does not hold together alone is joined.

        known: what fails before it. With it come the estate after it, and what fails there.
        """
        tries = [[*describing, part] for part in waiting]
        tries += [[part] for part in waiting] if describing else []
        least: tuple[list[Part], Evaluation, frozenset[Harm]] | None = None
        for together in tries:
            after = _tried(before, together) if self._may_be_done(together[-1], before) else None
            if after is None:
                continue
            # Where it loses a flow, what else it breaks is looked at only if nothing is better.
            harm = lost if not (lost := self._lost(after)) <= known else self.harm(after)
            if harm <= known:
                return together, after, harm
            if least is None or len(harm - known) < len(least[2] - known):
                least = together, after, harm
        if least is not None:
            return least[0], least[1], self.harm(least[1])
        for number in range(2, len(waiting)):
            joined = [*describing, *waiting[:number]]
            if (after := _tried(before, joined)) is not None:
                return joined, after, self.harm(after)
        joined = [*describing, *waiting]
        after = evaluate(before.described.patched(patch_of(joined), "build step"), like=before)
        return joined, after, self.harm(after)

    def harm(self, after: Evaluation) -> frozenset[Harm]:
        """What fails on the way that does not at the start, and in the end: flows, and errors of `check`."""
        return self._lost(after) | (_errors(after) - self._errors_at_ends)

    def _lost(self, after: Evaluation) -> frozenset[Harm]:
        was, is_, then = (one.paths.works_from for one in (self._base, after, self._end))
        none: frozenset[str] = frozenset()
        return frozenset(
            Harm("", flow, subnet)
            for flow, subnets in was.items()
            for subnet in subnets & then.get(flow, none) - is_.get(flow, none)
        )

    @cached_property
    def _errors_at_ends(self) -> frozenset[Harm]:
        return _errors(self._base) | _errors(self._end)

    def _may_be_done(self, part: Part, before: Evaluation) -> bool:
        """Whether all that an exit requires is there before it is, and goes only after it."""
        estate, exits = before.described.estate, part.patch.get("exits") or {}
        for name, stated in exits.items():
            going = [
                other for other in estate.exits if other not in exits and other not in self._end.described.estate.exits
            ]
            if stated is None and any(name in estate.required_exits(other) for other in going):
                return False
            if name not in estate.exits and not {*self._end.described.estate.required_exits(name)} <= {*estate.exits}:
                return False
        return True


def _errors(evaluation: Evaluation) -> frozenset[Harm]:
    return frozenset(Harm(one.rule, one.place.path) for one in errors_of(evaluation) if not one.accepted)


def _with_harm(steps: Sequence[BuildStep], failing: Sequence[frozenset[Harm]]) -> Iterator[BuildStep]:
    """The steps with what begins to fail with each, and until when; failing: before the first, and after each."""
    last = len(steps)
    for number, step in enumerate(steps, 1):
        begins = sorted(failing[number] - failing[number - 1])
        over = (next((later for later in range(number + 1, last) if one not in failing[later]), last) for one in begins)
        harm = tuple(one._replace(until=later) for one, later in zip(begins, over, strict=True))
        yield replace(step, harm=harm) if harm else step


def _tried(before: Evaluation, parts: Sequence[Part]) -> Evaluation | None:
    """The estate with these parts done; None where it does not hold together yet, or has an address in use twice."""
    try:
        after = before.described.patched(patch_of(parts), "build step")
    except UnusableInput:
        return None
    return evaluate(after, like=before) if _in_use_twice(after) <= _in_use_twice(before.described) else None


def _in_use_twice(described: Described) -> set[Address]:
    """The public addresses that several exits list."""
    listed = Counter(address for one in described.estate.exits.values() for address in {*one.every_listed})
    return {address for address, number in listed.items() if number > 1}


def _step(parts: Sequence[Part], before: Evaluation, after: Evaluation) -> BuildStep:
    known = {_look(path) for path in before.paths.paths}
    looks = dict.fromkeys(look for path in after.paths.paths if (look := _look(path)) not in known)
    moved = tuple(moves(before, after))
    patch, undo = patch_of(parts), difference(after.described.data, before.described.data)
    parts = [part for part in parts if part.is_work]
    kind = next((one for one in ("move", "remove", "add") if any(part.kind == one for part in parts)), "add")
    names = tuple(dict.fromkeys(name for part in parts for name in part.names))
    return BuildStep("; ".join(part.what for part in parts), kind, names, patch, undo, after, tuple(looks), moved)


def _look(path: FlowPath) -> Look:
    trace = path.example
    source = str(trace.source) if trace.verdict.arrives else ""
    if trace.inward is not None:
        to = f"{path.workload}:{trace.inward.port} in {path.subnet}"
        return Look(path.flow, trace.inward.origin, to, trace.exits, source, trace.verdict.value, comes_in=True)
    return Look(path.flow, path.subnet, path.to, trace.exits, source, trace.verdict.value)
