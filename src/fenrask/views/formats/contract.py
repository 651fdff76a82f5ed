"""What a format is: a function from a page to text."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from fenrask.views.page import Page
from fenrask.views.quoting import visible

__all__ = ["Format", "Rendering", "readable"]


@dataclass(frozen=True)
class Rendering:
    """Where the text goes: how wide, whether colours are understood."""

    width: int = 100
    colour: bool = False
    all_rows: bool = False
    """Whether every row of every table is shown."""


def readable(page: Page) -> Page:
    """The page with every sentence and title as people may see it; cells are seen to where they are shown."""
    return replace(
        page,
        summary=tuple(map(visible, page.summary)),
        tables=tuple(replace(table, title=visible(table.title)) for table in page.tables),
        not_counted=tuple(map(visible, page.not_counted)),
    )


Format = Callable[[Page, Rendering], str]
