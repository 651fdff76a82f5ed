"""What a drafted estate is made of, and what no file says, as a page."""

from collections.abc import Sequence
from typing import Any

from fenrask.records.existing import Draft, Fact, Files, Steps
from fenrask.units import counted
from fenrask.views.drafted import assumed_rows, place_text, value_text
from fenrask.views.page import Column, Page, Table

__all__ = ["draft_page", "kept_lines", "rate_lines"]

_READ = (Column("file", "file"), Column("what", "what it is"))
_ASSUMED = (
    Column("where", "where"), Column("instead", "used instead"), Column("why", "why"),
)  # fmt: skip
_DIFFERING = (
    Column("where", "where"),
    Column("kept", "kept"),
    Column("from", "from"),
    Column("other", "other"),
    Column("said_by", "said by"),
)
_UNUSED = (Column("what", "what"), Column("first", "first at"), Column("number", "records", "count", sparse=True))


def draft_page(name: str, files: Files, draft: Draft) -> Page:
    """Which file told what; what was assumed for want of being told; what two files tell unlike; what is not used."""
    sections = ("networks", "subnets", "route_tables", "exits", "destinations", "workloads", "flows")
    numbers = [(section.replace("_", " ")[:-1], len(draft.of(section))) for section in sections]
    lines = [f"{name}: " + ", ".join(counted(number, word) for word, number in numbers if number)]
    rows = assumed_rows(draft.assumed)
    if rows:
        lines.append(
            f"{counted(len(rows), 'thing')} that no file says: look at these first (they are in both files, too)"
        )
    differing = [
        (place_text(steps), value_text(kept.value), kept.where, value_text(other.value), other.where)
        for steps, kept, other in files.facts.differing
    ]
    unused: list[tuple[Any, ...]] = [(what, where, None) for what, where in files.facts.unused.items()]
    seen = files.seen
    unused += (
        [(f"records: {why}", ", ".join(seen.files), number) for why, number in seen.passed.items()] if seen else []
    )
    tables = (
        Table("files", "What was read", _READ, [*files.kinds.items()]),
        Table("assumed", "What no file says", _ASSUMED, rows, empty="nothing: files say all of it"),
        *([Table("differing", "What two files say differently", _DIFFERING, differing)] if differing else []),
        *([Table("unused", "What is read and not used", _UNUSED, unused)] if unused else []),
    )
    return Page("start", name, tuple(lines), tables, not_counted=files.unread.told())


def kept_lines(kept: Sequence[tuple[Steps, Any, Fact]]) -> list[str]:
    """What stays as a person wrote it although files tell something else, a line for each."""
    found = []
    for steps, mine, fact in kept:
        own = "taken out" if mine is None else value_text(mine)
        found.append(f"kept as you have it: {place_text(steps)}: {own}; {fact.where} says {value_text(fact.value)}")
    return found


def rate_lines(several: Sequence[tuple[Steps, Any, Fact]]) -> list[str]:
    """Where the catalogue says another rate than a bill tells, a line for each."""
    return [
        f"{place_text(steps)} is {value_text(mine)}; {fact.where} says {value_text(fact.value)}: change it by hand"
        for steps, mine, fact in several
    ]
