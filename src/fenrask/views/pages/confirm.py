"""Observations against the plan, as a page; and the observations to make, as a table to fill in."""

import csv
import io
from collections.abc import Iterator, Sequence

from fenrask.evaluation import Evaluation
from fenrask.prefixes import Address
from fenrask.records import Compared, Confirmed
from fenrask.records.compared import DIFFERENT, NOT_SEEN
from fenrask.routing import Trace
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["confirm_page", "observations_to_make"]

_COLUMNS = (
    Column("subnet", "from"),
    Column("destination", "to"),
    Column("planned", "planned source"),
    Column("seen_as", "source seen"),
    Column("times", "times", "count"),
    Column("verdict", "verdict"),
)
_COMPARED = (
    Column("what", "what"),
    Column("about", "of"),
    Column("item", "item"),
    Column("planned", "planned"),
    Column("seen", "seen"),
    Column("verdict", "verdict"),
)
_DIFFERENCES = (
    Column("subnet", "from"),
    Column("destination", "to"),
    Column("verdict", "verdict"),
    Column("cause", "likely cause", below="likely: "),
    Column("check_next", "check next", below="→ "),
)


def confirm_page(
    estate: str, found: Sequence[Confirmed], compared: Sequence[Compared] = (), unread: Sequence[str] = ()
) -> Page:
    """Every observation's verdict, the doubtful first; for each difference its likely cause and what to check next."""
    ordered = sorted(found, key=lambda one: (one.well, not one.differs))
    rows = [(one.subnet or "any", one.destination, one.planned, one.seen_as, one.times, one.verdict) for one in ordered]
    causes = [
        (one.subnet or "any", one.destination, one.verdict, one.cause, one.check_next)
        for one in ordered
        if not one.well
    ]
    others = sorted(compared, key=lambda one: one.verdict != DIFFERENT)
    causes += [
        (f"{one.what} of {one.about}", one.item, one.verdict, one.cause, one.check_next)
        for one in others
        if one.verdict == DIFFERENT
    ]
    differ = sum(one.differs for one in found) + sum(one.verdict == DIFFERENT for one in compared)
    verdicts = [*(one.verdict for one in found), *(one.verdict for one in compared)]
    unseen = verdicts.count(NOT_SEEN)
    whole = len(verdicts)
    planned = whole - differ - unseen
    summary = f"{counted(whole, 'comparison')}: {planned} as planned, {differ} different, {unseen} not seen yet"
    if unread:
        summary += f"; {counted(len(unread), 'row')} not read"
    tables = []
    if found or not compared:
        tables.append(Table("observed", "Sources seen", _COLUMNS, rows, empty="nothing was observed", shown=16))
    if compared:
        measured = [(one.what, one.about, one.item, one.planned, one.seen, one.verdict) for one in others]
        tables.append(Table("compared", "Metrics, routes, names and bill", _COMPARED, measured, shown=16))
    tables.append(Table("differences", "What differs", _DIFFERENCES, causes, empty="nothing", as_blocks=True, shown=24))
    facts = {"as_planned": planned, "different": differ, "not_seen": unseen}
    return Page("confirm", estate, (summary,), tuple(tables), facts, tuple(unread))


def observations_to_make(evaluation: Evaluation) -> str:
    """One row for each subnet and destination of a flow: what is planned, how to look, and where to write what is seen.

    Filled in, it is read by `confirm`; it serves before a change and after it.
    """
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(["when", "from", "destination", "seen_as", "planned", "how"])
    writer.writerows(_to_make(evaluation))
    return buffer.getvalue()


def _host_in(trace: Trace) -> Address:
    """An address that answers, of those that a trace is to: not the first of a range, which may be its network's."""
    blocks = trace.portion.targets
    return blocks[0].address + 1 if blocks and blocks[0].size > 2 else trace.packet.address


def _to_make(evaluation: Evaluation) -> Iterator[tuple[str, str, str, str, str, str]]:
    estate, seen = evaluation.described.estate, set[tuple[str, str]]()
    for path in evaluation.paths.where(lambda _: True):
        to = path.to
        if (path.subnet, to) in seen:
            continue
        seen.add((path.subnet, to))
        destination = estate.destinations[to]
        target = destination.names[0] if destination.names else str(_host_in(path.trace))
        port = destination.port or 443
        sends = f"nc -zvu -w3 {target} {port}" if destination.protocol == "udp" else f"nc -zv -w3 {target} {port}"
        arrives = path.trace.verdict.arrives
        planned = str(path.trace.source) if arrives else f"no answer ({path.trace.verdict.value})"
        look = "then read the source address in the destination's log" if arrives else "it must fail: write -"
        yield "", path.subnet, to, "", planned, f"on a host of {path.subnet}: {sends}; {look}"
