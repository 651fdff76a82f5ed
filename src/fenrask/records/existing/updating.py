"""A second draft against an estate that a first one began and a person went on with: what newer files tell, as a patch.

What was drafted is kept beside the estate, each value that any draft had. A value that stands in the estate as it was
drafted may be changed by the patch; what a person wrote, or took out, is never touched, and listed where files tell
something else.
"""

import json
from collections.abc import Iterator, Mapping
from copy import deepcopy
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.inputs import json_values
from fenrask.records.existing.draft import ASSUMED, CATALOGUE, Draft
from fenrask.records.existing.facts import Fact, Facts, Steps, spelled

if TYPE_CHECKING:
    from fenrask.records.existing.files import Files

__all__ = ["FIRST", "Drafted", "Update", "known_of", "other_rates", "updated"]

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
            whole = json_values(text)
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
    facts.from_files |= {steps[:2] for steps in facts.told} | {steps for steps in facts.told if steps[0] == _TABLES}
    for section, entries in data.items():
        if not isinstance(entries, Mapping):
            continue
        for name, entry in entries.items():
            if not isinstance(entry, Mapping):
                facts.told.setdefault((section, str(name)), Fact(entry, FIRST))
                continue
            for key, value in entry.items():
                # A draft writes into what it is given, and the estate is what it is held against.
                facts.told.setdefault((section, str(name), str(key)), Fact(deepcopy(value), FIRST))


def updated(data: Mapping[str, Any], draft: Draft, before: Drafted, files: "Files") -> Update:
    """What the draft of some files would change in an estate."""
    patch: dict[str, Any] = {}
    kept = list[tuple[Steps, Any, Fact]]()
    mine = dict(_leaves(data))
    for steps, value in _leaves(draft.data):
        at = _at(steps, draft)
        if at in (FIRST, ASSUMED) or len(steps) < 2 or (steps in mine and spelled(mine[steps]) == spelled(value)):
            continue
        removed = steps not in mine and before.had(steps, value)
        if removed or (steps in mine and not before.had(steps, mine[steps])):
            kept.append((steps, mine.get(steps), Fact(value, at)))
            continue
        _set(patch, steps, value)
    for steps in _gone(mine, before, files):
        own = {one: value for one, value in mine.items() if one[: len(steps)] == steps}
        if all(before.had(one, value) for one, value in own.items()):
            _set(patch, steps, None)
        else:
            kept.append((steps, "as it is", Fact("nothing of it any more", before.where[next(iter(own))])))
    return Update(patch, kept)


def other_rates(stated: Mapping[str, Any], draft: Draft) -> list[tuple[Steps, Any, Fact]]:
    """What a catalogue says, and a bill tells otherwise: the patch of an estate cannot change it."""
    found = []
    for steps, at in draft.where.items():
        if steps[0] != CATALOGUE or at == ASSUMED or not at.startswith(tuple(_of_bill(draft))):
            continue
        value, mine = _value(draft.catalogue, steps[1:]), _value(stated, steps[1:])
        if steps[-1] not in _NOT_RATES and mine is not None and spelled(mine) != spelled(value):
            found.append((steps, mine, Fact(value, at)))
    return found


_NOT_RATES = ("read_on",)


def _of_bill(draft: Draft) -> list[str]:
    """The names of the bills that rates are from."""
    return [*draft.bills] or ["\0"]


def _value(whole: Any, steps: Steps) -> Any:
    for step in steps:
        whole = whole.get(step) if isinstance(whole, Mapping) else None
    return whole


_TABLES = "route_tables"


def _gone(mine: Mapping[Steps, Any], before: Drafted, files: "Files") -> list[Steps]:
    """The entries, and the routes, that an inventory told of which tells nothing of them any more.

    Records of another day may lack what those of the first had: what they told stays.
    """
    again = [Path(file).name for file in files.kinds if file not in files.records]
    told: dict[Steps, list[str]] = {}
    for steps in mine:
        entry = steps if steps[0] == _TABLES else steps[:2]
        if (where := before.where.get(steps, "")) and entry not in files.facts.from_files:
            told.setdefault(entry, []).append(where)
    return [
        entry
        for entry, places in told.items()
        # What another file told a part of may be there still.
        if all(any(where == name or where.startswith(f"{name} ") for name in again) for where in places)
    ]


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
