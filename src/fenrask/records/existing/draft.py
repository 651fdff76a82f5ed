"""An estate that is being put together: its values, where each is from, and what was assumed for want of being told."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from fenrask.records.existing.facts import Fact, Steps

__all__ = ["ASSUMED", "CATALOGUE", "Assumed", "Draft"]

ASSUMED = "assumed"
"""Where a value is from that nobody told."""
CATALOGUE = "catalogue:"
"""How steps begin that are of the catalogue."""


@dataclass(frozen=True)
class Assumed:
    """Something that nobody told: where in the estate, what is used instead, and why; empty for nothing."""

    steps: Steps
    value: Any
    why: str


@dataclass
class Draft:
    """The estate and its catalogue as plain values."""

    data: dict[str, Any] = field(default_factory=dict)
    catalogue: dict[str, Any] = field(default_factory=dict)
    where: dict[Steps, str] = field(default_factory=dict)
    """By the steps to a value; those of the catalogue begin with `CATALOGUE`."""
    assumed: list[Assumed] = field(default_factory=list)
    beside: dict[str, bytes] = field(default_factory=dict)
    """Files that the estate refers to, by name."""
    bills: set[str] = field(default_factory=set)
    """The names of the files that rates were drawn from."""

    def put(self, *steps: str, value: Any, where: str) -> None:
        """Set a value, and keep where it is from."""
        whole: dict[str, Any] = self.catalogue if steps[0] == CATALOGUE else self.data
        inner = steps[1:] if steps[0] == CATALOGUE else steps
        for step in inner[:-1]:
            whole = whole.setdefault(step, {})
        whole[inner[-1]] = value
        self.where[steps] = where
        if len(steps) > 3 and steps[:3] in self.where and steps[0] != CATALOGUE:
            # A part of a value that was set whole is from elsewhere now.
            self.where[steps[:3]] = where

    def rename_loads(self, name: str, other: str) -> None:
        """Let flows refer to another file of measured loads."""
        for flow in self.of("flows").values():
            if flow.get("measured") == name:
                flow["measured"] = other

    def take(self, section: str, name: str, facts: Mapping[str, Fact]) -> None:
        """Set what was told of an entry."""
        for key, fact in facts.items():
            self.put(section, name, key, value=fact.value, where=fact.where)

    def assume(self, *steps: str, value: Any, why: str) -> None:
        """Set a value that nobody told."""
        self.put(*steps, value=value, where=ASSUMED)
        self.assumed.append(Assumed(steps, value, why))

    def lack(self, *steps: str, why: str) -> None:
        """List something that nobody told and that nothing can stand for."""
        self.assumed.append(Assumed(steps, None, why))

    def drop(self, section: str, name: str, why: str) -> None:
        """Take an entry out that does not hold together, and list why."""
        self.data.get(section, {}).pop(name, None)
        self.where = {steps: at for steps, at in self.where.items() if steps[:2] != (section, name)}
        self.lack(section, name, why=why)

    def of(self, section: str) -> dict[str, Any]:
        """The entries of a section."""
        found: dict[str, Any] = self.data.setdefault(section, {})
        return found
