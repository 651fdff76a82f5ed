"""What a rule of `check` is: a function from the case to its findings."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

from fenrask.errors import Place
from fenrask.estate import Described, Estate
from fenrask.findings import Finding, Severity
from fenrask.routing.ways import Ways, flow_ways

__all__ = ["Case", "Doubt", "Rule"]


@dataclass(frozen=True)
class Case:
    """What the rules look at: the estate as described, and the ways of its flows, walked once."""

    described: Described

    @property
    def estate(self) -> Estate:
        return self.described.estate

    @cached_property
    def ways(self) -> Ways:
        return flow_ways(self.described)

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
    find: Callable[[Case], Iterator[Doubt]]

    def findings(self, case: Case) -> Iterator[Finding]:
        """All findings of this rule."""
        for doubt in self.find(case):
            yield Finding(self.name, self.severity, doubt.place, doubt.cause, doubt.remedy)
