"""Tables for a terminal, as wide as it is."""

import io
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal

from rich.box import Box
from rich.console import Console
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from fenrask.units import counted
from fenrask.views.cells import shown, shown_columns
from fenrask.views.formats.contract import Rendering, readable
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["render"]

_GAP = 2
_NOT_COUNTED = 10
"""Reasons why something is not counted that are told without `--all`."""
_KEPT_COLUMNS = 2
"""So many columns are shown at any width, though their words be broken."""
_STYLES = {"error": "bold red", "warning": "yellow", "note": "cyan"}
_RULE_UNDER_HEADINGS = Box("    \n    \n ── \n    \n    \n    \n    \n    \n")


def render(page: Page, rendering: Rendering) -> str:
    """The answer, then each table under its title, then what was left out."""
    page = readable(page)
    buffer = io.StringIO()
    console = Console(
        file=buffer,
        width=rendering.width,
        force_terminal=rendering.colour,
        no_color=not rendering.colour,
        highlight=False,
        emoji=False,
        markup=False,
        legacy_windows=False,
    )
    for line in page.summary:
        console.print(Text(line, style="bold"))
    behind = [] if rendering.all_rows else [table for table in page.tables if table.behind_all and table.rows]
    for table in page.tables:
        if table in behind:
            continue
        if page.summary or table is not page.tables[0]:
            console.print()
        if table.title:
            console.print(Text(table.title, style="underline"))
        _print_table(console, table, rendering)
    if behind:
        console.print()
        console.print(f"More with --all: {'; '.join(table.title for table in behind)}")
    if page.not_counted:
        console.print()
    most = len(page.not_counted) if rendering.all_rows else _NOT_COUNTED
    for line in page.not_counted[:most]:
        console.print(f"not counted: {line}")
    if more := len(page.not_counted[most:]):
        console.print(f"{counted(more, 'more')} not counted: --all")
    return "\n".join(line.rstrip() for line in buffer.getvalue().splitlines()) + "\n"


def _print_table(console: Console, table: Table, rendering: Rendering) -> None:
    if not table.rows:
        console.print(f"  {table.empty}")
        return
    most = 0 if rendering.all_rows else table.shown
    if table.as_blocks:
        cut = _print_blocks(console, table, rendering.width, most)
    else:
        cut = len(table.rows) - most if 0 < most < len(table.rows) else 0
        grid, hidden = _grid(_abridged(table, rendering.all_rows, most), rendering.width)
        console.print(grid)
        if hidden:
            console.print(f"  not shown at this width: {', '.join(hidden)} (--format json has all)")
    if cut:
        console.print(f"  {counted(cut, 'more row')}: --all")


def _abridged(table: Table, all_rows: bool, most: int) -> Table:
    """The rows shown, and of their lists as many items as are."""
    if all_rows:
        return table
    limits = [column.most for column in table.columns]
    rows = [
        [_first(value, limit) if limit else value for value, limit in zip(row, limits, strict=True)]
        for row in table.rows[: most or None]
    ]
    return replace(table, rows=rows)


def _first(values: Sequence[Any], most: int) -> Sequence[Any]:
    return values if len(values) <= most + 1 else [*values[:most], f"{len(values) - most} more"]


def _print_blocks(console: Console, table: Table, width: int, most: int) -> int:
    """Rows as paragraphs, as far as `most` lines go, one at least; how many were not printed."""
    left = most
    for number, row in enumerate(table.rows):
        with console.capture() as captured:
            console.print()
            _print_block(console, table.columns, row, width)
        text = captured.get()
        left -= text.count("\n")
        if most and number and left < 0:
            return len(table.rows) - number
        console.file.write(text)
    return 0


def _print_block(console: Console, columns: Sequence[Column], row: Sequence[Any], width: int) -> None:
    """A row as a paragraph: short cells on the first line, the rest below it, one a line."""
    head, body = Text(), []
    for column, value in zip(columns, row, strict=True):
        text = shown(column, value) if width >= column.least_width else ""
        if column.below:
            body += [f"{column.below}{text}".strip()] if text else []
        elif text:
            head.append(text, style=_STYLES.get(text, "") if column.kind == "severity" else "")
            head.append("  ")
    console.print(head, soft_wrap=True)
    for text in body:
        console.print(Padding(Text(text), (0, 0, 0, 4)))


def _grid(table: Table, width: int) -> tuple[Grid, list[str]]:
    """A grid whose columns wrap between words, and the headings of the columns that found no room.

    A name, a number or a prefix is not broken: the columns that matter least, those of the greatest
    least width, then the last ones, are left out until the longest words fit.
    """
    grid = Grid(box=_RULE_UNDER_HEADINGS, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0))
    every = [number for number in shown_columns(table) if table.columns[number].least_width < MACHINES]
    kept = [number for number in every if width >= table.columns[number].least_width]
    cells = {number: [shown(table.columns[number], row[number]) for row in table.rows] for number in kept}
    longest = {number: _longest_word([table.columns[number].heading, *cells[number]]) for number in kept}
    while len(kept) > _KEPT_COLUMNS and sum(longest[one] for one in kept) + _GAP * (len(kept) - 1) > width:
        kept.remove(max(kept[1:], key=lambda number: (table.columns[number].least_width, number)))
    headings = [table.columns[number].heading for number in kept]
    widths = column_widths(headings, [cells[number] for number in kept], width - _GAP * (len(kept) - 1))
    for number, columns_width in zip(kept, widths, strict=True):
        column = table.columns[number]
        justify: Literal["right", "left"] = "right" if column.is_number else "left"
        grid.add_column(column.heading, justify=justify, width=columns_width, overflow="fold")
    for row in table.rows:
        grid.add_row(*(_cell(table.columns[number], row[number]) for number in kept))
    hidden = [table.columns[number].heading for number in every if number not in kept]
    return grid, [heading for heading in hidden if heading]


def _longest_word(texts: Sequence[str]) -> int:
    return max((len(word) for text in texts for word in text.split()), default=0)


def column_widths(headings: Sequence[str], cells: Sequence[Sequence[str]], room: int) -> list[int]:
    """How wide each column is set, so that all together fit the room, as few lines wrapping as can be.

    Each has at least its longest word; what room is left goes where most is missing. Where even the
    longest words do not fit, the widest columns give way.
    """
    columns = [[heading, *texts] for heading, texts in zip(headings, cells, strict=True)]
    least = [_longest_word(column) for column in columns]
    texts_need = [max((len(text) for text in column[1:]), default=0) for column in columns]
    wanted = [max(need, least_) for need, least_ in zip(texts_need, least, strict=True)]
    widths = list(least)
    while sum(widths) > room and max(widths) > 1:
        widths[widths.index(max(widths))] -= 1
    while sum(widths) < room and any(have < want for have, want in zip(widths, wanted, strict=True)):
        missing = [want / max(have, 1) for have, want in zip(widths, wanted, strict=True)]
        widths[missing.index(max(missing))] += 1
    # Headings get what is left over.
    for number, heading in enumerate(headings):
        widths[number] += max(0, min(len(heading) - widths[number], room - sum(widths)))
    return widths


def _cell(column: Column, value: Any) -> Text:
    text = shown(column, value)
    return Text(text, style=_STYLES.get(text, "") if column.kind == "severity" else "")
