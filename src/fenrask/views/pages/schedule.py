"""What to buy when, as a page."""

from collections.abc import Iterator
from datetime import date, timedelta

from fenrask.addresses import Purchase
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import absent
from fenrask.what_if.schedule import Due, Schedule, day_of

__all__ = ["schedule_page"]

_SHOWN = 12


def schedule_page(described: Described, plan: Schedule, first: date | None) -> Page:
    """Each order with its latest day; when a measurement would change it; what no address mends; month by month."""
    currency, months = described.catalogue.currency, len(plan.months)
    orders = [
        (
            _day(one.order_by, first), one.order_by, one.needed.name, _what(one), _day(one.there, first),
            one.order.month, one.then, one.entries, [*one.needed.partners], one.month_amount,
        )
        for one in plan.due
    ]  # fmt: skip
    later = [
        (_day(one.day, first), one.day, one.due.needed.name, round(one.planned), round(one.below), _what(one.due))
        for one in plan.later
    ]
    limits = [(one.about, one.limit, one.month, one.detail) for one in plan.not_mended]
    by_month = [
        (one.number, sum(needed.wanted(one.number) for needed in plan.needed), one.evaluation.addresses, one.amount,
         one.once)
        for one in plan.months
    ]  # fmt: skip
    tables = (
        Table(
            "orders",
            "Addresses to order",
            (
                Column("order_by", "order by", is_answer=True),
                Column("order_by_day", "order by day", "count", least_width=10_000),
                Column("exit", "exit", is_answer=True),
                Column("what", "what", is_answer=True),
                Column("there_by", "in use from", is_answer=True),
                Column("month", "month", "count", least_width=10_000),
                Column("addresses", "addresses then", "count"),
                Column("entries", "entries", "count", sparse=True),
                Column("partners", "added to the lists of", "list", most=2),
                Column("month_amount", f"{currency}/month", "money", is_answer=True),
            ),
            orders,
            empty="nothing has to be bought",
            shown=_SHOWN,
            is_answer=True,
        ),
        Table(
            "measure",
            "Measure before you order: with fewer connections at the peak it can wait",
            (
                Column("by", "by", is_answer=True),
                Column("by_day", "by day", "count", least_width=10_000),
                Column("exit", "exit", is_answer=True),
                Column("planned_connections", "planned", "count", is_answer=True),
                Column("enough_below_connections", "can wait below", "count", is_answer=True),
                Column("what", "order"),
            ),
            later,
            shown=_SHOWN,
        ),
        Table(
            "limits",
            "What more addresses do not mend",
            (
                Column("about", "exit, partner or subnet", is_answer=True),
                Column("limit", "limit", is_answer=True),
                Column("month", "from month", "count", is_answer=True),
                Column("detail", "then"),
            ),
            limits,
            shown=_SHOWN,
            is_answer=bool(limits),
        ),
        Table(
            "months",
            "Month by month",
            (
                Column("month", "month", "count", is_answer=True),
                Column("addresses_needed", "addresses needed", "count", is_answer=True),
                Column("addresses", "paid for", "count", is_answer=True),
                Column("month_amount", f"{currency}/month", "money", is_answer=True),
                Column("once_amount", f"once, {currency}", "money", is_answer=True),
            ),
            by_month,
            shown=_SHOWN,
            behind_all=True,
        ),
    )
    facts = {
        "currency": currency,
        "planned_months": months,
        "confidence": plan.level if plan.is_uncertain else None,
        "begin": None if first is None else first.isoformat(),
        "total_amount": plan.total,
        "orders_amount": plan.added,
        "all_today_amount": plan.at_once,
        "month_by_month_amount": plan.by_month,
        "lists_too_short": [*plan.over],
        "short_until_an_order_arrives": [one.name for one, *_ in plan.waits],
    }
    return Page("schedule", described.estate.estate, tuple(_summary(plan, described, first)), tables, facts)


def _summary(plan: Schedule, described: Described, first: date | None) -> Iterator[str]:
    months, currency, gone = len(plan.months), described.catalogue.currency, absent(described)
    if gone:
        yield f"Not in use this month, though other commands count it: {some(gone)}."
    sure = f" with {plan.level:.0%} confidence" if plan.is_uncertain else ""
    if plan.due:
        number, soon = counted(len(plan.due), "order", "orders"), min(plan.due, key=lambda one: one.order_by)
        yield (
            f"{number} in {months} months{sure}: {cents(plan.added):,} {currency} to the end; "
            f"first {_what(soon)} for {soon.needed.name}, {_by(soon.order_by, first)}."
        )
        yield (
            f"All bought today: {cents(plan.at_once):,} {currency}; each month what it lacks: "
            f"{cents(plan.by_month):,}{_too_long(plan)}."
        )
    else:
        yield f"No address has to be bought in {months} months{sure}."
    for names, begins, until in _waiting(plan):
        when = "today" if not begins else f"in month {begins}"
        verb = "lacks" if len(names) == 1 else "lack"
        yield f"{some(names)} {verb} addresses {when}, and an order of today is there {_when(until, first)}."
    if plan.over:
        yield f"Lists too short for what is needed: {some(plan.over)}. Ask for more entries, or for a block."
    ahead = [one for one in plan.not_mended if one.month]
    if ahead:
        one, grown = ahead[0], f" --growth {plan.share:g}" if plan.share else ""
        yield (
            f"More addresses do not mend {one.limit} of {one.about} in month {one.month}. Look for other exits: "
            f"`fenrask merged --month {one.month}{grown} | fenrask choose -`."
        )
    yield f"All bills of {months} months: {cents(plan.total):,} {currency}."


def _too_long(plan: Schedule) -> str:
    over = [one for one in plan.by_month_over if one not in plan.over]
    if not over:
        return ""
    return f", too many entries for {'the lists' if len(over) > 1 else 'the list'} of {some(over)}"


def _waiting(plan: Schedule) -> Iterator[tuple[list[str], int, int]]:
    """Exits that lack addresses until an order of today is there: from which month, and the day on which it is."""
    there = {one.needed.key: one.there for one in plan.due if not one.order_by}
    found: dict[tuple[int, int], list[str]] = {}
    for needed, begins, until in plan.waits:
        found.setdefault((begins, there.get(needed.key, day_of(until))), []).append(needed.name)
    yield from ((names, begins, day) for (begins, day), names in found.items())


def _what(one: Due) -> str:
    return " and ".join(Purchase(one.order.addresses, one.order.lengths).blocks)


def _day(day: int, first: date | None) -> str:
    if first is not None:
        return (first + timedelta(days=day)).isoformat()
    return "today" if not day else f"day {day}" if day > 0 else f"{counted(-day, 'day', 'days')} ago"


def _by(day: int, first: date | None) -> str:
    return "today" if not day else f"by {_day(day, first)}"


def _when(day: int, first: date | None) -> str:
    return f"on {_day(day, first)}"
