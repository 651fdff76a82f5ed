"""Which sources a destination sees, now and after losses, as a page."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime

from fenrask.estate.suggestions import some
from fenrask.records.batch import Unread
from fenrask.records.used import Use
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Shown

__all__ = ["case_rows", "partner_page", "uses_page", "with_cases"]

_COLUMNS = (
    Column("case", "case", is_answer=True),
    Column("exits", "path", "list"),
    Column("seen_as", "source seen", is_answer=True),
    Column("verdict", "verdict", is_answer=True),
    Column("share", "share", "share", least_width=100),
    Column("changed", "changed", is_answer=True),
)


_ORDER = ("path", "source", "lost", "-", "no")
"""Kinds of change: those that change something before the others."""


def case_rows(subnet: str, cases: Sequence[Shown]) -> Iterator[tuple[object, ...]]:
    """A row for each path in each case; those in which something changes before the others."""
    now = cases[0]
    for case in (now, *sorted(cases[1:], key=lambda case: _ORDER.index(case.change_from(now)))):
        if case.cut_off:
            yield case.case, [], "", f"no traffic: {subnet} is lost itself", None, "-"
            continue
        for trace, share in case.traces:
            seen = str(trace.source) if trace.verdict.arrives else "nothing"
            yield case.case, trace.exits, seen, trace.verdict.value, share, "" if case is now else case.change_from(now)


def with_cases(page: Page, subnet: str, cases: Sequence[Shown]) -> Page:
    """The page of a path with what each loss does to it, and which other sources are seen then."""
    others: dict[str, list[str]] = {}
    for case in cases[1:]:
        if case.change_from(cases[0]) == "source":
            others.setdefault(case.seen, []).append(case.case)
    also = [f"With {some(names, 3)} the remote end sees {seen}." for seen, names in others.items()]
    rows = [*case_rows(subnet, cases)][len(cases[0].traces) :]
    table = Table("cases", "After each loss", _COLUMNS, rows, empty="nothing can be lost", shown=12, joined=("case",))
    return replace(page, summary=(*page.summary, *also), tables=(*page.tables, table))


_SUBNETS = (
    Column("subnet", "subnet", is_answer=True),
    Column("case", "case", is_answer=True),
    Column("seen_as", "source seen", is_answer=True),
    Column("exits", "path", "list", least_width=100),
    Column("changed", "changed", is_answer=True),
)


def partner_page(estate: str, target: str, found: Mapping[str, Sequence[Shown]]) -> Page:
    """For a partner: what each subnet shows now and in each case, the cases first in which something changes."""
    rows: list[tuple[object, ...]] = []
    for subnet, cases in found.items():
        now = cases[0]
        rows.append((subnet, "now", now.seen, _paths(now), ""))
        changing = [one for one in cases[1:] if one.change_from(now) != "no"]
        rows += [
            (subnet, one.case, "" if one.cut_off else one.seen, _paths(one), one.change_from(now)) for one in changing
        ]
        rows += [(subnet, one.case, one.seen, _paths(one), "no") for one in cases[1:] if one not in changing]
    sources: dict[str, list[str]] = {}
    for subnet, cases in found.items():
        sources.setdefault(cases[0].seen, []).append(subnet)
    summary = [f"{target} sees {seen} from {some(subnets)}" for seen, subnets in sources.items()]
    others = dict.fromkeys(
        one.seen for cases in found.values() for one in cases[1:] if one.change_from(cases[0]) == "source"
    )
    looked_at = {one.case for cases in found.values() for one in cases[1:]}
    after = f"With {next(iter(looked_at))}" if len(looked_at) == 1 else "After a loss"
    none = f"{after} it sees no other source." if len(looked_at) == 1 else "No loss makes it see another source."
    summary.append(f"{after} it also sees: {some(others)}" if others else none)
    lost = [
        f"{subnet} ({some(one.case for one in cases[1:] if one.change_from(cases[0]) == 'lost')})"
        for subnet, cases in found.items()
        if any(one.change_from(cases[0]) == "lost" for one in cases[1:])
    ]
    if lost:
        summary.append(f"cut off: {some(lost)}")
    table = Table("subnets", "Each subnet in each case", _SUBNETS, rows, shown=30, joined=("case",))
    return Page("source", estate, tuple(summary), (table,), {"sources": [*sources], "others": [*others]})


def _paths(case: Shown) -> list[str]:
    return [] if case.cut_off else list(dict.fromkeys(name for path in case.paths for name in path))


_USES = (
    Column("subnet", "subnet", is_answer=True),
    Column("source", "host"),
    Column("source_port", "port", "code"),
    Column("target", "to"),
    Column("target_port", "port", "code"),
    Column("protocol", "protocol"),
    Column("begun", "begun"),
    Column("ended", "ended"),
)
_PROTOCOLS = {6: "tcp", 17: "udp", 1: "icmp"}


def uses_page(estate: str, used: str, at: str, found: Sequence[Use], unread: Unread) -> Page:
    """Whose connections had a public address and port, at a time if one is asked for."""
    when = f" at {at}" if at else ""
    summary = f"Nobody in these records used {used}{when}."
    if found:
        hosts = some(dict.fromkeys(f"{one.source} in {one.subnet or 'no subnet of the estate'}" for one in found))
        summary = f"{used}{when} was used by {hosts}."
    rows = [
        (
            one.subnet, one.source, one.source_port, one.target, one.target_port,
            _PROTOCOLS.get(one.protocol, str(one.protocol)), _clock(one.begun_s), _clock(one.ended_s),
        )
        for one in found
    ]  # fmt: skip
    table = Table("uses", "Connections", _USES, rows, empty="none", shown=20)
    return Page("uses", estate, (summary,), (table,), {"used": used, "at": at}, unread.told())


def _clock(seconds: float | None) -> str:
    return "" if seconds is None else datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds")
