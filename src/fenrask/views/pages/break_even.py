"""Break-even volumes of a flow, as a page."""

from collections.abc import Iterator

from fenrask.designs import BreakEven
from fenrask.units import cents, counted, figure
from fenrask.views.page import Column, Page, Table

__all__ = ["break_even_page"]

_WORDS = {"cross": "cross", "touch": "touch", "coincide": "equal"}
_SHOWN = 12
"""Crossings shown, those nearest to today's volume; the rest is for `--all`."""


def break_even_page(estate: str, found: BreakEven, what: str) -> Page:
    """The options at the flow's volume, the cheapest that fails nothing first; where any two cost the same.

    `what` is what is compared: `design`, or the `path` of the flow.
    """
    rivals = [
        (
            one.design,
            one.curve.at(found.volume),
            one.curve.start,
            one.down_minutes,
            one.upkeep_hours or None,
            one.fails,
        )
        for one in found.rivals
    ]
    columns = (
        Column("design", what, is_answer=True),
        Column("month_amount", f"{found.currency}/month", "money", is_answer=True),
        Column("fixed_amount", f"without {found.flow}", "money"),
        Column("down_min_per_month", "down min/month", "number", decimals=2, sparse=True),
        Column("upkeep_hours", "hours of work", "figure", sparse=True),
        Column("fails", "does not meet", "list"),
    )
    meetings = (
        Column("one", "A", is_answer=True),
        Column("other", "B", is_answer=True),
        Column("how", "relation", is_answer=True),
        Column("volume", f"at {found.unit}/month", "figure", is_answer=True),
        Column("until_volume", "up to", "figure", sparse=True),
        Column("hosts", "that is hosts", "count"),
    )
    near = sorted(found.meetings, key=lambda meeting: abs(meeting.at.volume - found.volume))
    rows = [
        (
            one.first,
            one.second,
            _WORDS[one.at.kind],
            one.at.volume,
            one.at.until,
            None if one.hosts is None else round(one.hosts),
        )
        for one in near
    ]
    tables: tuple[Table, ...] = (
        Table(
            "designs", f"Cost of the whole estate at {figure(float(found.volume))} {found.unit}/month", columns, rivals
        ),
        Table("break_even", "Where two cost the same, nearest first", meetings, rows, empty="nowhere", shown=_SHOWN),
    )
    if found.wages:
        tables += (_wages(found),)
    facts = {"currency": found.currency, "volume_unit": found.unit, "volume": found.volume}
    not_counted = ("ports and addresses stay as they are: the same connections, with more or fewer bytes",)
    return Page("break_even", estate, tuple(_summary(found, what)), tables, facts, not_counted)


def _summary(found: BreakEven, what: str) -> Iterator[str]:
    """The cheapest at the flow's volume, and where another one takes its place."""
    now = f"{found.flow} carries {figure(float(found.volume))} {found.unit}/month"
    own = found.left_aside is not None
    needs = "its needs" if own else "every need"
    if (best := found.best) is None:
        yield f"{now}; no {what} meets {needs}{' on exits that carry it' if own else ' and carries every load'}."
    else:
        cost = f"{cents(best.curve.at(found.volume)):,} {found.currency}/month"
        yield f'{now}: cheapest {what} that meets {needs} is "{best.design}", {cost} for the whole estate.'
        if (change := found.nearest) is not None:
            other = change.second if change.first == best.design else change.first
            side = "above" if change.at.volume > found.volume else "below"
            yield f'"{other}" is cheaper {side} {figure(float(change.at.volume))} {found.unit}/month.'
        else:
            yield f"No other one that meets {needs} is cheaper at any volume."
    yield from _above_a_wage(found)
    if found.left_aside:
        yield f"{counted(found.left_aside, 'fault')} of other flows and exits left aside (`fenrask check`)."


def _above_a_wage(found: BreakEven) -> list[str]:
    """The wage above which something with less work takes the best one's place, and what that does for downtime."""
    best = found.best
    less = [one for one in found.wages if best is not None and one.harder == best.design]
    if not less:
        return []
    first = min(less, key=lambda wage: wage.per_hour)
    down = ""
    if first.more_down_minutes:
        change = "less" if first.more_down_minutes > 0 else "more"
        down = f", down {abs(first.more_down_minutes):,.2f} min/month {change}"
    return [f'Above {cents(first.per_hour):,} {found.currency} an hour of work "{first.easier}" is cheaper{down}.']


def _wages(found: BreakEven) -> Table:
    """What more of one's own work buys, and at which wage that costs as much."""
    columns = (
        Column("one", "A", is_answer=True),
        Column("other", "B, with more work", is_answer=True),
        Column("more_upkeep_hours", "more hours", "figure"),
        Column("more_down_min_per_month", "more min down", "number", decimals=2, sparse=True),
        Column("wage_amount", f"same cost at {found.currency}/hour", "number", decimals=2),
    )
    rows = [
        (one.easier, one.harder, one.more_hours, one.more_down_minutes, one.per_hour if one.per_hour >= 0 else None)
        for one in found.wages
    ]
    title = f"Managed or self-run: the wage at which both cost the same (now {cents(found.wage_per_hour):,}), a month"
    return Table("wages", title, columns, rows, shown=6)
