"""Markdown tables, for tickets and reviews."""

from collections.abc import Iterator

from fenrask.views.cells import shown, shown_columns
from fenrask.views.formats.contract import Rendering, readable
from fenrask.views.page import MACHINES, Page, Table
from fenrask.views.quoting import comment

__all__ = ["render"]


def render(page: Page, _: Rendering) -> str:
    """The answer as a list, each table under its title."""
    return "\n".join(_lines(readable(page))) + "\n"


def _lines(page: Page) -> Iterator[str]:
    yield from (f"- {line}" for line in page.summary)
    for table in page.tables:
        yield ""
        yield f"**{table.title}**"
        yield ""
        yield from _table(table) if table.rows else [f"{table.empty}"]
    if page.not_counted:
        yield ""
        yield from (f"- not counted: {line}" for line in page.not_counted)


def _table(table: Table) -> Iterator[str]:
    kept = [(n, table.columns[n]) for n in shown_columns(table) if table.columns[n].least_width < MACHINES]
    yield _row([column.heading for _, column in kept])
    yield _row(["---:" if column.is_number else "---" for _, column in kept])
    for row in table.rows:
        yield _row([shown(column, row[number]) for number, column in kept])


def _row(cells: list[str]) -> str:
    return f"| {' | '.join(_cell(cell) for cell in cells)} |"


def _cell(text: str) -> str:
    """Text in a table: no bar, no line break, no markup that a page would carry out."""
    return comment(text).replace("|", "\\|").replace("<", "&lt;")
