"""Tables for a terminal, as wide as it is."""

import io
import re
from collections.abc import Callable, Mapping, Sequence
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
from fenrask.views.joining import joined_rows
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
    """The answer, then each table under its title, then what was left out: a screen, unless all is asked for."""
    page = readable(page)
    if rendering.all_rows:
        return _rendered(page, rendering, len(page.not_counted))
    page = replace(page, tables=tuple(map(joined_rows, page.tables)))
    text = _rendered(page, rendering, _NOT_COUNTED)
    # Where the answers alone fill the screen, reasons are told by their number.
    return text if text.count("\n") <= _SCREEN or not page.not_counted else _rendered(page, rendering, 0)


def _rendered(page: Page, rendering: Rendering, most: int) -> str:
    """A page with at most so many reasons why something is not counted."""
    answer = _printed(rendering, lambda console: _print_lines(console, page.summary))
    left_out = _printed(rendering, lambda console: _print_left_out(console, page.not_counted, most))
    parts = [
        _Part(table, rendering, _LEAST_ROWS if place else _LEAST_FIRST)
        for place, table in enumerate(page.tables)
        if rendering.all_rows or not (table.behind_all and table.rows)
    ]
    if not rendering.all_rows:
        _fit(parts, _SCREEN - answer.count("\n") - left_out.count("\n") - _BEHIND)
    told = [one.text for one in parts if not one.is_behind]
    shown = {one.table for one in parts if not one.is_behind}
    behind = [one.title for one in page.tables if one not in shown]
    if behind:
        told.append(f"More with --all: {'; '.join(behind)}\n")
        told[-1] = _printed(rendering, lambda console: console.print(told[-1].strip()))
    text = "\n".join(filter(None, (answer, *told, left_out)))
    return "\n".join(line.rstrip() for line in text.splitlines()) + "\n"


_SCREEN = 45
"""Lines that a command prints without `--all`."""
_BEHIND = 3
"""Of these, for the names of tables that it does not show."""
_LEAST_FIRST, _LEAST_ROWS, _LEAST_LINES = 8, 3, 12
"""Rows that the first table keeps, and another one; lines of one whose rows are paragraphs."""


def _printed(rendering: Rendering, write: Callable[[Console], None]) -> str:
    """What a console of this width and colour prints."""
    buffer = io.StringIO()
    write(
        Console(
            file=buffer,
            width=rendering.width,
            force_terminal=rendering.colour,
            no_color=not rendering.colour,
            highlight=False,
            emoji=False,
            markup=False,
            legacy_windows=False,
        )
    )
    return buffer.getvalue()


def _print_lines(console: Console, lines: Sequence[str]) -> None:
    for line in lines:
        console.print(Text(line, style="bold"))


def _print_left_out(console: Console, reasons: Sequence[str], most: int) -> None:
    for line in reasons[:most]:
        console.print(f"not counted: {line}")
    if more := len(reasons[most:]):
        console.print(f"{more:,}{' more' if most else ''} not counted: --all")


class _Part:
    """A table as it is shown, with so many rows (lines, where its rows are paragraphs); 0 for all."""

    def __init__(self, table: Table, rendering: Rendering, least: int) -> None:
        self.table, self.is_behind = table, False
        self._rendering, self._least = rendering, _LEAST_LINES if table.as_blocks else least
        self._show(0 if rendering.all_rows or table.is_whole else min(table.shown or _SCREEN, _SCREEN))

    def _show(self, most: int) -> None:
        self._most = most
        self.text = _printed(self._rendering, self._print)
        self.lines = self.text.count("\n") + 1
        size = self.lines if self.table.as_blocks else len(self.table.rows)
        self._size = min(size, most or size)

    @property
    def can_shrink(self) -> bool:
        """Whether it may show fewer; a first paragraph is whole, however long."""
        return not self.is_behind and not self.table.is_whole and self._size > self._least

    def shrink(self, fewer: int) -> None:
        """Show so many fewer: the size goes down each time, so that shrinking ends."""
        self._show(max(self._least, self._size - fewer))

    def _print(self, console: Console) -> None:
        if self.table.title:
            console.print(Text(self.table.title, style="underline"))
        _print_table(console, self.table, self._rendering, self._most)


def _fit(parts: Sequence[_Part], room: int) -> None:
    """Show fewer rows until all fits: of the longest table first; what is no answer is then not shown, the last first.

    What was asked for by an option is whole, and takes no room from the others.
    """
    parts = [one for one in parts if not one.table.is_whole]
    while (excess := sum(one.lines for one in parts if not one.is_behind) - room) > 0:
        if longer := [one for one in parts if one.can_shrink]:
            # Little by little, since a row may be several lines.
            max(longer, key=lambda part: part.lines).shrink(max(1, excess // (4 * len(longer))))
        elif others := [one for one in parts[1:] if not one.is_behind and one.table.rows and not one.table.is_answer]:
            others[-1].is_behind = True
        else:
            return


def _print_table(console: Console, table: Table, rendering: Rendering, most: int) -> None:
    if not table.rows:
        console.print(f"  {table.empty}")
        return
    if table.as_blocks:
        cut = _print_blocks(console, table, rendering.width, most)
    else:
        cut = len(table.rows) - most if 0 < most < len(table.rows) else 0
        grid, hidden = _grid(_abridged(table, rendering.all_rows, most), rendering.width)
        console.print(grid)
        if hidden:
            console.print(f"  not shown at this width: {', '.join(hidden)} (--format json has all)")
    if cut:
        console.print(f"  {f'{cut:,} more in full' if table.as_blocks else counted(cut, 'more row')}: --all")


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


_HEADS = 6
"""Lines that are kept for first lines of paragraphs, where not all find room."""


def _print_blocks(console: Console, table: Table, width: int, most: int) -> int:
    """Rows as paragraphs as far as `most` lines go, one at least, then first lines; how many are not whole."""
    texts = list[str]()
    for row in table.rows if not most else table.rows[:most]:
        with console.capture() as captured:
            console.print()
            _print_block(console, table.columns, row, width)
        texts.append(captured.get())
    lines = [text.count("\n") for text in texts]
    if not most or (sum(lines) <= most and len(texts) == len(table.rows)):
        console.file.write("".join(texts))
        return 0
    whole, left = 1, most - _HEADS - lines[0]
    while whole < len(texts) and lines[whole] <= left:
        left -= lines[whole]
        whole += 1
    console.file.write("".join(texts[:whole]))
    console.print()
    for other in table.rows[whole : whole + max(0, left) + _HEADS - 1]:
        console.print(_head(table.columns, other, width), soft_wrap=True)
    return len(table.rows) - whole


def _print_block(console: Console, columns: Sequence[Column], row: Sequence[Any], width: int) -> None:
    """A row as a paragraph: short cells on the first line, the rest below it, one a line."""
    console.print(_head(columns, row, width), soft_wrap=True)
    for column, text in _seen(columns, row, width):
        if column.below:
            console.print(Padding(Text(f"{column.below}{text}".strip()), (0, 0, 0, 4)))


def _head(columns: Sequence[Column], row: Sequence[Any], width: int) -> Text:
    head = Text()
    for column, text in _seen(columns, row, width):
        if not column.below:
            head.append(text, style=_STYLES.get(text, "") if column.kind == "severity" else "")
            head.append("  ")
    return head


def _seen(columns: Sequence[Column], row: Sequence[Any], width: int) -> list[tuple[Column, str]]:
    """The cells of a paragraph that have a text at this width."""
    cells = [(column, shown(column, value)) for column, value in zip(columns, row, strict=True)]
    return [(column, text) for column, text in cells if text and width >= column.least_width]


def _grid(table: Table, width: int) -> tuple[Grid, list[str]]:
    """A grid whose columns wrap between words, and the headings of the columns that found no room.

    Columns that are no answer are left out until the longest words fit: those of the greatest least width first, then
    the last ones. Where that does not do, names break after their hyphens, dots and slashes.
    """
    grid = Grid(box=_RULE_UNDER_HEADINGS, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0))
    every = [number for number in shown_columns(table) if table.columns[number].least_width < MACHINES]
    kept = [number for number in every if width >= table.columns[number].least_width or table.columns[number].is_answer]
    cells = {number: [shown(table.columns[number], row[number]) for row in table.rows] for number in kept}
    longest = {number: _longest([table.columns[number].heading, *cells[number]], _words) for number in kept}
    while not _fits(longest, kept, width) and (others := [one for one in kept[1:] if not table.columns[one].is_answer]):
        if len(kept) <= _KEPT_COLUMNS:
            break
        kept.remove(max(others, key=lambda number: (table.columns[number].least_width, number)))
    headings = [table.columns[number].heading for number in kept]
    breaks = _words if _fits(longest, kept, width) else _pieces
    widths = column_widths(headings, [cells[number] for number in kept], width - _GAP * (len(kept) - 1), breaks)
    for number, columns_width in zip(kept, widths, strict=True):
        column = table.columns[number]
        justify: Literal["right", "left"] = "right" if column.is_number else "left"
        heading = _folded(column.heading, columns_width)
        grid.add_column(heading, justify=justify, width=columns_width, overflow="fold")
    for place in range(len(table.rows)):
        grid.add_row(
            *(
                _cell(table.columns[number], _folded(cells[number][place], columns_width))
                for number, columns_width in zip(kept, widths, strict=True)
            )
        )
    hidden = [table.columns[number].heading for number in every if number not in kept]
    return grid, [heading for heading in hidden if heading]


def _fits(longest: Mapping[int, int], kept: Sequence[int], width: int) -> bool:
    return sum(longest[one] for one in kept) + _GAP * (len(kept) - 1) <= width


_Breaks = Callable[[str], list[str]]
_PIECE = re.compile(r"[^-./:_,>]*[-./:_,>]+|[^-./:_,>]+")


def _words(text: str) -> list[str]:
    return text.split()


def _pieces(text: str) -> list[str]:
    """What a text may be broken into: words, and names after their hyphens, dots and slashes."""
    return _PIECE.findall(text.replace(" ", "/"))


def _longest(texts: Sequence[str], breaks: _Breaks) -> int:
    return max((len(part) for text in texts for part in breaks(text)), default=0)


def _folded(text: str, width: int) -> str:
    """A text with line breaks inside words that are wider than their column, after a separator where there is one."""
    if all(len(word) <= width for word in text.split(" ")):
        return text
    lines, line = list[str](), ""
    for word in text.split(" "):
        for number, part in enumerate([word] if len(word) <= width else _PIECE.findall(word)):
            between = " " if line and not number else ""
            if line and len(line) + len(between) + len(part) > width:
                lines.append(line)
                line, between = "", ""
            line += between + part
    return "\n".join([*lines, line])


def column_widths(
    headings: Sequence[str], cells: Sequence[Sequence[str]], room: int, breaks: _Breaks = _words
) -> list[int]:
    """How wide each column is set, so that all together fit the room, as few lines wrapping as can be.

    Each has at least its longest word, or what `breaks` leaves of one. What room is left goes where most is missing,
    or first to the columns of which the least is missing: whichever makes the table shorter. Where even the longest
    words do not fit, the widest columns give way.
    """
    columns = [[heading, *texts] for heading, texts in zip(headings, cells, strict=True)]
    least = [_longest(column, breaks) for column in columns]
    texts_need = [max((len(text) for text in column[1:]), default=0) for column in columns]
    wanted = [max(need, least_) for need, least_ in zip(texts_need, least, strict=True)]
    while sum(least) > room and max(least) > 1:
        least[least.index(max(least))] -= 1
    few = [texts[:_MEASURED_ROWS] for texts in cells]
    ways = [_widened(least, wanted, room, first) for first in range(len(least) if len(least) > 1 else 1)]
    widths = min(ways, key=lambda way: _height(few, way))
    # Headings get what is left over.
    for number, heading in enumerate(headings):
        widths[number] += max(0, min(len(heading) - widths[number], room - sum(widths)))
    return widths


_MEASURED_ROWS = 100
"""Rows of a table by which the widths of its columns are chosen."""


def _widened(least: Sequence[int], wanted: Sequence[int], room: int, first: int) -> list[int]:
    """Widths from the least on: so many columns of which the least is missing get all, the others what is left."""
    widths, spare = list(least), room - sum(least)
    for number in sorted(range(len(least)), key=lambda number: wanted[number] - least[number])[:first]:
        more = max(0, min(wanted[number] - least[number], spare))
        widths[number] += more
        spare -= more
    while spare > 0 and any(have < want for have, want in zip(widths, wanted, strict=True)):
        missing = [want / max(have, 1) for have, want in zip(widths, wanted, strict=True)]
        widths[missing.index(max(missing))] += 1
        spare -= 1
    return widths


def _height(cells: Sequence[Sequence[str]], widths: Sequence[int]) -> int:
    """Lines that rows take in columns so wide: of each row, those of its tallest cell."""
    tall = [[_lines(text, width) for text in texts] for texts, width in zip(cells, widths, strict=True)]
    return sum(map(max, zip(*tall, strict=True)))


def _lines(text: str, width: int) -> int:
    """Lines that a text takes when it is wrapped between its words; a word that is too long takes several."""
    if len(text) <= width:
        return 1
    lines, used = 1, 0
    for word in text.split(" "):
        if used and used + 1 + len(word) > width:
            lines, used = lines + 1, 0
        over, rest = divmod(max(len(word) - 1, 0), max(width, 1))
        lines, used = lines + over, used + (used > 0) + (rest + 1 if over else len(word))
    return lines


def _cell(column: Column, text: str) -> Text:
    return Text(text, style=_STYLES.get(text, "") if column.kind == "severity" else "")
