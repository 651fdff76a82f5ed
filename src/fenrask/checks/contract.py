"""What a rule of `check` is: a function from the evaluation of an estate to what it finds."""

import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property
from typing import Any, TypeVar

from fenrask.errors import Place, UnusableInput
from fenrask.estate import Described, Estate, ExitModel
from fenrask.evaluation import Evaluation, broken_needs, evaluate, every_broken_need
from fenrask.findings import Finding, Severity
from fenrask.routing import FlowPath, Paths, Sending, Trace, Tracer, Verdict, flow_paths, traces_to

__all__ = ["Context", "Doubt", "Fix", "Rule", "in_table_of"]

Role = TypeVar("Role", bound=ExitModel)
Fix = dict[str, Any]
"""A JSON Merge Patch that cures a finding."""

_TRIALS = 24
"""Fixes that are tried out in one run: each takes a tracing of all flows."""
_TRACED = 120_000
"""Flows that all trials of one run may trace together; beyond it fewer are tried, but never fewer than four."""


@dataclass
class Context:
    """What the rules look at: one evaluation, each stage of which is computed when a rule first asks for it."""

    evaluation: Evaluation
    reported: set[str] = field(default_factory=set)
    """What has been found, as `RULE at PATH`; filled before the exceptions are judged."""
    seeks: bool = True
    """Whether remedies are looked for."""
    tells: bool = True
    """Whether what is to be done is told at all, be it in words alone."""
    trials: int = field(init=False)
    """How many fixes may still be tried out."""

    _tried: dict[str, "_Tried"] = field(init=False, default_factory=dict)

    def __post_init__(self) -> None:
        self.trials = self._most if self.seeks else 0

    @property
    def _most(self) -> int:
        """Estates that may be traced again."""
        return max(4, min(_TRIALS, _TRACED // max(1, len(self.estate.flows))))

    @property
    def described(self) -> Described:
        return self.evaluation.described

    @property
    def estate(self) -> Estate:
        return self.described.estate

    @property
    def paths(self) -> Paths:
        return self.evaluation.paths

    def of(self, role: type[Role]) -> Iterator[tuple[str, Role]]:
        """The exits that play a role, by name."""
        for name, exit_ in self.estate.exits.items():
            if isinstance(exit_, role):
                yield name, exit_

    def traces(self, subnet: str, destination: str, public_host: bool, workload: str) -> list[Trace]:
        """The traces from a subnet to a destination, whether or not a flow of the workload goes there."""
        return [trace for trace, _ in traces_to(self._tracer, Sending(subnet, destination, public_host, workload))]

    @cached_property
    def _tracer(self) -> Tracer:
        return Tracer(self.described)

    def ending(self, *verdicts: Verdict) -> Iterator[FlowPath]:
        """The paths that end so, verdict by verdict."""
        for verdict in verdicts:
            yield from self.paths.where(lambda trace, verdict=verdict: trace.verdict is verdict)  # type: ignore[misc]

    def place(self, *path: str | int) -> Place:
        return self.described.place(*path)

    def first_that_cures(
        self,
        flow: str,
        fixes: Iterable[Fix],
        need: str = "arrives",
        also: Callable[[Paths], bool] = lambda paths: True,
    ) -> Fix | None:
        """The first fix with which a flow arrives, meets a need, and no other flow loses anything; None for none.

        `also` is what must hold of the paths afterwards beside that.
        """
        for fix in fixes:
            if (with_it := self._with(fix)) is None:
                return None
            if self._cures(flow, with_it, need, also):
                return fix
        return None

    def _with(self, fix: Fix) -> "_Tried | None":
        """The estate with a fix, once for all flows that it is tried for; None: no trial is left."""
        key = json.dumps(fix, sort_keys=True)
        if key not in self._tried:
            if self.trials <= 0:
                return None
            self.trials -= 1
            try:
                self._tried[key] = _Tried(self.described.patched(fix, "a remedy"))
            except UnusableInput:
                self._tried[key] = _Tried(None)
        return self._tried[key]

    def reaches(self, workload: str, destination: str, fix: Fix) -> bool:
        """Whether a workload reaches a destination from all its subnets with a fix."""
        if not self.seeks:
            return False
        try:
            described = self.described.patched(fix, "a remedy")
        except UnusableInput:
            return False
        stated, tracer = described.estate.workloads[workload], Tracer(described)
        return all(
            trace.verdict.arrives
            for subnet in stated.subnets
            for trace, _ in traces_to(tracer, Sending(subnet, destination, stated.public_address, workload))
        )

    def gets_anywhere(self, workload: str, destination: str, fix: Fix) -> bool:
        """Whether what a workload sends gets to any of a destination from any of its subnets with a fix."""
        described = self.described.patched(fix, "a remedy")
        stated, tracer = described.estate.workloads[workload], Tracer(described)
        return any(
            trace.verdict.gets_there
            for subnet in stated.subnets
            for trace, _ in traces_to(tracer, Sending(subnet, destination, stated.public_address, workload))
        )

    def breaks_nothing(self, fix: Fix) -> bool:
        """Whether with a fix no flow loses its path, and none breaks a need that it does not break now."""
        return self.seeks and self._none_lost(flow_paths(self.described.patched(fix, "a remedy")))

    def _none_lost(self, after: Paths) -> bool:
        lost, broken = self._now
        if any(share > lost.get(key, 0) for key, share in after.lost_shares.items()):
            return False
        return self._broken(after) <= broken

    def _broken(self, paths: Paths) -> set[tuple[str, str]]:
        """The needs that flows break on some paths; where flows are to survive faults, those too."""
        if not self.evaluation.surviving.faults:
            return {(one.flow, one.need) for one in every_broken_need(paths)}
        evaluation = self.evaluation if paths is self.paths else evaluate(paths.described, like=self.evaluation)
        return {*evaluation.broken_on_paths}

    @cached_property
    def _now(self) -> tuple[dict[tuple[str, str], Fraction], set[tuple[str, str]]]:
        """What does not arrive as it is, and which needs each flow breaks: what is lost now survives nothing either."""
        lost, broken = self.paths.lost_shares, self._broken(self.paths)
        return lost, broken | {(flow, need) for flow, _ in lost for need in ("survives", "availability")}

    @cached_property
    def after_losses(self) -> tuple[Paths, ...]:
        """The paths after the loss of each exit that flows use and whose routes go with it: others may take over."""
        used = {name for trace in self.paths.examples for name in trace.exits} & self.estate.exits.keys()
        withdrawn = [name for name, one in self.estate.exits.items() if name in used and (one.sessions or one.offered)]
        found = []
        # What is found does not hang on whether remedies are looked for.
        for name in withdrawn[: self._most]:
            try:
                found.append(flow_paths(self.described.struck({"exits": {name: None}}, f"{name} lost")))
            except UnusableInput:
                # What hangs on it is lost with it, so that nothing there takes over.
                continue
        return tuple(found)

    def evaluated(self, fix: Fix) -> Evaluation:
        """The evaluation of the estate with a fix."""
        return evaluate(self.described.patched(fix, "a remedy"))

    def _cures(self, flow: str, tried: "_Tried", need: str, also: Callable[[Paths], bool]) -> bool:
        if tried.described is None:
            return False
        # Most of what is tried does not even bring the flow there: only what does is tried on all the others.
        some = tried.paths or flow_paths(tried.described, [flow])
        if not all(path.example.verdict.arrives for path in some.by_flow[flow]):
            return False
        tried.paths = tried.paths or flow_paths(tried.described)
        if not also(tried.paths) or {"arrives", need} & {one.need for one in broken_needs(tried.paths, flow)}:
            return False
        if tried.is_harmless is None:
            tried.is_harmless = self._none_lost(tried.paths)
        return tried.is_harmless

    def defaults_for(self, subnet: str) -> Iterator[Fix]:
        """Ways to give a subnet a default: to translating exits of its network, those of its own zone first."""
        stated = self.estate.subnets[subnet]
        fitting = [
            name
            for name, one in self.estate.exits.items()
            if one.translates and one.fixed_source and not one.fault and self.estate.network_of(one) == stated.network
        ]
        fitting.sort(key=lambda name: stated.zone not in self.estate.zones_of(self.estate.exits[name]))
        table = self.estate.table_of(subnet)
        for name in fitting:
            if table is not None:
                yield {"route_tables": {table: {"0.0.0.0/0": name}}}
            else:
                yield {
                    "route_tables": {f"{subnet}-routes": {"0.0.0.0/0": name}},
                    "subnets": {subnet: {"routes": f"{subnet}-routes"}},
                }


@dataclass
class _Tried:
    """An estate with a fix, and what was found out about it."""

    described: Described | None
    """None: it would not be one."""
    paths: Paths | None = None
    """None: not traced whole yet."""
    is_harmless: bool | None = None
    """Whether no flow loses anything; None: not asked yet."""


def in_table_of(estate: Estate, subnet: str, routes: Mapping[str, str]) -> Fix:
    """The fix that puts routes into the table of a subnet; one without a table gets its own."""
    table = estate.table_of(subnet)
    if table is not None:
        return {"route_tables": {table: {**routes}}}
    own = f"{subnet}-routes"
    return {"subnets": {subnet: {"routes": own}}, "route_tables": {own: {**routes}}}


@dataclass(frozen=True)
class Doubt:
    """What a rule found, before its name and severity are added; `fix`: the remedy as a merge patch."""

    place: Place
    cause: str
    remedy: str
    fix: Fix | None = None


@dataclass(frozen=True)
class Rule:
    """One rule: name, severity, one sentence, and the function that finds."""

    name: str
    severity: Severity
    about: str
    """One sentence: what it finds."""
    example: str
    """An entry of an estate that it finds."""
    find: Callable[[Context], Iterator[Doubt]]
    is_verdict: bool = False
    """Whether it says in words what the engine's verdicts say: flows lost, needs broken, exits that lack something."""

    def findings(self, context: Context) -> Iterator[Finding]:
        """All findings of this rule."""
        for doubt in self.find(context):
            yield Finding(self.name, self.severity, doubt.place, doubt.cause, doubt.remedy, fix=doubt.fix)
