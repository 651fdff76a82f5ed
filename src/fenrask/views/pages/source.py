"""Which sources a destination sees, now and after losses, as a page."""

from collections.abc import Sequence

from fenrask.designs.losses import Shown
from fenrask.views.page import Column, Page, Table

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
        for walk, share in case.walks:
            seen = str(walk.source) if walk.verdict.arrives else "nothing"
            verdict = f"{subnet} is lost too" if case.cut_off else walk.verdict.value
            rows.append((case.case, walk.exits, seen, verdict, share, case.outcome != now.outcome))
    told = ", ".join(dict.fromkeys(str(walk.source) for walk, _ in now.walks if walk.verdict.arrives)) or "nothing"
    lost = [one.case for one in cases if not one.cut_off and not any(walk.verdict.arrives for walk, _ in one.walks)]
    other = [one.case for one in cases if one.outcome != now.outcome and one.case not in lost and not one.cut_off]
    answer = [f"{target} sees {subnet} as {told}"]
    if other:
        answer.append(f"another source: {', '.join(other)}")
    if lost:
        answer.append(f"cut off: {', '.join(lost)}")
    return Page("source", estate, tuple(answer), (Table("cases", "Now, and after each loss", _COLUMNS, rows),))
