"""CSV (RFC 4180) of a page's main table, raw values; a series is numbers with blanks between."""

import csv
import io
from typing import Any

from fenrask.views.cells import plain
from fenrask.views.formats.contract import Rendering
from fenrask.views.page import Page
from fenrask.views.quoting import cell

__all__ = ["render"]


def render(page: Page, _: Rendering) -> str:
    """The first table; the others are in the JSON."""
    main = page.tables[0]
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\r\n")
    writer.writerow([column.key for column in main.columns])
    for row in main.rows:
        writer.writerow([_cell(plain(value)) for value in row])
    return buffer.getvalue()


def _cell(value: Any) -> Any:
    if isinstance(value, list):
        return cell(" ".join(map(str, value)))
    if isinstance(value, str):
        return cell(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else value
