"""Observations against the plan, as a page."""

from collections.abc import Sequence

from fenrask.records import Confirmed
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["confirm_page"]

_COLUMNS = (
    Column("subnet", "from"),
    Column("destination", "to"),
    Column("planned", "planned source"),
    Column("seen_as", "source seen"),
    Column("times", "times", "count"),
    Column("verdict", "verdict"),
)
_DIFFERENCES = (
    Column("subnet", "from"),
    Column("destination", "to"),
    Column("verdict", "verdict"),
    Column("cause", "likely cause", below="likely: "),
    Column("check_next", "check next", below="→ "),
)


def confirm_page(estate: str, found: Sequence[Confirmed], unread: Sequence[str] = ()) -> Page:
    """Every observation's verdict, and for each difference its likely cause and what to check next."""
    differ = [one for one in found if not one.well]
    rows = [(one.subnet or "any", one.destination, one.planned, one.seen_as, one.times, one.verdict) for one in found]
    causes = [(one.subnet or "any", one.destination, one.verdict, one.cause, one.check_next) for one in differ]
    summary = f"{counted(len(found), 'observation')}: {len(found) - len(differ)} as planned, {len(differ)} different"
    tables = (
        Table("observed", "Observed", _COLUMNS, rows, empty="nothing was observed"),
        Table("differences", "What differs", _DIFFERENCES, causes, empty="nothing", as_blocks=True),
    )
    if unread:
        summary += f"; {counted(len(unread), 'row')} not read"
    facts = {"as_planned": len(found) - len(differ), "different": len(differ)}
    return Page("confirm", estate, (summary,), tables, facts, tuple(unread))
