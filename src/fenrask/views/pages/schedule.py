"""What to buy when, as a page."""

from collections.abc import Iterator
from datetime import date, timedelta
from fractions import Fraction

from fenrask.addresses import Purchase
from fenrask.estate import Described, month_of_number
from fenrask.estate.suggestions import some
from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table
from fenrask.views.pages.built import BUILT, built
from fenrask.views.pages.months import CALENDAR
from fenrask.what_if import absent
from fenrask.what_if.schedule import Change, Due, Planned, Schedule

__all__ = ["schedule_page"]

_SHOWN = 12


def schedule_page(described: Described, found: Schedule) -> Page:
    """Each order and change with its latest day; when a measurement would change it; what is not mended; the months."""
    plan, currency = found.plan, described.catalogue.currency
    first = found.calendar.first
    tables = (
        _orders(plan, currency, first),
        *_changes(found, currency, first),
        *_commitments(found, currency, first),
        _measurements(plan, currency, first),
        _not_mended(found),
        _by_month(described, found),
    )
    facts = {
        "currency": currency,
        "planned_months": len(plan.months),
        "confidence": plan.level if plan.is_uncertain else None,
        "begin": None if first is None else first.isoformat(),
        "total_amount": found.total,
        "orders_amount": plan.added,
        "changes_amount": found.once,
        "commitments_saved_amount": sum((one.saved for one in found.commitments), Fraction(0)),
        "mixes_count": len(found.mixes),
        "all_today_amount": plan.beside.at_once,
        "month_by_month_amount": plan.beside.by_month,
        "lists_too_short": [*plan.over],
        "short_until_an_order_arrives": [one.name for one, *_ in plan.waits],
    }
    return Page("schedule", described.estate.estate, tuple(_summary(found, described, first)), tables, facts)


def _orders(plan: Planned, currency: str, first: date | None) -> Table:
    """What is ordered, by the latest day."""
    columns = (
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
    )
    rows = [
        (
            _day(one.order_by, first), one.order_by, one.needed.name, _what(one), _day(one.there, first),
            one.order.month, one.then, one.entries, [*one.needed.partners], one.month_amount,
        )
        for one in plan.due
    ]  # fmt: skip
    title, empty = "Addresses to order", "nothing has to be bought"
    return Table("orders", title, columns, rows, empty=empty, shown=_SHOWN, is_answer=True)


def _measurements(plan: Planned, currency: str, first: date | None) -> Table:
    """What to measure before an order, and below what it can wait."""
    columns = (
        Column("by", "by", is_answer=True),
        Column("by_day", "by day", "count", least_width=10_000),
        Column("exit", "exit", is_answer=True),
        Column("counted", "count", is_answer=True),
        Column("planned", "planned", "count", is_answer=True),
        Column("can_wait_below", "can wait below", "count", is_answer=True),
        Column("what", "order"),
        Column("needed_share", "needed in", "share", sparse=True),
        Column("unused_amount", f"unused, {currency}", "money", sparse=True),
        Column("short_days", "days short if it waits", "number", decimals=1, sparse=True),
    )
    rows = [
        (
            _day(one.day, first), one.day, one.due.needed.name, one.counted, round(one.planned), round(one.below),
            _what(one.due),
            *((one.regret.needed, one.regret.unused, one.regret.short_days) if one.regret else (None, None, None)),
        )
        for one in plan.beside.later
    ]  # fmt: skip
    title = "Measure before you order: with fewer at the peak it can wait"
    return Table("measure", title, columns, rows, shown=_SHOWN)


def _not_mended(found: Schedule) -> Table:
    """The limits that are exceeded all the same, from which month on."""
    columns = (
        Column("about", "exit, partner or subnet", is_answer=True),
        Column("limit", "limit", is_answer=True),
        Column("month", "from month", "count", is_answer=True),
        Column("detail", "then"),
    )
    rows = [(one.about, one.limit, one.month, one.detail) for one in found.plan.not_mended]
    title = "What is not mended" if found.changes else "What more addresses do not mend"
    return Table("limits", title, columns, rows, shown=_SHOWN, is_answer=bool(rows))


def _by_month(described: Described, found: Schedule) -> Table:
    """What each month needs, has and costs."""
    currency, once = described.catalogue.currency, {one.begin: one.once for one in found.changes}
    columns = (
        Column("month", "month", "count", is_answer=True),
        CALENDAR,
        Column("addresses_needed", "addresses needed", "count", is_answer=True),
        Column("addresses", "paid for", "count", is_answer=True),
        Column("month_amount", f"{currency}/month", "money", is_answer=True),
        Column("once_amount", f"once, {currency}", "money", is_answer=True),
    )
    rows = [
        (
            one.number, month_of_number(one.number, described.estate.first_month),
            sum(needed.wanted(one.number) for needed in found.plan.needed), one.evaluation.addresses, one.amount,
            one.once + once.get(one.number, 0),
        )
        for one in found.plan.months
    ]  # fmt: skip
    return Table("months", "Month by month", columns, rows, shown=_SHOWN, behind_all=True)


def _changes(found: Schedule, currency: str, first: date | None) -> Iterator[Table]:
    """Each change of exits, and what it builds and changes; nothing where none is needed."""
    if not found.changes:
        return
    each = [
        (
            _day(one.order_by, first), one.order_by, _day(one.there, first), one.begin, _because(one),
            one.before.bill.total, one.after.bill.total, one.once, one.effort.entries, [*one.effort.partners],
        )
        for one in found.changes
    ]  # fmt: skip
    yield Table(
        "changes",
        "Exits to change",
        (
            Column("order_by", "begin by", is_answer=True),
            Column("order_by_day", "begin by day", "count", least_width=10_000),
            Column("there_by", "in use from", is_answer=True),
            Column("month", "month", "count", is_answer=True),
            Column("because", "because", is_answer=True),
            Column("before_amount", f"before, {currency}/month", "money"),
            Column("month_amount", f"then, {currency}/month", "money", is_answer=True),
            Column("once_amount", f"once, {currency}", "money"),
            Column("entries", "entries", "count", sparse=True),
            Column("partners", "changed lists", "list", most=2),
        ),
        each,
        is_answer=True,
    )
    rows = [(one.begin, *row) for one in found.changes for row in built(one.before.described, one.step, one.after)]
    title = "What to build and change in it" if len(found.changes) == 1 else "What to build and change"
    yield Table("built", title, (Column("month", "month", "count", is_answer=True), *BUILT), rows, shown=_SHOWN)


def _commitments(found: Schedule, currency: str, first: date | None) -> Iterator[Table]:
    """Each commitment that is taken; nothing where none is."""
    if not found.commitments:
        return
    yield Table(
        "commitments",
        "Commitments to take",
        (
            Column("from_day", "from", is_answer=True),
            Column("month", "month", "count", is_answer=True),
            Column("commitment", "commitment", is_answer=True),
            Column("until", "binds until month", "count", is_answer=True),
            Column("saved_amount", f"saves in all, {currency}", "money", is_answer=True),
            Column("least_saved_amount", "in its worst month", "difference"),
        ),
        [
            (_day(found.calendar.begin(one.begin), first), one.begin, one.name, one.until, one.saved, one.worst)
            for one in found.commitments
        ],
        is_answer=True,
    )


def _because(change: Change) -> str:
    return f"{change.because.limit} of {change.because.about}" if change.because else "it costs less"


def _summary(found: Schedule, described: Described, first: date | None) -> Iterator[str]:
    plan, currency, gone = found.plan, described.catalogue.currency, absent(described)
    months = len(plan.months)
    if gone:
        yield f"Not in use this month, though other commands count it: {some(gone)}."
    sure = f" with {plan.level:.0%} confidence" if plan.is_uncertain else ""
    if plan.due:
        number, soon = counted(len(plan.due), "order", "orders"), min(plan.due, key=lambda due: due.order_by)
        yield (
            f"{number} in {months} months{sure}: {cents(plan.added):,} {currency} to the end; "
            f"first {_what(soon)} for {soon.needed.name}, {_by(soon.order_by, first)}."
        )
        yield (
            f"All bought today: {cents(plan.beside.at_once):,} {currency}; each month what it lacks: "
            f"{cents(plan.beside.by_month):,}{_too_long(plan)}."
        )
    elif not found.changes:
        yield f"No address has to be bought in {months} months{sure}."
    for names, begins, until in _waiting(found):
        when = "today" if not begins else f"in month {begins}"
        verb = "lacks" if len(names) == 1 else "lack"
        yield f"{some(names)} {verb} addresses {when}, and an order of today is there {_when(until, first)}."
    if plan.over:
        yield f"Lists too short for what is needed: {some(plan.over)}. Ask for more entries, or for a block."
    if found.commitments:
        saved = sum((one.saved for one in found.commitments), Fraction(0))
        offered = dict.fromkeys(one.name for one in found.commitments)
        terms = counted(len(found.commitments), "term", "terms")
        yield f"Commitments to take: {some([*offered])}, {terms}, {cents(saved):,} {currency} less in all."
    yield from _changing(found, currency, first)
    yield f"All bills of {months} months: {cents(found.total):,} {currency}."


def _changing(found: Schedule, currency: str, first: date | None) -> Iterator[str]:
    """From when on other exits are needed; and what none mends."""
    for change in found.changes:
        late = f", which is there {_when(change.there, first)} if you begin today" * (change.there > change.begins)
        soon = "" if late else f"; begin {_by(change.order_by, first)}"
        yield f"Other exits from month {change.begin} on: {_because(change)}{late or soon}."
        if change.soonest < change.begin and cents(change.sooner):
            word = "saves" if change.sooner < 0 else "costs"
            amount = f"{cents(abs(change.sooner)):,} {currency}"
            yield f"Made in month {change.soonest}, the same {word} {amount}."
    if found.changes:
        yield "Its patch: --save FOLDER." if len(found.changes) == 1 else "Their patches: --save FOLDER."
    ahead = [one for one in found.plan.not_mended if one.month]
    if not ahead:
        return
    what = f"{ahead[0].limit} of {ahead[0].about} in month {ahead[0].month}"
    if found.unanswered:
        yield f"No exits of the catalogue mend {what}: {found.unanswered}"
    elif found.mixes:
        yield f"No exits that were looked at mend {what}."


def _too_long(plan: Planned) -> str:
    over = [one for one in plan.beside.by_month_over if one not in plan.over]
    if not over:
        return ""
    return f", too many entries for {'the lists' if len(over) > 1 else 'the list'} of {some(over)}"


def _waiting(schedule: Schedule) -> Iterator[tuple[list[str], int, int]]:
    """Exits that lack addresses until an order of today is there: from which month, and the day on which it is."""
    plan = schedule.plan
    there = {one.needed.key: one.there for one in plan.due if not one.order_by}
    found: dict[tuple[int, int], list[str]] = {}
    for needed, begins, until in plan.waits:
        found.setdefault((begins, there.get(needed.key, schedule.calendar.begin(until))), []).append(needed.name)
    yield from ((names, begins, day) for (begins, day), names in found.items())


def _what(due: Due) -> str:
    return " and ".join(Purchase(due.order.addresses, due.order.lengths).blocks)


def _day(day: int, first: date | None) -> str:
    if first is not None:
        return (first + timedelta(days=day)).isoformat()
    return "today" if not day else f"day {day}" if day > 0 else f"{counted(-day, 'day', 'days')} ago"


def _by(day: int, first: date | None) -> str:
    return "today" if not day else f"by {_day(day, first)}"


def _when(day: int, first: date | None) -> str:
    return f"on {_day(day, first)}"
