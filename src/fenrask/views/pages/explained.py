"""The steps from the inputs to the figures shown, as one more table of a page."""

from collections.abc import Iterable
from dataclasses import replace

from fenrask.derivation import Step
from fenrask.views.page import Column, Page, Table

__all__ = ["with_steps"]

_STEPS = (
    Column("about", "about"),
    Column("figure", "figure"),
    Column("value", "value"),
    Column("working", "working", below="  "),
    Column("source", "source", below="  source: "),
)


def with_steps(page: Page, steps: Iterable[Step], title: str = "How each figure is computed", empty: str = "") -> Page:
    """The page with its derivation after its other tables."""
    rows = [(step.about, step.figure, step.value, step.working, step.source) for step in steps]
    table = Table("steps", title, _STEPS, rows, as_blocks=True, empty=empty, is_whole=True)
    return replace(page, tables=(*page.tables, table))
