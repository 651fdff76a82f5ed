"""The rows of a page that are about chosen exits, flows, networks or workloads."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from fenrask.views.page import Page, Table

if TYPE_CHECKING:
    from fenrask.routing import Paths

__all__ = ["NOUNS", "Selection", "selected"]

NOUNS = {
    "exit": "exits",
    "flow": "flows",
    "network": "networks",
    "workload": "workloads",
}
"""What rows can be chosen by, and the section of the estate that names them."""

_COLUMNS = {
    "exit": "exit",
    "exits": "exit",
    "flow": "flow",
    "flows": "flow",
    "workload": "workload",
    "network": "network",
    "subnet": "subnet",
    "subnets": "subnet",
    "destination": "destination",
}
"""What the names in a column of a key are."""
_SECTIONS = {
    "exits": "exit",
    "flows": "flow",
    "networks": "network",
    "workloads": "workload",
    "subnets": "subnet",
    "destinations": "destination",
}


@dataclass(frozen=True)
class Selection:
    """The names asked for, by noun, and all that goes with them: the exits of a flow, the flows of a network, ..."""

    asked: Mapping[str, Sequence[str]]
    related: Mapping[str, frozenset[str]]

    @classmethod
    def of(cls, paths: "Paths", asked: Mapping[str, Sequence[str]]) -> "Selection":
        """What goes with the names: from every path that has one of each noun asked for."""
        estate = paths.described.estate
        related: dict[str, set[str]] = {noun: set(names) for noun, names in asked.items()}
        for path in paths.paths:
            flow = estate.flows[path.flow]
            held = {
                "exit": {*path.trace.exits},
                "flow": {path.flow},
                "network": {estate.subnets[path.subnet].network},
                "workload": {flow.workload},
                # Of a flow that comes in, tables have who opens it, and to which port.
                "subnet": {path.subnet, *((flow.from_,) if flow.is_inward else ())},
                "destination": {flow.other_end, flow.ends[1], flow.remote},
            }
            if all(held[noun] & {*names} for noun, names in asked.items()):
                for noun, names in held.items():
                    if noun not in asked:
                        related.setdefault(noun, set()).update(names)
        return cls(asked, {noun: frozenset(names) for noun, names in related.items()})

    @property
    def text(self) -> str:
        """The options as they were given."""
        return " ".join(f"--{noun} {name}" for noun, names in self.asked.items() for name in names)


def selected(page: Page, selection: Selection) -> Page:
    """The page with those rows, and the tables that have any; the summary still speaks of the whole estate."""
    tables = tuple(filter(None, (_table(table, selection) for table in page.tables)))
    summary = (*page.summary, f"Only rows about {selection.text} are shown; the lines above are of the whole estate.")
    return replace(page, summary=summary, tables=tables or (replace(page.tables[0], rows=[], empty="no such row"),))


def _table(table: Table, selection: Selection) -> Table | None:
    keys = [column.key for column in table.columns]
    rows = [row for row in table.rows if _matches(dict(zip(keys, row, strict=True)), selection)]
    return replace(table, rows=rows, behind_all=False) if rows else None


def _matches(row: Mapping[str, Any], selection: Selection) -> bool:
    """Whether all names of a row are among those related; a row without any is not about them."""
    if "rule" in row and "path" in row:
        return _is_about(row, selection)
    related, named = selection.related, False
    for key, value in row.items():
        noun = _COLUMNS.get(key)
        if noun is not None and value:
            named = True
            if not related.get(noun, frozenset()) & {*_names(value)}:
                return False
        elif key == "about":
            return any(value == name for names in related.values() for name in names)
    return named


def _is_about(finding: Mapping[str, Any], selection: Selection) -> bool:
    """Whether a finding stands at one of the names, or says one of those asked for."""
    section, _, rest = finding["path"].partition(".")
    names = selection.related.get(_SECTIONS.get(section, ""), frozenset())
    asked = [name for names in selection.asked.values() for name in names]
    said = any(re.search(rf"(?<![\w-]){re.escape(name)}(?![\w-])", finding["cause"]) for name in asked)
    return rest.partition(".")[0] in names or said


def _names(value: Any) -> Iterator[str]:
    for text in [value] if isinstance(value, str) else value:
        yield from (name.strip() for part in str(text).split(">") for name in part.split(","))
