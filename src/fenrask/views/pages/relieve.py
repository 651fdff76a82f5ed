"""Who takes the ports now, and what relieves them, as a page."""

from dataclasses import replace

from fenrask.records.batch import Unread
from fenrask.records.filling import Filled
from fenrask.records.relief import Relief
from fenrask.units import percent
from fenrask.views.page import Column, Page, Table

__all__ = ["filling_line", "filling_page", "relieve_page"]


def relieve_page(estate: str, currency: str, found: Relief, unread: Unread) -> Page:
    """The fullest pool first; then the remedies in order of minutes, then who takes the ports."""
    summary = [_first_line(found)]
    if found.taken:
        top = found.taken[0]
        summary.append(
            f"Most by {top.subnet} to {top.destination}: {top.ports:,} ports; {top.live:,} live, {top.idle:,} idle, "
            f"{top.waiting:,} waiting out a timeout."
        )
    if found.remedies:
        first = found.remedies[0]
        summary.append(f"Quickest: {first.what}, in {first.minutes} min ({first.ports:,} ports).")
    remedies = (
        Column("minutes", "minutes", "count"),
        Column("what", "remedy"),
        Column("ports", "ports freed or added", "count"),
        Column("month_amount", f"{currency}/month", "difference"),
        Column("lasts", "lasts"),
        Column("how", "how"),
    )
    taken = (
        Column("subnet", "from"),
        Column("destination", "to"),
        Column("ports", "ports", "count"),
        Column("live", "live", "count"),
        Column("idle", "idle", "count"),
        Column("waiting", "waiting", "count"),
    )
    tables = (
        Table(
            "remedies", "Relief, the quickest first", remedies,
            [(one.minutes, one.what, one.ports, one.month, one.lasts, one.how) for one in found.remedies],
            empty="none known",
        ),
        Table(
            "taken", "Who takes the ports", taken,
            [(one.subnet, one.destination, one.ports, one.live, one.idle, one.waiting) for one in found.taken],
            empty="no entry of this exit", shown=16,
        ),
    )  # fmt: skip
    strangers = (f"{found.unmatched:,} entries of no subnet of the estate",) if found.unmatched else ()
    facts = {"currency": currency, "in_use": found.in_use, "ports": found.ports, "busiest": found.busiest}
    return Page("relieve", estate, tuple(summary), tables, facts, (*unread.told(), *strangers))


def _first_line(found: Relief) -> str:
    share = found.in_use / found.ports if found.ports else 0.0
    of = f"by {found.busiest}, of its own block" if found.is_block else f"toward {found.busiest or 'nothing'}"
    return f"{found.exit}: {found.in_use:,} of {found.ports:,} ports in use {of} ({percent(share)})."


def filling_line(filled: Filled) -> str:
    """How full the fullest pool is, how fast it fills, and when no port is left, in one line."""
    full, use = filled.use.full, filled.use
    now = replace(filled.relief, in_use=full.in_use, ports=full.size, busiest=use.busiest, is_block=full.is_block)
    line = _first_line(now).removesuffix(".")
    if filled.per_s is None:
        return f"{line}; how fast they fill shows at the next look"
    if filled.full_in_s == 0.0:
        return f"{line}; full: new connections fail"
    if filled.full_in_s is None:
        return f"{line}; {filled.per_s:+,.1f} ports/s: not filling"
    return f"{line}; {filled.per_s:+,.1f} ports/s: full in {_lasting(filled.full_in_s)}"


def _lasting(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.0f} h"


def filling_page(estate: str, filled: Filled, unread: Unread) -> Page:
    """The same, with who takes the ports now and how that changes, and the quickest relief."""
    lines = [filling_line(filled)]
    if filled.relief.remedies:
        first = filled.relief.remedies[0]
        lines.append(f"Quickest: {first.what}, in {first.minutes} min ({first.ports:,} ports).")
    columns = (
        Column("subnet", "from"),
        Column("destination", "to"),
        Column("ports", "ports", "count"),
        Column("more_per_s", "more/s", "number"),
        Column("live", "live", "count"),
        Column("idle", "idle", "count"),
        Column("waiting", "waiting", "count"),
    )
    rows = [
        (one.subnet, one.destination, one.ports, filled.by_pair.get((one.subnet, one.destination)), one.live, one.idle,
         one.waiting)
        for one in filled.use.taken
    ]  # fmt: skip
    table = Table("taken", "Who takes the ports", columns, rows, empty="no entry of this exit", shown=16)
    return Page("relieve", estate, tuple(lines), (table,), {}, unread.told())
