"""Plan against kernel, as a page: each class of packets, and what differs."""

from collections.abc import Sequence

from fenrask.estate.suggestions import some
from fenrask.rehearsal import Rehearsal, Rehearsed
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["rehearse_page"]

_STEPS = (
    Column("step", "step", "count"),
    Column("what", "what is done"),
    Column("classes", "classes", "count"),
    Column("as_planned", "as planned", "count"),
    Column("different", "different", "count"),
    Column("within_a_limit", "within a limit", "count"),
    Column("not_tried", "not tried", "count"),
)
_CLASSES = (
    Column("step", "step", "count", sparse=True),
    Column("from", "from"),
    Column("to", "to"),
    Column("packets", "which packets", sparse=True),
    Column("planned", "plan"),
    Column("kernel", "kernel"),
    Column("exits", "by", "list"),
    Column("source", "source seen"),
    Column("kernel_exits", "kernel: by", "list", least_width=160),
    Column("kernel_sources", "kernel: sources", "list", least_width=160),
    Column("tried", "tried", "count", least_width=100),
)
_DIFFERENCES = (
    Column("step", "step", "count", sparse=True),
    Column("from", "from"),
    Column("to", "to"),
    Column("planned", "plan"),
    Column("kernel", "kernel", below="kernel: "),
    Column("such_as", "such as", below="such as "),
    Column("limit", "limit", below="a known limit: "),
)
_WORDS = {"agrees": "agrees", "DIFFERS": "different", "limit": "within a limit", "not tried": "not tried"}


def rehearse_page(estate: str, rehearsed: Sequence[tuple[int, str, Rehearsal]], missing: str = "") -> Page:
    """Each class of packets of each step, what differs first; where there are several steps, these too.

    missing: why nothing could be rehearsed; empty where it was.
    """
    if missing:
        return Page("rehearse", estate, (f"not rehearsed here: {missing}",), (), {"missing": missing})
    several = len(rehearsed) > 1
    rows = [(number if several else None, one) for number, _, each in rehearsed for one in each.rows]
    ordered = sorted(rows, key=lambda row: [*_WORDS].index(row[1].verdict) if row[1].verdict != "agrees" else 9)
    counts = _counts([one for _, one in rows])
    tables = [
        Table(
            "rehearsed", "Classes of packets", _CLASSES, [_row(*one) for one in ordered], "no flow sends any", shown=24
        ),
        Table("differences", "What differs", _DIFFERENCES, [*_differences(ordered)], "nothing", True, 24),
    ]
    if several:
        steps = [(number, name, *_counts(each.rows).values()) for number, name, each in rehearsed]
        tables.insert(0, Table("steps", "Steps", _STEPS, steps))
    first = rehearsed[0][2]
    summary = (
        f"{counted(counts['classes'], 'class', 'classes')} of packets, plan against {first.kernel}: "
        f"{counts['as_planned']} as planned, {counts['different']} different"
    )
    more = [f"{counts[key]} {words}" for key, words in _REST.items() if counts[key]]
    spaces = max(each.spaces for *_, each in rehearsed)
    tried = sum(len(one.observed) for _, one in rows)
    made = f"{counted(tried, 'connection')} opened in {counted(spaces, 'network namespace')}; all of them are removed"
    not_counted = dict.fromkeys(
        f"{one.own.sender} to {one.own.to}: {one.own.not_tried}" for _, one in rows if one.own.not_tried
    )
    facts = {**counts, "connections": tried, "namespaces": spaces, "kernel": first.kernel}
    return Page("rehearse", estate, (", ".join((summary, *more)), made), tuple(tables), facts, tuple(not_counted))


_REST = {"within_a_limit": "within a known limit", "not_tried": "not tried"}


def _counts(rows: Sequence[Rehearsed]) -> dict[str, int]:
    verdicts = [one.verdict for one in rows]
    return {
        "classes": len(rows),
        "as_planned": verdicts.count("agrees"),
        "different": verdicts.count("DIFFERS"),
        "within_a_limit": verdicts.count("limit"),
        "not_tried": verdicts.count("not tried"),
    }


def _row(step: int | None, rehearsed: Rehearsed) -> tuple[object, ...]:
    planned = rehearsed.own.planned
    arriving = [each for each in planned if each.arrives] or list(planned)
    exits = dict.fromkeys(name for each in arriving for name in each.exits)
    sources = dict.fromkeys(str(each.source) for each in arriving if each.arrives)
    seen = dict.fromkeys(str(each.source) for each in rehearsed.observed if each.arrives)
    passed = dict.fromkeys(name for each in rehearsed.observed for name in sorted(each.exits))
    told = " or ".join(dict.fromkeys(each.verdict.value for each in planned))
    kernel = _WORDS[rehearsed.verdict] if not rehearsed.differs else rehearsed.differs
    source = ", ".join(sources) or "none"
    return (
        step, rehearsed.own.sender, rehearsed.own.to, rehearsed.own.part, told, kernel,
        [*exits], source, [*passed], [*seen],
        len(rehearsed.observed),
    )  # fmt: skip


def _differences(rows: Sequence[tuple[int | None, Rehearsed]]) -> list[tuple[object, ...]]:
    found: list[tuple[object, ...]] = []
    for step, rehearsed in rows:
        if rehearsed.differs:
            told = "; ".join(
                f"{each.verdict.value} by {some(each.exits) or 'no exit'}" + (f" ({each.why})" if each.why else "")
                for each in rehearsed.own.planned
            )
            tried = rehearsed.observed[0].tried
            such = f"{tried.sender} to {tried.target}, {tried.protocol} port {tried.port}"
            found.append((step, rehearsed.own.sender, rehearsed.own.to, told, rehearsed.differs, such, rehearsed.limit))
    return found
