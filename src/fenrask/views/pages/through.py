"""Designs through the months, as a page."""

from collections.abc import Collection, Iterator, Sequence
from fractions import Fraction

from fenrask.estate import month_of_number
from fenrask.estate.suggestions import some
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table
from fenrask.views.pages.months import CALENDAR
from fenrask.what_if.through import Overtaking, Through, overtakings

__all__ = ["through_page"]

_SHOWN = 12


def through_page(found: Sequence[Through], absent: Collection[str]) -> Page:
    """What each design costs in all, the cheapest of those that do to the end first; and when one overtakes another.

    found: the estate as it is first. absent: what is not there this month.
    """
    first = found[0].candidate.evaluation
    currency, months = first.bill.currency, len(found[0].amounts)
    ranked = sorted(found, key=lambda design: (-design.passing, design.total))
    rows = [
        (
            one.candidate.design.name, _until(one, months), one.passing, one.once or None,
            one.amounts[0], one.amounts[-1], one.total, one.total - found[0].total,
        )
        for one in ranked
    ]  # fmt: skip
    calendar = first.described.estate.first_month
    passed = [
        (one.month, month_of_number(one.month, calendar), one.design, one.other, one.saved)
        for one in sorted(overtakings(found), key=_order)
    ]
    tables = (
        Table(
            "designs",
            f"Designs through {months} months",
            (
                Column("design", "design", is_answer=True),
                Column("needs_met", "needs met", is_answer=True),
                Column("months_met", "months met", "count", least_width=10_000),
                Column("once_amount", "once", "money", sparse=True),
                Column("first_amount", "this month", "money"),
                Column("last_amount", f"month {months - 1}", "money"),
                Column("total_amount", f"all, {currency}", "money", is_answer=True),
                Column("difference_to_current_amount", "vs current", "difference", is_answer=True),
            ),
            rows,
        ),
        Table(
            "overtakings",
            "When one overtakes another, all paid so far",
            (
                Column("month", "month", "count", is_answer=True),
                CALENDAR,
                Column("design", "design", is_answer=True),
                Column("overtakes", "overtakes", is_answer=True),
                Column("saved_amount", f"less by the end, {currency}", "money", is_answer=True),
            ),
            passed,
            empty="none that meets every need",
            shown=_SHOWN,
        ),
    )
    facts = {"currency": currency, "compared_months": months}
    return Page("compare_months", first.described.estate.estate, (*_summary(ranked, months, absent),), tables, facts)


def _order(overtaking: Overtaking) -> tuple[int, Fraction]:
    return overtaking.month, -overtaking.saved


def _until(through: Through, months: int) -> str:
    if through.passing == months:
        return "yes"
    return f"until month {through.passing - 1}" if through.passing else "no"


def _summary(ranked: Sequence[Through], months: int, absent: Collection[str]) -> Iterator[str]:
    if absent:
        yield f"Not in use this month, though other commands count it: {some(absent)}."
    best = ranked[0]
    name, currency = best.candidate.design.name, best.candidate.evaluation.bill.currency
    if best.passing == months:
        yield f'Cheapest that meets every need in all {months} months: "{name}", {cents(best.total):,} {currency}.'
    elif best.passing:
        yield (
            f'No standard design meets every need in all {months} months; "{name}" does until month '
            f"{best.passing - 1}. `fenrask schedule` looks for what to change then."
        )
    else:
        yield "No standard design meets every need. `fenrask choose` also searches mixed designs."
