"""Results by a second method, as a page."""

from collections.abc import Sequence

from fenrask.units import counted
from fenrask.views.page import Column, Page, Table
from fenrask.what_if.second_methods import Audited, NotLookedAt

__all__ = ["audit_page"]

_COLUMNS = (
    Column("agrees", "agrees", "yes"),
    Column("what", "result"),
    Column("about", "of"),
    Column("first", "computed", "figure"),
    Column("second", "second method", "figure"),
    Column("method", "how the second method computes it"),
)


_LEFT_OUT = (Column("what", "result"), Column("about", "of"), Column("why", "why"))


def audit_page(estate: str, found: Sequence[Audited | NotLookedAt]) -> Page:
    """What disagrees first; then what was not looked at, and all that agrees."""
    looked_at = [one for one in found if isinstance(one, Audited)]
    others = [one for one in found if isinstance(one, NotLookedAt)]
    wrong = [one for one in looked_at if not one.agrees]
    rows = [(one.agrees, one.what, one.about, one.first, one.second, one.method) for one in (*wrong, *looked_at)]
    said = f"{counted(len(wrong), 'disagrees', 'disagree')}" if wrong else "all agree"
    lines = [f"{counted(len(looked_at), 'result')} computed by a second method: {said}."]
    if others:
        lines.append(f"{counted(len(others), 'result')} not looked at: see below.")
    if wrong:
        lines.append("A result that disagrees is a fault of Fenrask itself: please report it with the estate file.")
    left_out = Table(
        "not_looked_at", "Not looked at", _LEFT_OUT, [(one.what, one.about, one.why) for one in others], shown=12
    )
    tables = (Table("results", "Results", _COLUMNS, list(dict.fromkeys(rows)), shown=36, joined=("about",)),)
    return Page("audit", estate, tuple(lines), (left_out, *tables) if others else tables)
