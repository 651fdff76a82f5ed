"""Growth and sensitivity, as pages."""

from collections.abc import Sequence

from fenrask.estate import Described, month_of_number
from fenrask.estate.suggestions import some
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table
from fenrask.views.pages.months import CALENDAR
from fenrask.what_if import Effect, Growth
from fenrask.what_if.growth import Crossing

__all__ = ["growth_page", "sensitivity_page"]

_SHOWN = 12


def growth_page(described: Described, growth: Growth, lead_months: float) -> Page:
    """When each limit is exceeded, the latest month to order, and what each month costs."""
    first, last, calendar = growth.months[0], growth.months[-1], described.estate.first_month
    currency = described.catalogue.currency
    crossings = [
        (
            one.about or "the estate",
            one.limit,
            one.month,
            month_of_number(one.month, calendar),
            _order(one, lead_months),
            one.detail,
        )
        for one in growth.crossings
    ]
    months = []
    for month in growth.months:
        fullest = max(month.used, key=lambda name: month.used[name], default="")
        then = month_of_number(month.number, calendar)
        months.append((month.number, then, month.amount, month.addresses, fullest, month.used.get(fullest)))
    money = f"{currency}/month"
    summary = [f"{cents(first.amount):,} {money} now, {cents(last.amount):,} in month {last.number}."]
    coming = [one for one in growth.crossings if one.month]
    already = [one for one in growth.crossings if not one.month]
    if already:
        summary.append(f"Exceeded already: {some(f'{one.limit} of {one.about}' for one in already)}.")
    if coming:
        summary.append(f"Next: {coming[0].limit} of {coming[0].about or 'the estate'} in month {coming[0].month}.")
    if not growth.crossings:
        summary.append("No limit is exceeded.")
    columns = (
        Column("about", "exit, partner or subnet", is_answer=True),
        Column("limit", "limit", is_answer=True),
        Column("month", "exceeded in month", "count", is_answer=True),
        CALENDAR,
        Column("order_by", "order by", is_answer=True),
        Column("detail", "then"),
    )
    by_month = (
        Column("month", "month", "count", is_answer=True),
        CALENDAR,
        Column("month_amount", money, "money", is_answer=True),
        Column("addresses", "addresses", "count"),
        Column("fullest", "fullest exit"),
        Column("fullest_share", "used", "share"),
    )
    tables = (
        Table("crossings", "Limits that are exceeded", columns, crossings, shown=_SHOWN),
        Table("months", "Month by month", by_month, months, shown=_SHOWN),
    )
    return Page(
        "growth", described.estate.estate, tuple(summary), tables, {"currency": currency, "lead_months": lead_months}
    )


def _order(crossing: Crossing, lead_months: float) -> str:
    """The latest month to order in, or how long that is over."""
    act_by = crossing.act_by(lead_months)
    if act_by >= 0:
        return f"month {round(act_by, 1):g}"
    return f"overdue ({round(-act_by, 1):g} months)"


def sensitivity_page(estate: str, currency: str, effects: Sequence[Effect]) -> Page:
    """The effect of ten per cent more of each input, the greatest change of the bill first."""
    rows = [(one.about, one.month_change, 100 * one.headroom_change) for one in effects]
    money = f"{currency}/month"
    summary = ["No input moves the bill."]
    if effects:
        top = max(effects, key=lambda effect: abs(effect.month_change))
        tight = min(effects, key=lambda effect: effect.headroom_change)
        summary = [f"The bill depends most on {top.about}: {cents(top.month_change):+,} {money} for +10%."]
        if tight.headroom_change < 0:
            points = f"{100 * tight.headroom_change:+.1f} points"
            summary.append(f"The smallest headroom depends most on {tight.about}: {points} for +10%.")
    columns = (
        Column("about", "input", is_answer=True),
        Column("month_change_amount", f"bill change, {money}", "difference"),
        Column("headroom_change_points", "change of the smallest headroom, points", "number"),
    )
    table = Table("effects", "Effect of +10% on each input", columns, rows, shown=10)
    return Page("sensitivity", estate, tuple(summary), (table,), {"currency": currency})
