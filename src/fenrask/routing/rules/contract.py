"""What a rule of `check` is: a function from the case to its findings."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import TypeVar

from fenrask.errors import Place
from fenrask.estate import Described, Estate, ExitModel
from fenrask.findings import Finding, Severity
from fenrask.routing.packets import Verdict, Walk
from fenrask.routing.walk import Walker
from fenrask.routing.ways import Way, Ways, flow_ways, walks_to

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
        for name, way_out in self.estate.exits.items():
            if isinstance(way_out, kind):
                yield name, way_out

    @cached_property
    def ways(self) -> Ways:
        return flow_ways(self.described)

    def walks(self, subnet: str, destination: str, public_host: bool) -> list[Walk]:
        """The ways from a subnet to a destination, whether or not a flow goes there."""
        return [walk for walk, _ in walks_to(self._walker, subnet, destination, public_host)]

    @cached_property
    def _walker(self) -> Walker:
        return Walker(self.described)

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
    def by_verdict(self) -> dict[Verdict, list[Way]]:
        """The ways by how they end."""
        found: dict[Verdict, list[Way]] = {}
        for way in self.ways.ways:
            found.setdefault(way.walk.verdict, []).append(way)
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
