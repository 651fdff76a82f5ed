"""Who takes the ports now, and what relieves them, as a page."""

from fenrask.records.batch import Unread
from fenrask.records.relief import Relief
from fenrask.units import percent
from fenrask.views.page import Column, Page, Table

__all__ = ["relieve_page"]


def relieve_page(estate: str, currency: str, found: Relief, unread: Unread) -> Page:
    """The fullest pool first; then the remedies in order of minutes, then who takes the ports."""
    share = found.in_use / found.ports if found.ports else 0.0
    of = f"by {found.busiest}, of its own block" if found.is_block else f"toward {found.busiest or 'nothing'}"
    summary = [f"{found.exit}: {found.in_use:,} of {found.ports:,} ports in use {of} ({percent(share)})."]
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
