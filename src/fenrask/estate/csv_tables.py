"""Sections kept as CSV beside the estate (RFC 4180), since inventories live in spreadsheets.

The first column is `name`; each other heading is a key, with dots for keys inside (`tags.cost_centre`)
and `[]` behind it for a list, whose entries have blanks between (`subnets[]`). Cells are read like YAML
scalars; an empty one says nothing. Two sections have shapes of their own: `route_tables` has a row for
each route (`name`, `to`, `exit`, `origin`), and a row of `profiles` is a name and its multipliers in order.
"""

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import zip_longest
from pathlib import Path
from typing import Any

from fenrask.errors import Place, Problem
from fenrask.estate.rows import Rows
from fenrask.estate.yaml_tree import scalar

__all__ = ["CsvTree", "inside", "read_table"]

Steps = tuple[str | int, ...]


@dataclass(frozen=True)
class CsvTree:
    """A table, kept to answer where the value of a path stands."""

    file: str
    section: str
    columns: dict[str, int] = field(default_factory=dict)
    """The column number of each key, lists without their brackets."""
    lines: dict[str, int] = field(default_factory=dict)
    """The line of each name."""

    @property
    def root(self) -> object:
        return self

    def find(self, path: Steps) -> tuple[Any, int]:
        """The line and column of the deepest part of `path` that exists, and the depth."""
        if len(path) < 2 or path[0] != self.section or str(path[1]) not in self.lines:
            return (1, 1), -1
        line = self.lines[str(path[1])]
        for depth in range(len(path), 2, -1):
            key = ".".join(str(step) for step in path[2:depth] if not isinstance(step, int))
            if key in self.columns:
                return (line, self.columns[key]), depth
        return (line, 1), 2

    def place(self, path: Steps) -> Place:
        """Where the value stands: its line, and the number of its column."""
        (line, column), _ = self.find(path)
        return Place(self.file, line, column, ".".join(map(str, path)))


# A cell may be as long as a file: the reader's own limit would end in an error of its own.
csv.field_size_limit(2**28)


def read_table(text: str, file: str, section: str, problems: list[Problem]) -> tuple[Mapping[str, Any], CsvTree]:
    """A section's entries by name, and where they stand; flows as columns where their cells are plain values."""
    rows = csv.reader(io.StringIO(text, newline=""))
    heading = next(rows, [])
    tree = CsvTree(file, section, {_key(one): number for number, one in enumerate(heading, 1)})
    if len(heading) == 1 and (other := next((one for one in ";\t|" if one in heading[0]), "")):
        remedy = "Save it with commas between columns, and points in numbers."
        problems.append(Problem(Place(file, 1, 1), f"columns with {other!r} between them", "commas", remedy))
        return {}, tree
    if not heading or heading[0].strip() != "name":
        found = repr(heading[0]) if heading else "an empty file"
        problems.append(Problem(Place(file, 1, 1), found, "the heading `name`", "Call the first column `name`."))
        return {}, tree
    paths = [(_key(one).split("."), one.strip().endswith("[]")) for one in heading]
    # Of profiles the columns are read by their order; a column without a heading says nothing.
    if section != "profiles" and (clash := _clash([keys for keys, _ in paths if keys != [""]])):
        remedy = "A key has a value or keys inside it: keep one of the columns."
        problems.append(Problem(Place(file, 1, 1), f"the columns `{clash[0]}` and `{clash[1]}`", "one of them", remedy))
        return {}, tree
    every = [(row, rows.line_num) for row in rows if row and (row[0] or any(row))]
    if section == "flows" and (columns := _columns(every, paths, tree)):
        return columns, tree
    entries: dict[str, Any] = {}
    for row, line in every:
        name = row[0].strip()
        twice = name in entries and section != "route_tables"
        if len(row) > len(heading) or not name or twice:
            problems.append(_row_problem(Place(file, line, 1), row, heading, name, tree))
            continue
        tree.lines.setdefault(name, line)
        if section == "route_tables":
            _add_route(entries.setdefault(name, {}), _entry(row, paths))
        elif section == "profiles":
            entries[name] = [scalar(cell.strip()) for cell in row[1:] if cell.strip()]
        else:
            entries[name] = _entry(row, paths)
    return entries, tree


def _clash(paths: Sequence[list[str]]) -> tuple[str, str] | None:
    """Two columns of which one is a key inside the other, or the same."""
    known = {tuple(keys): ".".join(keys) for keys in reversed(paths)}
    for number, keys in enumerate(paths):
        for end in range(1, len(keys) + 1):
            outer = known.get(tuple(keys[:end]))
            if outer is not None and (end < len(keys) or keys in paths[:number]):
                return outer, ".".join(keys)
    return None


def _columns(
    every: Sequence[tuple[list[str], int]], paths: Sequence[tuple[list[str], bool]], tree: CsvTree
) -> Rows | None:
    """Rows as columns; None where a key lies inside another or holds a list, or where rows are at fault."""
    keys = [keys[0] for keys, _ in paths]
    if len(set(keys)) < len(keys) or any(len(inner) > 1 or is_list for inner, is_list in paths):
        return None
    if max((len(row) for row, _ in every), default=0) > len(keys):
        return None
    cells = zip_longest(*(row for row, _ in every), fillvalue="")
    columns = {key: [*map(str.strip, column)] for key, column in zip(keys, cells, strict=False)}
    names = columns.pop(keys[0], [])
    if "" in names or len(set(names)) < len(names):
        return None
    tree.lines.update(zip(names, (line for _, line in every), strict=True))
    return Rows(names, columns)


def _add_route(table: dict[str, Any], row: dict[str, Any]) -> None:
    """One more route of a table; a second one to the same prefix makes a list."""
    to = str(row.pop("to", ""))
    route = row.get("exit", "") if len(row) < 2 else row
    if to not in table:
        table[to] = route
        return
    before = table[to] if isinstance(table[to], list) else [table[to]]
    table[to] = [one if isinstance(one, dict) else {"exit": one} for one in (*before, route)]


def inside(folder: Path, stated: str) -> Path | None:
    """The path of a table beside the estate; None where it leaves the estate's folder."""
    try:
        file = (folder / stated).resolve()
    except (OSError, ValueError):
        return None
    return file if file.is_relative_to(folder.resolve()) else None


def _key(heading: str) -> str:
    return heading.strip().removesuffix("[]")


def _entry(row: list[str], paths: list[tuple[list[str], bool]]) -> dict[str, Any]:
    entry: dict[str, Any] = {}
    for (keys, is_list), cell in zip(paths[1:], row[1:], strict=False):
        text = cell.strip()
        if not text:
            continue
        here = entry
        for key in keys[:-1]:
            here = here.setdefault(key, {})
        here[keys[-1]] = [scalar(one) for one in text.split()] if is_list else scalar(text)
    return entry


def _row_problem(place: Place, row: list[str], heading: list[str], name: str, tree: CsvTree) -> Problem:
    if len(row) > len(heading):
        return Problem(place, f"{len(row)} cells", f"at most {len(heading)}", "Quote cells that hold a comma.")
    if not name:
        return Problem(place, "a row without a name", "a name in the first cell", "Name it, or remove the row.")
    return Problem(place, f"the name {name!r} twice", "each name once", f"It stands in line {tree.lines[name]} too.")
