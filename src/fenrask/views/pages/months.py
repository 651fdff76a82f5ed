"""The bills of the months to come, as a page."""

from collections.abc import Collection, Iterable, Sequence
from fractions import Fraction

from fenrask.estate import month_of_number
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

__all__ = ["CALENDAR", "months_page"]

_SHOWN = 12
CALENDAR = Column("calendar_month", "calendar", is_answer=True, sparse=True)
"""The calendar month beside its number; shown where the estate states its first month."""


def months_page(ahead: Sequence[Evaluation], once: Sequence[Fraction], absent: Collection[str]) -> Page:
    """Month by month what is charged; each item and exit over all of them.

    once: by month, what exits cost once that come or go in it; absent: what is not there this month.
    """
    bills = [one.bill for one in ahead]
    by_item = [[(line.item, line.amount) for line in bill.lines] for bill in bills]
    by_exit = [[(name or "(no exit)", amount) for name, amount in bill.by_exit.items()] for bill in bills]
    total, currency = sum((bill.total for bill in bills), sum(once, Fraction(0))), bills[0].currency
    before = [bills[0], *bills]
    first = ahead[0].described.estate.first_month
    months = [
        (
            number,
            month_of_number(number, first),
            bill.total,
            bill.total - before[number].total,
            once[number] or None,
            ahead[number].addresses,
        )
        for number, bill in enumerate(bills)
    ]
    count = len(bills)
    summary = (
        *([f"Not in use this month, though other commands count it: {some(absent)}."] if absent else []),
        f"{cents(total):,} {currency} in {count} months; {count} times this month's bill is "
        f"{cents(count * bills[0].total):,}.",
        f"{cents(bills[0].total):,} {currency} this month, {cents(bills[-1].total):,} in month {count - 1}.",
    )
    columns = (
        Column("month", "month", "count", is_answer=True),
        CALENDAR,
        Column("month_amount", f"{currency}/month", "money", is_answer=True),
        Column("change_amount", "change", "difference", is_answer=True),
        Column("once_amount", "once", "money", sparse=True),
        Column("addresses", "addresses", "count"),
    )
    tables = (
        Table("months", "Month by month", columns, months, shown=_SHOWN),
        *(
            Table(f"{of}s", f"By {of}", (Column(of, of, is_answer=True), *_sums(currency)), _rows(each), shown=_SHOWN)
            for of, each in (("item", by_item), ("exit", by_exit))
        ),
    )
    facts = {"currency": currency, "total_amount": total, "times_this_month_amount": count * bills[0].total}
    return Page("bill_months", ahead[0].described.estate.estate, summary, tables, facts)


def _sums(currency: str) -> tuple[Column, ...]:
    return (
        Column("first_amount", "this month", "money", is_answer=True),
        Column("last_amount", "the last month", "money", is_answer=True),
        Column("total_amount", f"all, {currency}", "money", is_answer=True),
    )


def _rows(by_month: Sequence[Iterable[tuple[str, Fraction]]]) -> list[tuple[str, Fraction, Fraction, Fraction]]:
    """Of each name what it costs in the first month, in the last, and in all; the largest first."""
    found: dict[str, list[Fraction]] = {}
    for number, amounts in enumerate(by_month):
        for name, amount in amounts:
            found.setdefault(name, [Fraction(0)] * len(by_month))[number] += amount
    rows = [(name, amounts[0], amounts[-1], sum(amounts, Fraction(0))) for name, amounts in found.items()]
    return sorted(rows, key=lambda row: -row[3])
