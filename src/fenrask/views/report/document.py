"""A report: sections of pages and figures, set as one HTML page (no script, nothing from elsewhere) or as Markdown."""

import base64
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from fenrask.views.cells import shown, shown_columns
from fenrask.views.formats import FORMATS
from fenrask.views.formats.contract import Rendering
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["ENDINGS", "Figure", "Report", "Section", "as_markdown", "as_page"]

_ROWS = 25
"""Rows of a table that a page shows at once; a longer one opens on request, and in print."""


@dataclass(frozen=True)
class Figure:
    """A figure as SVG, and what it shows in words for those who cannot see it."""

    name: str
    svg: bytes
    text: str

    @property
    def address(self) -> str:
        """The figure inside the page: as an image, so that nothing in it can act or clash."""
        return "data:image/svg+xml;base64," + base64.b64encode(self.svg).decode("ascii")


@dataclass(frozen=True)
class Section:
    """One part of the plan: a page as its command prints it, what to look for, and its figures."""

    name: str
    title: str
    about: str
    page: Page
    figures: tuple[Figure, ...] = ()
    command: str = ""
    """What shows the same in a terminal."""


@dataclass(frozen=True)
class Report:
    """The whole plan."""

    estate: str
    answer: tuple[str, ...]
    """What is wrong, what to do, what that saves."""
    sections: tuple[Section, ...]
    errors: tuple[str, ...] = ()
    """What each error of today is, by its rule and place."""
    made: Mapping[str, str] = field(default_factory=dict)
    """From what it was made, by which version, when: name and value."""


@dataclass(frozen=True)
class _Cell:
    text: str
    is_number: bool
    word: str = ""
    """For a severity: its word, by which it is coloured beside being read; or `series`."""


def as_page(report: Report) -> bytes:
    """One HTML page (HTML Living Standard): landmarks, a contents list, every figure's data as tables."""
    environment = Environment(
        loader=PackageLoader("fenrask.views.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    template = environment.get_template("page.html.j2")
    return template.render(report=report, columns=_columns, cells=_cells, paragraphs=_paragraphs, most=_ROWS).encode(
        "utf-8"
    )


def as_markdown(report: Report) -> bytes:
    """The same in Markdown, without figures: all that they show stands in the tables."""
    return ("\n".join(_lines(report)) + "\n").encode("utf-8")


ENDINGS: dict[str, Callable[[Report], bytes]] = {
    ".html": as_page,
    ".htm": as_page,
    ".md": as_markdown,
}
"""By the ending of the file's name."""


def _columns(table: Table) -> list[Column]:
    return [table.columns[n] for n in _kept(table)]


def _kept(table: Table) -> list[int]:
    return [n for n in shown_columns(table) if table.columns[n].least_width < MACHINES]


def _cells(table: Table) -> Iterator[list[_Cell]]:
    kept = [(n, table.columns[n]) for n in _kept(table)]
    for row in table.rows:
        yield [_cell(column, row[n]) for n, column in kept]


def _paragraphs(table: Table) -> Iterator[tuple[list[_Cell], list[str]]]:
    """Each row of blocks: the cells of its first line, and the lines below it."""
    kept = [(n, table.columns[n]) for n in _kept(table)]
    for row in table.rows:
        told = [(column, _cell(column, row[n])) for n, column in kept]
        yield (
            [cell for column, cell in told if cell.text and not column.below],
            [f"{column.below}{cell.text}".strip() for column, cell in told if cell.text and column.below],
        )


def _cell(column: Column, value: Any) -> _Cell:
    text = shown(column, value)
    word = text.split()[0] if column.kind == "severity" and text else "series" if column.kind == "series" else ""
    return _Cell(text, column.is_number, word)


def _lines(report: Report) -> Iterator[str]:
    yield f"# {_plain(report.estate)}: how private subnets reach the outside"
    yield ""
    yield from (f"- {_plain(line)}" for line in report.answer)
    if report.errors:
        yield ""
        yield f"Errors today, each with its remedy below: {_plain('; '.join(report.errors))}."
    for section in report.sections:
        yield ""
        yield f"## {section.title}"
        yield ""
        yield section.about
        yield ""
        yield FORMATS["markdown"](section.page, Rendering()).rstrip("\n")
    yield ""
    yield "## Made from"
    yield ""
    yield from (f"- {_plain(name)}: {_plain(value)}" for name, value in report.made.items())


def _plain(text: str) -> str:
    from fenrask.views.quoting import markdown

    return markdown(text)
