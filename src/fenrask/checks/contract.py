"""What a rule of `check` is: a function from the case to its findings."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import TypeVar

from fenrask.errors import Place
from fenrask.estate import Described, Estate, ExitModel
from fenrask.findings import Finding, Severity
from fenrask.routing.packets import Trace, Verdict
from fenrask.routing.paths import FlowPath, Paths, flow_paths, traces_to
from fenrask.routing.tracing import Tracer

__all__ = ["Case", "Doubt", "Rule"]

Kind = TypeVar("Kind", bound=ExitModel)


@dataclass(frozen=True)
class Case:
    """What the rules look at: the estate as described, and the ways of its flows, walked once."""

    described: Described
    told: set[str] = field(default_factory=set)
    """What has been found, as `RULE at PATH`; filled before the exceptions are judged."""

    @property
    def estate(self) -> Estate:
        return self.described.estate

    def of(self, kind: type[Kind]) -> Iterator[tuple[str, Kind]]:
        """The exits of one kind, or of a family of kinds, by name."""
        for name, exit_ in self.estate.exits.items():
            if isinstance(exit_, kind):
                yield name, exit_

    @cached_property
    def paths(self) -> Paths:
        return flow_paths(self.described)

    def traces(self, subnet: str, destination: str, public_host: bool) -> list[Trace]:
        """The ways from a subnet to a destination, whether or not a flow goes there."""
        return [trace for trace, _ in traces_to(self._tracer, subnet, destination, public_host)]

    @cached_property
    def _tracer(self) -> Tracer:
        return Tracer(self.described)

    def default_for(self, subnet: str) -> str:
        """How to give a subnet a default: to a translating exit of its network, its own zone first."""
        stated = self.estate.subnets[subnet]
        fitting = [
            name
            for name, one in self.estate.exits.items()
            if one.translates and one.fixed_source and self.estate.network_of(one) == stated.network
        ]
        fitting.sort(key=lambda name: stated.zone not in self.estate.zones_of(self.estate.exits[name]))
        exit_name = fitting[0] if fitting else "a translating exit of its network"
        table = self.estate.table_of(subnet) or f"a new table, named by subnets.{subnet}.routes"
        return f"Add to route_tables.{table}: `0.0.0.0/0: {exit_name}`."

    @cached_property
    def by_verdict(self) -> dict[Verdict, list[FlowPath]]:
        """The ways by how they end."""
        found: dict[Verdict, list[FlowPath]] = {}
        for path in self.paths.paths:
            found.setdefault(path.trace.verdict, []).append(path)
        return found

    def place(self, *path: str | int) -> Place:
        return self.described.place(*path)


@dataclass(frozen=True)
class Doubt:
    """What a rule found, before its name and severity are added."""

    place: Place
    cause: str
    remedy: str


@dataclass(frozen=True)
class Rule:
    """One rule: name, severity, one sentence, and the function that finds."""

    name: str
    severity: Severity
    about: str
    """One sentence: what it finds."""
    example: str
    """An entry of an estate that it finds."""
    find: Callable[[Case], Iterator[Doubt]]

    def findings(self, case: Case) -> Iterator[Finding]:
        """All findings of this rule."""
        for doubt in self.find(case):
            yield Finding(self.name, self.severity, doubt.place, doubt.cause, doubt.remedy)
