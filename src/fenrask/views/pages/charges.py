"""The month's bill, as a page."""

from collections.abc import Mapping
from fractions import Fraction

from fenrask.charges import to_the_cent
from fenrask.evaluation import Evaluation
from fenrask.units import cents
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["charges_page"]

_LINES = (
    Column("item", "item"),
    Column("about", "of"),
    Column("quantity", "quantity", "number", decimals=3),
    Column("unit", "unit"),
    Column("rate", "rate", "rate"),
    Column("amount", "amount", "money"),
    Column("fixed", "fixed", "yes", least_width=100),
    Column("reason", "reason"),
)


def charges_page(evaluation: Evaluation) -> Page:
    """The total, every line with quantity, rate and reason, and the total divided five ways, to the cent."""
    bill = evaluation.bill
    lines = [
        (one.item, one.about, one.quantity, one.unit, one.rate, one.amount, one.fixed, one.reason) for one in bill.lines
    ]
    idle = f"; {cents(bill.idle):,} of it for what no flow uses" if bill.idle else ""
    summary = (
        f"{cents(bill.total):,} {bill.currency} a month: "
        f"{cents(bill.fixed):,} fixed, {cents(bill.by_volume):,} by volume{idle}; {cents(bill.year):,} a year",
    )
    tables = (
        Table("lines", f"Lines, in {bill.currency}", _LINES, lines, empty="nothing is charged"),
        _divided("exits", "By exit", "exit", bill.by_exit),
        _divided("flows", "By flow", "flow", bill.by_flow),
        _divided("destinations", "By destination", "destination", bill.by_destination),
        _divided("workloads", "By workload", "workload", bill.by_workload),
        _divided("cost_centres", "By cost centre", "cost_centre", bill.by_cost_centre),
    )
    facts = {
        "currency": bill.currency,
        "month_amount": bill.total,
        "fixed_amount": bill.fixed,
        "by_volume_amount": bill.by_volume,
        "idle_amount": bill.idle,
        "year_amount": bill.year,
    }
    not_counted = tuple(map(str, evaluation.demand.not_counted))
    return Page("charges", evaluation.described.estate.estate, summary, tables, facts, not_counted)


def _divided(name: str, title: str, key: str, amounts: Mapping[str, Fraction]) -> Table:
    columns = (
        Column(key, key.replace("_", " ")),
        Column("rounded_amount", "amount", "money"),
        Column("amount", "exactly", "money", least_width=MACHINES),
    )
    rounded = to_the_cent(amounts)
    ordered = sorted(amounts.items(), key=lambda pair: -pair[1])
    return Table(name, title, columns, [(one or "(nobody)", rounded[one], amount) for one, amount in ordered])
