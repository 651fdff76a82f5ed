"""The month's bill, as a page."""

from collections.abc import Mapping
from fractions import Fraction

from fenrask.designs import Judged
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

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


def charges_page(judged: Judged) -> Page:
    """The total, every line with quantity, rate and reason, and the total divided three ways."""
    bill = judged.bill
    lines = [
        (one.item, one.about, one.quantity, one.unit, one.rate, one.amount, one.fixed, one.reason) for one in bill.lines
    ]
    answer = (
        f"{cents(bill.total):,} {bill.currency} a month: "
        f"{cents(bill.fixed):,} fixed, {cents(bill.by_volume):,} by volume"
    )
    tables = (
        Table("lines", f"Lines, in {bill.currency}", _LINES, lines, empty="nothing is charged"),
        _divided("exits", "By exit", "exit", bill.by_exit),
        _divided("flows", "By flow", "flow", bill.by_flow),
        _divided("cost_centres", "By cost centre", "cost_centre", bill.by_cost_centre),
    )
    facts = {
        "currency": bill.currency,
        "month_amount": bill.total,
        "fixed_amount": bill.fixed,
        "by_volume_amount": bill.by_volume,
    }
    left_out = tuple(map(str, judged.demand.left_out))
    return Page("charges", judged.described.estate.estate, (answer,), tables, facts, left_out)


def _divided(name: str, title: str, key: str, amounts: Mapping[str, Fraction]) -> Table:
    columns = (Column(key, key.replace("_", " ")), Column("amount", "amount", "money"))
    ordered = sorted(amounts.items(), key=lambda pair: -pair[1])
    return Table(name, title, columns, [(one or "(nobody)", amount) for one, amount in ordered])
