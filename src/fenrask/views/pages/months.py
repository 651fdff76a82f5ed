"""The bills of the months to come, as a page."""

from collections.abc import Sequence
from fractions import Fraction

from fenrask.evaluation import Evaluation
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

__all__ = ["months_page"]

_SHOWN = 12


def months_page(ahead: Sequence[Evaluation]) -> Page:
    """Month by month what is charged, and each item over all of them."""
    bills = [one.bill for one in ahead]
    items: dict[str, list[Fraction]] = {}
    for number, bill in enumerate(bills):
        for line in bill.lines:
            items.setdefault(line.item, [Fraction(0)] * len(bills))[number] += line.amount
    total, currency = sum((bill.total for bill in bills), Fraction(0)), bills[0].currency
    by_item = [(item, amounts[0], amounts[-1], sum(amounts, Fraction(0))) for item, amounts in items.items()]
    by_item.sort(key=lambda one: -one[3])
    months = [
        (number, bill.total, bill.total - bills[number - 1].total if number else Fraction(0), one.addresses)
        for number, (bill, one) in enumerate(zip(bills, ahead, strict=True))
    ]
    count = len(bills)
    summary = (
        f"{cents(total):,} {currency} in {count} months; {count} times this month's bill is "
        f"{cents(count * bills[0].total):,}.",
        f"{cents(bills[0].total):,} {currency} this month, {cents(bills[-1].total):,} in month {count - 1}.",
    )
    tables = (
        Table(
            "months",
            "Month by month",
            (
                Column("month", "month", "count", is_answer=True),
                Column("month_amount", f"{currency}/month", "money", is_answer=True),
                Column("change_amount", "change", "difference", is_answer=True),
                Column("addresses", "addresses", "count"),
            ),
            months,
            shown=_SHOWN,
        ),
        Table(
            "items",
            "By item",
            (
                Column("item", "item", is_answer=True),
                Column("first_amount", "this month", "money", is_answer=True),
                Column("last_amount", "the last month", "money", is_answer=True),
                Column("total_amount", f"all, {currency}", "money", is_answer=True),
            ),
            by_item,
            shown=_SHOWN,
        ),
    )
    facts = {"currency": currency, "total_amount": total, "times_this_month_amount": count * bills[0].total}
    return Page("bill_months", ahead[0].described.estate.estate, summary, tables, facts)
