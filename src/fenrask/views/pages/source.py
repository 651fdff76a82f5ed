"""Which sources a destination sees, now and after losses, as a page."""

from collections.abc import Sequence
from datetime import UTC, datetime

from fenrask.estate.suggestions import some
from fenrask.records.batch import Unread
from fenrask.records.used import Use
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Shown

__all__ = ["source_page", "uses_page"]

_COLUMNS = (
    Column("case", "case"),
    Column("exits", "path", "list"),
    Column("seen_as", "source seen"),
    Column("verdict", "verdict"),
    Column("share", "share", "share", least_width=100),
    Column("changed", "changed"),
)


def source_page(estate: str, subnet: str, target: str, cases: Sequence[Shown]) -> Page:
    """The source now, and in each case of a loss; a subnet that is lost itself sends nothing."""
    now = cases[0]
    rows: list[tuple[object, ...]] = []
    for case in cases:
        if case.cut_off:
            rows.append((case.case, [], "", f"no traffic: {subnet} is lost itself", None, "-"))
            continue
        for trace, share in case.traces:
            seen = str(trace.source) if trace.verdict.arrives else "nothing"
            changed = "yes" if case.outcome != now.outcome else "no"
            rows.append((case.case, trace.exits, seen, trace.verdict.value, share, changed))
    seen_now = ", ".join(dict.fromkeys(str(trace.source) for trace, _ in now.traces if trace.verdict.arrives))
    left = [one for one in cases if not one.cut_off]
    lost = [one.case for one in left if not any(trace.verdict.arrives for trace, _ in one.traces)]
    other = [one.case for one in left if one.outcome != now.outcome and one.case not in lost]
    summary = [f"{target} sees {subnet} as {seen_now or 'nothing'}"]
    if other:
        summary.append(f"another source or path: {some(other)}")
    if lost:
        summary.append(f"cut off: {some(lost)}")
    return Page(
        "source", estate, tuple(summary), (Table("cases", "Now, and after each loss", _COLUMNS, rows, shown=20),)
    )


_USES = (
    Column("subnet", "subnet"),
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
