"""With what confidence the plan holds, as a page."""

from fenrask.units import counted, percent
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Confident

__all__ = ["bill_confidence_page", "capacity_confidence_page"]

_EXITS = (
    Column("exit", "exit"),
    Column("addresses", "addresses", "count"),
    Column("confidence", "suffice with", "share"),
    Column("wanted", "needed", "count"),
    Column("peak_low", "peak, 5%", "count"),
    Column("peak_middle", "median", "count"),
    Column("peak_high", "95%", "count"),
    Column("measure_first", "measure first", least_width=100),
    Column("weight", "of the spread", "share", least_width=100),
)
_STEPS = (
    Column("exit", "exit"),
    Column("addresses", "addresses", "count"),
    Column("confidence", "suffice with", "share"),
)
_INPUTS = (
    Column("input", "input"),
    Column("low", "low (5%)", "figure"),
    Column("likely", "likely", "figure"),
    Column("high", "high (95%)", "figure"),
)


def capacity_confidence_page(estate: str, found: Confident) -> Page:
    """Each exit: how sure its addresses suffice, how many do with the confidence asked for, what to measure first."""
    ordered = sorted(found.exits, key=lambda one: one.now)
    rows = [
        (
            one.exit, one.sized.addresses, one.now, one.wanted, *map(round, one.peaks), one.measure_first or "nothing",
            one.weight if one.measure_first else None,
        )
        for one in ordered
    ]  # fmt: skip
    summary = []
    for one in ordered[:3]:
        has = counted(one.sized.addresses, "address suffices", "addresses suffice")
        more = "no number does" if one.wanted is None else f"{one.wanted} with {percent(one.suffices[one.wanted])}"
        better = "" if one.wanted == one.sized.addresses else f"; {more}"
        summary.append(f"{one.exit}: {has} with {percent(one.now)} confidence{better}.")
    if ordered and ordered[0].measure_first:
        first = ordered[0]
        summary.append(f"Measure first: {first.measure_first} ({percent(first.weight)} of the spread of {first.exit}).")
    steps = [(one.exit, n, share) for one in ordered for n, share in one.suffices.items() if share > 0.001]
    tables = (
        Table(
            "exits", f"Addresses, and {found.level:.1%} confidence", _EXITS, rows, empty="no exit translates", shown=12
        ),
        Table("suffices", "By number of addresses", _STEPS, steps, shown=10),
        _inputs(found),
    )
    return Page("confidence", estate, tuple(summary), tables, {"level": found.level, "samples": found.samples})


def bill_confidence_page(estate: str, currency: str, found: Confident) -> Page:
    """The bill as an interval, and what it depends on."""
    low, middle, high = found.month
    summary = [f"{low:,.2f} to {high:,.2f} {currency}/month with 90.0% confidence (median {middle:,.2f})."]
    if found.month_first:
        summary.append(f"Measure first: {found.month_first} ({percent(found.month_weight)} of the spread).")
    columns = (
        Column("low_amount", f"5%, {currency}/month", "number", decimals=2),
        Column("middle_amount", "median", "number", decimals=2),
        Column("high_amount", "95%", "number", decimals=2),
    )
    not_counted = ("steps of graduated rates: volumes are priced as in the likely bill",)
    tables = (Table("month", "The bill", columns, [found.month]), _inputs(found))
    facts = {"currency": currency, "samples": found.samples}
    return Page("bill_confidence", estate, tuple(summary), tables, facts, not_counted)


def _inputs(found: Confident) -> Table:
    rows = [(one.name, one.low, one.likely, one.high) for one in found.inputs]
    return Table("inputs", "Inputs that are ranges", _INPUTS, rows, empty="none: every load is one number", shown=10)
