"""Which sources a destination sees, now and after losses, as a page."""

from collections.abc import Sequence

from fenrask.views.page import Column, Page, Table
from fenrask.what_if.sources import Shown

__all__ = ["source_page"]

_COLUMNS = (
    Column("case", "case"),
    Column("exits", "way", "list"),
    Column("seen_as", "seen as"),
    Column("verdict", "verdict"),
    Column("share", "share", "share", least_width=100),
    Column("changed", "changed", "yes"),
)


def source_page(estate: str, subnet: str, target: str, cases: Sequence[Shown]) -> Page:
    """The source now, and in each case of a loss."""
    now = cases[0]
    rows = []
    for case in cases:
        for trace, share in case.traces:
            seen = str(trace.source) if trace.verdict.arrives else "nothing"
            verdict = f"{subnet} is lost too" if case.cut_off else trace.verdict.value
            rows.append((case.case, trace.exits, seen, verdict, share, case.outcome != now.outcome))
    told = ", ".join(dict.fromkeys(str(trace.source) for trace, _ in now.traces if trace.verdict.arrives)) or "nothing"
    lost = [one.case for one in cases if not one.cut_off and not any(trace.verdict.arrives for trace, _ in one.traces)]
    other = [one.case for one in cases if one.outcome != now.outcome and one.case not in lost and not one.cut_off]
    summary = [f"{target} sees {subnet} as {told}"]
    if other:
        summary.append(f"another source: {', '.join(other)}")
    if lost:
        summary.append(f"cut off: {', '.join(lost)}")
    return Page("source", estate, tuple(summary), (Table("cases", "Now, and after each loss", _COLUMNS, rows),))
