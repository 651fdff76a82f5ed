"""A sweep of one mapping timeout, as a page."""

from collections.abc import Sequence

from fenrask.estate.suggestions import some
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import AtTimeout

__all__ = ["timeouts_page"]


def timeouts_page(estate: str, currency: str, ending: str, found: Sequence[AtTimeout]) -> Page:
    """Ports wanted, blocking, addresses needed and cost of each exit by timeout."""
    columns = (
        Column("exit", "exit", is_answer=True),
        Column("timeout_s", f"{ending.replace('_', ' ')} timeout, s", "rough", is_answer=True),
        Column("current", "current", "yes"),
        Column("ports_wanted", "ports wanted", "count", is_answer=True),
        Column("ports", "ports", "count"),
        Column("blocking", "no free port", "share"),
        Column("addresses_needed", "addresses needed", "count", is_answer=True),
        Column("month_amount", f"{currency}/month", "money", is_answer=True),
        Column("ends", "ends quiet connections of", "list"),
    )
    rows = [
        (
            one.exit,
            one.seconds,
            one.is_current,
            round(one.sized.ports.concurrent) if one.sized.ports else 0,
            one.sized.ports.capacity if one.sized.ports else 0,
            one.sized.blocking,
            one.sized.most_needed,
            one.month,
            one.ends,
        )
        for one in found
    ]
    summary = []
    for name in dict.fromkeys(one.exit for one in found):
        own = [one for one in found if one.exit == name]
        low, high = own[0], own[-1]
        ports = [round(one.sized.ports.concurrent) if one.sized.ports else 0 for one in (low, high)]
        needs = [_needs(one) for one in (low, high)]
        summary.append(
            f"{name}: {low.seconds:g} s wants {ports[0]:,} ports ({needs[0]}), "
            f"{high.seconds:g} s wants {ports[1]:,} ({needs[1]})."
        )
        if ending_flows := [one for one in own if one.ends]:
            last = ending_flows[-1]
            summary.append(f"{name}: {last.seconds:g} s and less end quiet connections of {some(last.ends)} unnoticed.")
    table = Table("timeouts", f"By {ending.replace('_', ' ')} timeout", columns, rows, empty="no exit", shown=24)
    return Page("timeouts", estate, tuple(summary[:5]), (table,), {"currency": currency, "ending": ending})


def _needs(at_timeout: AtTimeout) -> str:
    needed = at_timeout.sized.most_needed
    return "no number suffices" if needed is None else counted(needed, "address", "addresses")
