"""Records sent through an estate's ports as they were, beside what the formulas say, as a page."""

from collections.abc import Mapping, Sequence

from fenrask.estate import Estate
from fenrask.records.batch import Unread
from fenrask.records.replaying import Day, Replayed, Through
from fenrask.units import counted
from fenrask.views.cells import share_text
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["replayed_page"]

_THROUGH = (
    Column("exit", "exit"),
    Column("addresses", "addresses", "count"),
    Column("connections", "connections", "count"),
    Column("without_port", "no free port", "count"),
    Column("blocking", "share", "share"),
    Column("what", "which number"),
)
_DAYS = (
    Column("exit", "exit"),
    Column("date", "day (UTC)", "code"),
    Column("connections", "connections", "count"),
    Column("without_port", "no free port", "count"),
    Column("blocking", "share", "share"),
    Column("model_blocking", "formula", "share"),
    Column("first_tries_dropped", "first SYNs dropped", "share", sparse=True, least_width=110),
    Column("lost_for_good", "lost for good", "share", sparse=True),
    Column("mean_wait_s", "mean wait, s", "rough", sparse=True),
    Column("p95_wait_s", "95%, s", "rough", sparse=True),
)
_EXITS = (
    Column("exit", "exit", least_width=MACHINES),
    Column("connections", "connections", "count", least_width=MACHINES),
    Column("blocking", "no free port", "share", least_width=MACHINES),
    Column("model_blocking", "formula", "share", least_width=MACHINES),
    Column("addresses", "addresses", "count", least_width=MACHINES),
    Column("needed_by_records", "needed by records", "count", least_width=MACHINES),
    Column("needed_by_formula", "needed by formula", "count", least_width=MACHINES),
)


def replayed_page(
    estate: Estate, found: Sequence[Replayed], why: Mapping[str, str], unread: Unread, no_pair: int = 0
) -> Page:
    """What finds no port of each exit's recorded connections, by number of addresses and by day.

    why: by exit, what the flows do not say of the records, in words; no_pair: connections of no pair of the estate.
    """
    target = estate.targets.blocking
    through = [
        (one.exit, each.addresses, one.connections, each.refused, each.refused / one.connections, _what(one, each))
        for one in found
        for each in one.through
    ]
    days = [
        (one.exit, day.date, day.connections, day.refused, day.refused / day.connections, one.model, *_felt(day))
        for one in found
        for day in one.days
    ]
    exits = [
        (one.exit, one.connections, one.share, one.model, one.addresses, one.needed, one.model_needed) for one in found
    ]
    tables = (
        Table("through", "Recorded connections through the ports of each exit", _THROUGH, through, shown=16),
        Table("days", "By day, with the addresses in force", _DAYS, days, shown=14),
        Table("exits", "By exit", _EXITS, exits, behind_all=True),
    )
    not_counted = [f"{one.exit}: {words}" for one in found for words in one.not_counted]
    not_counted += unread.told()
    lines = [line for one in found for line in _lines(one, target, why.get(one.exit, ""))]
    if not found:
        lines = ["No recorded connection belongs to a flow that a translating exit carries."]
    if no_pair:
        lines.append(f"{counted(no_pair, 'record')} of no subnet or destination of the estate: not counted.")
    return Page("simulate", estate.estate, tuple(lines), tables, {"target_blocking": target}, tuple(not_counted))


def _felt(day: Day) -> tuple[float | None, ...]:
    felt = day.waits
    return (None,) * 4 if felt is None else (felt.dropped, felt.lost, felt.mean_s, felt.p95_s)


def _what(replayed: Replayed, each: Through) -> str:
    words = {
        "in force": each.addresses == replayed.addresses,
        "the formulas ask for": each.addresses == replayed.model_needed,
        "the records ask for": each.addresses == replayed.needed,
    }
    return ", ".join(word for word, holds in words.items() if holds)


def _lines(replayed: Replayed, target: float, why: str) -> list[str]:
    """The replay beside the formulas, in a sentence or two."""
    replay = (
        f"{replayed.exit}, replayed: {share_text(replayed.share)} of "
        f"{counted(replayed.connections, 'recorded connection')} find no free port with "
        f"{counted(replayed.addresses, 'address', 'addresses')}; the formulas say {share_text(replayed.model)}"
    )
    lines = [f"{replay}: {why}." if why else f"{replay}."]
    if replayed.needed is None:
        lines.append(f"No number of addresses keeps these records within {share_text(target)}.")
    elif replayed.needed != replayed.addresses:
        lines.append(f"{counted(replayed.needed, 'address', 'addresses')} would keep these records within the target.")
    return lines
