"""In which order a plan is built from what there is: each step a patch, tried on the estate before it is told.

An order is looked for in which nothing fails on the way that did not at the start: no flow that works then and in the
end, and nothing that `check` calls an error. Where there is none, the step that harms least is done at the point to
which such an order comes furthest, and says what fails, and until when.
"""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple, Self

from fenrask.checks import errors_of
from fenrask.designs.changes import FlowChange, moves
from fenrask.designs.contract import Patch
from fenrask.designs.parts import DESCRIBE, FORGET, Part, difference, parts_of, patch_of
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.prefixes import Address
from fenrask.progress import tell
from fenrask.routing import FlowPath

__all__ = ["BuildStep", "Harm", "Look", "build_steps", "nothing_built", "whole_step"]


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
    days: int = 0
    """How many days later that step can be done at the earliest."""


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
    """What begins to fail with it, where no order of single steps is found that avoids that."""
    in_every_order: bool = True
    """Whether each order was looked at."""


def nothing_built(now: Evaluation) -> Evaluation:
    """The estate before anything of the plan is there: no exit, and every route table empty."""
    data = now.described.data
    patch: Patch = {"exits": dict.fromkeys(data.get("exits") or {})}
    patch["route_tables"] = {
        name: dict.fromkeys(stated or {}) for name, stated in (data.get("route_tables") or {}).items()
    }
    patch |= now.described.naming_none_of(patch["exits"])
    return evaluate(now.described.patched(patch, "before"))


def build_steps(base: Evaluation, now: Evaluation) -> list[BuildStep]:
    """The steps from one estate to the other; none where they say the same of what is built."""
    parts = list(parts_of(base.described.data, now.described.data))
    change, steps, harm, before = _Change(base, now), list[BuildStep](), [frozenset[Harm]()], base
    for reached in change.way(_Reached.at(base, parts)):
        together, after, failing = [*reached.done], reached.after, reached.failing
        if not reached.waiting:
            together += reached.said
            after = _tried(before, together) or after
            failing = change.harm(after)
        steps.append(replace(_step(together, before, after), in_every_order=reached.in_every_order))
        harm.append(failing)
        before = after
    return [*_with_harm(steps, harm)]


def whole_step(base: Evaluation, now: Evaluation) -> BuildStep:
    """All that is built from one estate to the other as a single step: what others are told of it is the same."""
    return _step([*parts_of(base.described.data, now.described.data)], base, now)


@dataclass(frozen=True)
class _Reached:
    """How far a change has come: what waits, what is to be described or forgotten, the estate, and what fails there."""

    done: tuple[Part, ...]
    """With the last step."""
    waiting: tuple[Part, ...]
    describing: tuple[Part, ...]
    forgetting: tuple[Part, ...]
    after: Evaluation
    failing: frozenset[Harm]
    in_every_order: bool = True
    """Whether what fails would fail in every order of single steps; else in those that were looked at."""

    @classmethod
    def at(cls, base: Evaluation, parts: Sequence[Part]) -> Self:
        """Before the first step."""
        describing, forgetting = (tuple(p for p in parts if p.kind == kind) for kind in (DESCRIBE, FORGET))
        return cls((), tuple(p for p in parts if p.is_work), describing, forgetting, base, frozenset())

    @property
    def said(self) -> list[Part]:
        """What is not built and still to be said."""
        return [*self.describing, *self.forgetting]

    @property
    def choices(self) -> list[list[Part]]:
        """What may be done next: a part, or one with what follows it; with what is only said, or without."""
        single = [[part] for part in self.waiting if part.follows not in self.waiting]
        both = [[*one, part] for part in self.waiting for one in single if part.follows is one[0]]
        may = [*single, *both]
        saying = [self.said, [*self.describing], []]
        return [[*some, *one] for n, some in enumerate(saying) if some not in saying[:n] for one in may]

    @property
    def key(self) -> frozenset[Part]:
        """What is still to be done."""
        return frozenset((*self.waiting, *self.said))

    def then(self, together: Sequence[Part], after: Evaluation, failing: frozenset[Harm]) -> "_Reached":
        """After one more step."""
        waiting, describing, forgetting = (
            tuple(one for one in some if one not in together)
            for some in (self.waiting, self.describing, self.forgetting)
        )
        return _Reached(tuple(together), waiting, describing, forgetting, after, failing)


_PATHS_IN_VAIN, _LEAST_TRIES, _MOST_TRIES = 10_000, 10, 100
"""Where no next step is harmless, other orders are looked at, up to this number of paths in all, and of estates."""


class _Change:
    """From one estate to another: which parts are best done next."""

    def __init__(self, base: Evaluation, end: Evaluation) -> None:
        self._base, self._end = base, end
        paths = max(1, len(base.paths.paths), len(end.paths.paths))
        self._tries = min(_MOST_TRIES, max(_LEAST_TRIES, _PATHS_IN_VAIN // paths))

    def way(self, reached: _Reached) -> Iterator[_Reached]:
        """What is reached step by step: harmless as far as any order comes, then by what harms least, and so on."""
        while reached.waiting:
            some, in_every_order = self._harmless(reached)
            yield from some
            reached = some[-1] if some else reached
            if reached.waiting:
                reached = replace(self._least(reached), in_every_order=in_every_order)
                yield reached

    def _harmless(self, reached: _Reached) -> tuple[list[_Reached], bool]:
        """The steps of the order that comes furthest before any harms anything, looked for depth first.

        What is reached by the same parts in another order is looked at once. Second, whether each order was looked at.
        """
        way, furthest, seen = list[_Reached](), list[_Reached](), set[frozenset[Part]]()
        ahead, left, is_back = [self._next(reached)], self._tries, False
        while ahead and left > 0:
            then = next(ahead[-1], reached)
            if then is reached:
                ahead.pop()
                way = way[:-1]
                is_back = True
            elif then is None:
                left -= is_back
            elif then.key not in seen:
                seen.add(then.key)
                way.append(then)
                ahead.append(self._next(then))
                if len(then.waiting) < len((furthest or [reached])[-1].waiting):
                    furthest, is_back = [*way], False
                if not then.waiting:
                    break
        return furthest, not ahead

    def _next(self, reached: _Reached) -> Iterator[_Reached | None]:
        """Each choice that harms nothing; None for one that does, or that cannot be made."""
        for together in reached.choices:
            tell(f"order of building; steps left: {len(reached.waiting)}")
            after = _tried(reached.after, together) if self._may_be_done(together[-1], reached.after) else None
            if after is None:
                yield None
                continue
            harm = self._harm_within(after, reached.failing)
            yield None if harm is None else reached.then(together, after, harm)

    def _least(self, reached: _Reached) -> _Reached:
        """The step that harms least; what does not hold together alone is joined."""
        least: _Reached | None = None
        for together in reached.choices:
            after = _tried(reached.after, together) if self._may_be_done(together[-1], reached.after) else None
            if after is None:
                continue
            then = reached.then(together, after, self.harm(after))
            if least is None or len(then.failing - reached.failing) < len(least.failing - reached.failing):
                least = then
        if least is not None:
            return least
        for number in range(2, len(reached.waiting)):
            joined = [*reached.said, *reached.waiting[:number]]
            if (after := _tried(reached.after, joined)) is not None:
                return reached.then(joined, after, self.harm(after))
        joined = [*reached.said, *reached.waiting]
        after = evaluate(reached.after.described.patched(patch_of(joined), "build step"), like=reached.after)
        return reached.then(joined, after, self.harm(after))

    def harm(self, after: Evaluation) -> frozenset[Harm]:
        """What fails on the way that does not at the start, and in the end: flows, and errors of `check`."""
        return self._lost(after) | ({*_errors(after)} - self._errors_at_ends)

    def _harm_within(self, after: Evaluation, known: frozenset[Harm]) -> frozenset[Harm] | None:
        """What fails on the way, where all of it is known; None, at the first that is not."""
        found = set(self._lost(after))
        if not found <= known:
            return None
        for error in _errors(after):
            if error not in self._errors_at_ends:
                if error not in known:
                    return None
                found.add(error)
        return frozenset(found)

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
        return frozenset((*_errors(self._base), *_errors(self._end)))

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


def _errors(evaluation: Evaluation) -> Iterator[Harm]:
    return (Harm(rule, at) for rule, at in errors_of(evaluation))


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
