"""Tables as texts under headings, from CSV or from a list of entries in JSON."""

import csv
import io
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

__all__ = ["Sheet", "sheet_of_entries", "sheet_of_text"]


@dataclass(frozen=True)
class Sheet:
    """A table: its headings, its rows as texts by heading, each with its number, and what a row is called."""

    heading: tuple[str, ...]
    rows: Callable[[], Iterator[tuple[int, Mapping[str, str]]]]
    unit: str = "row"


def sheet_of_text(text: str) -> Sheet:
    """A table as CSV, or what else parts its columns."""
    whole = text.lstrip("\ufeff")
    first = re.split(r"[\r\n]", whole, maxsplit=1)[0].strip()
    parted = max(",\t;", key=first.count)

    def rows() -> Iterator[tuple[int, Mapping[str, str]]]:
        lines = csv.DictReader(io.StringIO(whole, newline=""), delimiter=parted)
        for line in lines:
            cells = {key: cell or "" for key, cell in line.items() if key and isinstance(cell, str | None)}
            yield lines.line_num, cells

    return Sheet(tuple(next(csv.reader([first], delimiter=parted), [])), rows)


def sheet_of_entries(data: Any) -> Sheet | None:
    """A list of mappings, as JSON has it, or the only such list inside a mapping; None for anything else."""
    if isinstance(data, Mapping):
        lists = [one for one in data.values() if isinstance(one, list) and one and isinstance(one[0], Mapping)]
        data = lists[0] if len(lists) == 1 else None
    if not isinstance(data, list) or not data or not all(isinstance(one, Mapping) for one in data):
        return None
    rows = [dict(_flat(entry)) for entry in data]
    return Sheet(tuple(dict.fromkeys(key for row in rows for key in row)), lambda: enumerate(rows, 1), "entry")


def _flat(entry: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Texts by heading: what a mapping has inside is `outer.inner`, labels listed as keys and values among it."""
    for key, value in entry.items():
        if isinstance(value, list) and value and all(isinstance(one, Mapping) and "value" in one for one in value):
            value = {str(one.get("key", one.get("name"))): one["value"] for one in value}
        if isinstance(value, Mapping):
            yield from ((f"{key}.{inner}", _cell(one)) for inner, one in value.items())
        else:
            yield str(key), _cell(value)


def _cell(value: Any) -> str:
    if isinstance(value, list) and all(isinstance(one, str | int) for one in value):
        return ", ".join(map(str, value))
    if value is None or isinstance(value, list | Mapping):
        return ""
    return str(value).lower() if isinstance(value, bool) else str(value)
