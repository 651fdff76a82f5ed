"""A second draft against an estate that a first one began and a person went on with: what newer files tell, as a patch.

What was drafted is kept beside the estate, each value that any draft had. A value that stands in the estate as it was
drafted may be changed by the patch; what a person wrote, or took out, is never touched, and listed where files tell
something else.
"""

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.records.existing.draft import ASSUMED, Draft
from fenrask.records.existing.facts import Fact, Facts, Steps, spelled

__all__ = ["FIRST", "Drafted", "Update", "known_of", "updated"]

FIRST = "the estate"
"""Where values are from that the estate had before."""


@dataclass
class Drafted:
    """Every value that drafts had, by its steps, and where the last of them was from."""

    values: dict[Steps, list[Any]] = field(default_factory=dict)
    where: dict[Steps, str] = field(default_factory=dict)

    def take(self, draft: Draft) -> None:
        """Add the values of a draft, but for those that were in the estate."""
        for steps, value in _leaves(draft.data):
            at = _at(steps, draft)
            if at != FIRST:
                several = self.values.setdefault(steps, [])
                if not any(spelled(one) == spelled(value) for one in several):
                    several.append(value)
                self.where[steps] = at

    def had(self, steps: Steps, value: Any) -> bool:
        """Whether any draft had this value there."""
        return any(spelled(one) == spelled(value) for one in self.values.get(steps, ()))

    def text(self) -> str:
        """As it is kept in a file."""
        rows = [[[*steps], values, self.where.get(steps, "")] for steps, values in self.values.items()]
        lines = ",\n".join(json.dumps(row, default=str) for row in rows)
        return f'{{"drafted": 1, "values": [\n{lines}\n]}}\n'

    @classmethod
    def read(cls, text: str, file: str) -> "Drafted":
        """From a file; UnusableInput where it is another one."""
        found = cls()
        try:
            whole = json.loads(text)
            if whole["drafted"] != 1:
                raise ValueError("another version")
            for steps, values, where in whole["values"]:
                found.values[tuple(map(str, steps))] = list(values)
                found.where[tuple(map(str, steps))] = str(where)
        except (ValueError, KeyError, TypeError, RecursionError):
            expected = "what `fenrask start --from` kept of its draft"
            raise UnusableInput([Problem(Place(file), "something else", expected)]) from None
        return found


@dataclass(frozen=True)
class Update:
    """What a newer draft changes, and where a person's own values stay although files tell others."""

    patch: dict[str, Any]
    kept: list[tuple[Steps, Any, Fact]]


def known_of(data: Mapping[str, Any], facts: Facts) -> None:
    """Let what an estate says stand for what newer files do not tell."""
    for section, entries in data.items():
        if not isinstance(entries, Mapping):
            continue
        for name, entry in entries.items():
            values = entry if isinstance(entry, Mapping) else {}
            for key, value in values.items():
                facts.told.setdefault((section, str(name), str(key)), Fact(value, FIRST))


def updated(data: Mapping[str, Any], draft: Draft, before: Drafted, files: Mapping[str, str]) -> Update:
    """What the draft would change in an estate; `files`: those that were read, by their names."""
    patch: dict[str, Any] = {}
    kept = list[tuple[Steps, Any, Fact]]()
    mine, told = dict(_leaves(data)), dict(_leaves(draft.data))
    for steps, value in told.items():
        at = _at(steps, draft)
        if at in (FIRST, ASSUMED) or len(steps) < 2 or (steps in mine and spelled(mine[steps]) == spelled(value)):
            continue
        removed = steps not in mine and before.had(steps, value)
        if removed or (steps in mine and not before.had(steps, mine[steps])):
            kept.append((steps, mine.get(steps), Fact(value, at)))
            continue
        _set(patch, steps, value)
    for steps, value in mine.items():
        gone = steps not in told or _at(steps, draft) == FIRST
        if gone and before.had(steps, value) and _was_told_again(before.where.get(steps, ""), files):
            _set(patch, steps, None)
    return Update(_whole_entries(patch, mine, data), kept)


def _was_told_again(where: str, files: Mapping[str, str]) -> bool:
    """Whether a file of the same name was read, which does not tell the value any more."""
    return any(where == name or where.startswith(f"{name} ") for name in files)


def _whole_entries(patch: dict[str, Any], mine: Mapping[Steps, Any], data: Mapping[str, Any]) -> dict[str, Any]:
    """An entry all of whose values go, goes itself."""
    for section, entries in patch.items():
        for name, values in entries.items():
            stated = data.get(section, {}).get(name, {}) if isinstance(data.get(section), Mapping) else {}
            goes = isinstance(values, Mapping) and values and all(one is None for one in values.values())
            if goes and {*map(str, stated)} <= {*values}:
                entries[name] = None
    return patch


def _set(patch: dict[str, Any], steps: Steps, value: Any) -> None:
    whole = patch
    for step in steps[:-1]:
        whole = whole.setdefault(step, {})
    whole[steps[-1]] = value


def _leaves(data: Mapping[str, Any]) -> Iterator[tuple[Steps, Any]]:
    """Every value by section, name and key; what lies deeper is one value."""
    for section, entries in data.items():
        if not isinstance(entries, Mapping):
            yield (str(section),), entries
            continue
        for name, entry in entries.items():
            if not isinstance(entry, Mapping):
                yield (str(section), str(name)), entry
            for key, value in entry.items() if isinstance(entry, Mapping) else ():
                yield (str(section), str(name), str(key)), value


def _at(steps: Steps, draft: Draft) -> str:
    """Where a value of a draft is from; of one that is made of several, where the first is from."""
    if steps in draft.where:
        return draft.where[steps]
    return next((at for one, at in draft.where.items() if one[: len(steps)] == steps), FIRST)
