"""The month's bill, as a page."""

from dataclasses import replace
from decimal import Decimal

from fenrask.charges import Divided, to_the_cent
from fenrask.evaluation import Evaluation
from fenrask.units import cents
from fenrask.views.page import MACHINES, Column, MadeRows, Page, Table
from fenrask.what_if import grows

__all__ = ["charges_page"]

_SHOWN = 6


def charges_page(evaluation: Evaluation) -> Page:
    """The total; each exit's, flow's and cost centre's share, to the cent; every line with quantity and reason."""
    bill = evaluation.bill
    money = f"{bill.currency}/month"
    rounded = to_the_cent({number: one.amount for number, one in enumerate(bill.lines)})
    lines = [
        (one.item, one.about, one.quantity, one.unit, one.rate, rounded[number], one.amount, one.fixed, one.reason)
        for number, one in sorted(enumerate(bill.lines), key=lambda pair: -abs(pair[1].amount))
    ]
    total = sum(rounded.values(), Decimal(0))
    ahead = f"{12 * total:,} {bill.currency}/year"
    if grows(evaluation.described):
        ahead = "--months 12: the year, as it grows"
    summary = [f"{total:,} {money} ({cents(bill.fixed):,} fixed, {total - cents(bill.fixed):,} by volume); {ahead}"]
    if bill.idle:
        summary.append(f"{cents(bill.idle):,} {money} of it is for what no flow uses")
    columns = (
        Column("item", "item"),
        Column("about", "resource"),
        Column("quantity", "quantity", "figure"),
        Column("unit", "unit"),
        Column("rate", "rate", "rate"),
        Column("rounded_amount", money, "money", is_answer=True),
        Column("amount", "exactly", "money", least_width=MACHINES),
        Column("fixed", "fixed", "yes", least_width=MACHINES),
        Column("reason", "calculation"),
    )
    tables = (
        _divided("exit", bill.by_exit, money, "(no exit)"),
        _divided("flow", bill.by_flow, money),
        _divided("cost_centre", bill.by_cost_centre, money),
        Table("lines", "Lines, the largest first", columns, lines, empty="nothing is charged", shown=_SHOWN),
        replace(_divided("destination", bill.by_destination, money), behind_all=True),
        replace(_divided("workload", bill.by_workload, money), behind_all=True),
    )
    facts = {
        "currency": bill.currency,
        "month_amount": bill.total,
        "fixed_amount": bill.fixed,
        "by_volume_amount": bill.by_volume,
        "unallocated_amount": bill.idle,
        "year_amount": bill.year,
    }
    not_counted = tuple(map(str, evaluation.demand.not_counted))
    return Page("charges", evaluation.described.estate.estate, tuple(summary), tables, facts, not_counted)


def _divided(key: str, amounts: Divided[str], money: str, without: str = "(unallocated)") -> Table:
    """The bill by the exit, flow or whatever has each amount. without: what is said of an amount that none has."""
    of = key.replace("_", " ")
    columns = (
        Column(key, of, is_answer=True),
        Column("rounded_amount", money, "money", is_answer=True),
        Column("amount", "exactly", "money", least_width=MACHINES),
    )

    def row(place: int) -> tuple[object, ...]:
        rounded = Decimal(int(amounts.cents[place])).scaleb(-2)
        return (amounts.keys_in_order[place] or without, rounded, amounts.amount(place))

    rows = MadeRows(amounts.largest_first.tolist(), row)
    return Table(f"{key}s", f"By {of}", columns, rows, shown=_SHOWN)
