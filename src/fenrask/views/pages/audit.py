"""Results by a second method, as a page."""

from collections.abc import Sequence

from fenrask.checks import Audited
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["audit_page"]

_COLUMNS = (
    Column("agrees", "agrees", "yes"),
    Column("what", "result"),
    Column("about", "of"),
    Column("first", "here", "figure"),
    Column("second", "second method", "figure"),
    Column("method", "which is"),
)


def audit_page(estate: str, found: Sequence[Audited]) -> Page:
    """What disagrees first."""
    wrong = [one for one in found if not one.agrees]
    rows = [(one.agrees, one.what, one.about, one.first, one.second, one.method) for one in (*wrong, *found) if one]
    rows = list(dict.fromkeys(rows))
    said = f"{counted(len(wrong), 'disagrees', 'disagree')}" if wrong else "all agree"
    lines = [f"{counted(len(found), 'result')} computed by a second method: {said}."]
    if wrong:
        lines.append("A result that disagrees is a fault of Fenrask itself: please report it with the estate file.")
    return Page("audit", estate, tuple(lines), (Table("results", "Results", _COLUMNS, rows, shown=36),))
