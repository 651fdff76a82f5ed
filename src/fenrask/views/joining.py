"""Rows that say the same of several things, as one row for people; machines get each."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from fenrask.views.cells import shown
from fenrask.views.page import MACHINES, Column, Table

__all__ = ["joined_rows"]

_MOST = 3
"""Names that a joined row tells, and how many more there are."""


def joined_rows(table: Table) -> Table:
    """The table with rows as one that differ in `table.joined` alone, of what people see; in the order of the first.

    Their names stand in one cell, those of a paragraph line by line.
    """
    if not table.joined:
        return table
    alike: dict[tuple[str, ...], list[Sequence[Any]]] = {}
    for row in table.rows:
        alike.setdefault(_rest(table, row), []).append(row)
    if len(alike) == len(table.rows):
        return table
    columns = tuple(
        replace(one, kind="text") if one.key in table.joined and not one.is_number else one for one in table.columns
    )
    return replace(table, columns=columns, rows=[_as_one(table, rows) for rows in alike.values()])


def _rest(table: Table, row: Sequence[Any]) -> tuple[str, ...]:
    """What people see of a row beside what may differ."""
    return tuple(
        shown(column, value)
        for column, value in zip(table.columns, row, strict=True)
        if column.key not in table.joined and column.least_width < MACHINES
    )


def _as_one(table: Table, rows: Sequence[Sequence[Any]]) -> list[Any]:
    row, last = [*rows[0]], ""
    for number, column in reversed([*enumerate(table.columns)]):
        if column.key not in table.joined:
            continue
        texts = [*dict.fromkeys(text for one in rows if (text := shown(column, one[number])))]
        if not table.as_blocks or column.below:
            row[number] = _told(column, texts, _MOST)
        else:
            # On the first line of a paragraph, the last cell alone says that there are others.
            row[number] = _told(column, texts, 2 if len(texts) <= 2 else 1) if not last else texts[0]
            last = last or column.key
    return row


def _told(column: Column, texts: Sequence[str], most: int) -> str:
    """Texts in one cell, at most so many where it is not one more that is left."""
    if len(texts) > most + (most > 1):
        more = f"{len(texts) - most:,} more"
        texts = [*texts[:most], f"and {more}: --all" if column.below else more]
    return ("\n" if column.below else ", ").join(texts)
