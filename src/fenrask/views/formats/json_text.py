"""JSON (RFC 8259): a schema name and version, stable keys, units in the keys."""

import json

from fenrask.views.cells import plain
from fenrask.views.formats.contract import Rendering
from fenrask.views.page import Page

__all__ = ["VERSION", "render"]

VERSION = 4
"""Raised when a key changes its meaning or goes away."""


def render(page: Page, _: Rendering) -> str:
    """The whole page, raw values."""
    whole = {
        "schema": f"fenrask.{page.name}",
        "version": VERSION,
        "estate": page.estate,
        "summary": list(page.summary),
        **{key: plain(value) for key, value in page.facts.items()},
        **{table.name: [plain(record) for record in table.records()] for table in page.tables},
        "not_counted": list(page.not_counted),
    }
    return json.dumps(whole, indent=2, ensure_ascii=False) + "\n"
