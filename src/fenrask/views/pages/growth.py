"""Growth and sensitivity, as pages."""

from collections.abc import Sequence

from fenrask.units import cents
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Effect, Growth

__all__ = ["growth_page", "sensitivity_page"]

_CROSSINGS = (
    Column("about", "exit or partner"),
    Column("limit", "limit"),
    Column("month", "passed in month", "count"),
    Column("act_by_month", "order by", "number"),
    Column("detail", "then"),
)
_MONTHS = (
    Column("month", "month", "count"),
    Column("month_amount", "cost", "money"),
    Column("addresses", "addresses", "count"),
    Column("fullest", "fullest"),
    Column("fullest_share", "used", "share"),
)
_EFFECTS = (
    Column("about", "a tenth more"),
    Column("month_change_amount", "month", "difference"),
    Column("headroom_change_share", "least headroom", "share"),
)


def growth_page(estate: str, currency: str, growth: Growth, lead_months: float) -> Page:
    """When each limit is passed, by when more has to be ordered, and what each month costs."""
    first, last = growth.months[0], growth.months[-1]
    crossings = [(one.about, one.limit, one.month, one.act_by(lead_months), one.detail) for one in growth.crossings]
    months = []
    for month in growth.months:
        fullest = max(month.used, key=lambda name: month.used[name], default="")
        months.append((month.number, month.amount, month.addresses, fullest, month.used.get(fullest)))
    then = f"{cents(first.amount):,} {currency} a month now, {cents(last.amount):,} in month {last.number}"
    summary = [then]
    coming = [one for one in growth.crossings if one.month]
    already = [one for one in growth.crossings if not one.month]
    if coming:
        summary.append(f"first: {coming[0].limit} of {coming[0].about or 'the estate'} in month {coming[0].month}")
    if already:
        summary.append(f"passed now: {', '.join(f'{one.limit} of {one.about}' for one in already)}")
    if not growth.crossings:
        summary.append("no limit is passed")
    tables = (
        Table("crossings", "Limits that are passed", _CROSSINGS, crossings),
        Table("months", f"Month by month, in {currency}", _MONTHS, months),
    )
    return Page("growth", estate, tuple(summary), tables, {"currency": currency, "lead_months": lead_months})


def sensitivity_page(estate: str, currency: str, effects: Sequence[Effect]) -> Page:
    """What a tenth more of each input does, the greatest change of cost first."""
    rows = [(one.about, one.month_change, one.headroom_change) for one in effects]
    summary = ["nothing moves the cost"]
    if effects:
        top = max(effects, key=lambda one: abs(one.month_change))
        tight = min(effects, key=lambda one: one.headroom_change)
        summary = [f"cost: {top.about} moves it most, {cents(top.month_change):+,} {currency} a month for a tenth more"]
        if tight.headroom_change < 0:
            summary.append(f"headroom: {tight.about} takes most of it, {tight.headroom_change:+.1%}")
    table = Table("effects", f"A tenth more of each input, the others as they are; {currency}", _EFFECTS, rows)
    return Page("sensitivity", estate, tuple(summary), (table,), {"currency": currency})
