"""The steps from what was written to the figures shown, as one more table of a page."""

from collections.abc import Iterable
from dataclasses import replace

from fenrask.derivation import Step
from fenrask.views.page import Column, Page, Table

__all__ = ["with_steps"]

_STEPS = (
    Column("about", "of"),
    Column("figure", "figure"),
    Column("value", "value"),
    Column("working", "how", below="  "),
    Column("source", "source", below="  by "),
)


def with_steps(page: Page, steps: Iterable[Step]) -> Page:
    """The page with its derivation after its other tables."""
    rows = [(step.about, step.figure, step.value, step.working, step.source) for step in steps]
    table = Table("steps", "How each figure comes about", _STEPS, rows, as_blocks=True)
    return replace(page, tables=(*page.tables, table))
