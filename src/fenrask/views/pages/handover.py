"""What is handed over, as a page: the files, the order of building, the translator hosts."""

from collections.abc import Iterator, Sequence

from fenrask.capacity import Translator
from fenrask.designs import BuildStep, Task
from fenrask.estate.suggestions import some
from fenrask.units import counted
from fenrask.views.handover import HandoverFile, breaks_text, host_file_name, look_text, notice_look, notice_text
from fenrask.views.page import Column, Page, Table

__all__ = ["handover_page"]

_NEVER = 10**6


def _columns(is_dated: bool) -> tuple[Column, ...]:
    return (
        Column("step", "step", "count"),
        Column("earliest_day", "earliest day", "count", least_width=100 if is_dated else _NEVER),
        Column("what", "what"),
        Column("breaks", "connections that break", "count"),
        Column("look", "what must be seen then"),
    )


_FILES = (Column("file", "file", is_answer=True), Column("about", "what it is"))
_TRANSLATORS = (
    Column("exit", "exit", is_answer=True),
    Column("addresses", "addresses", "list", is_answer=True),
    Column("first_port", "ports from", "code"),
    Column("last_port", "to", "code"),
    Column("table_connections", "table entries", "count"),
    Column("timers_s", "TCP timers, s", "list", least_width=110),
    Column("file", "file", is_answer=True),
)


def handover_page(
    estate: str, files: Sequence[HandoverFile], tasks: Sequence[Task], hosts: Sequence[Translator]
) -> Page:
    """The order of building with what to look at, and every file."""
    if not files:
        return Page("handover", estate, ("Nothing to build: both estates say the same.",), ())
    steps = [one.step for one in tasks if one.step is not None]
    moving = [one for one in steps if any(flow.breaks >= 1 for flow in one.moved)]
    lines = [
        f"{counted(len(files), 'file')}: {counted(len(steps), 'build step')} with checks, {', '.join(_kinds(files))}."
    ]
    told = [one.notice for one in tasks if one.notice is not None]
    if told:
        partners = dict.fromkeys(one.partner for one in told)
        when = f": the last step is on day {tasks[-1].day} at the earliest" if tasks[-1].day else ""
        lines.append(f"Allow-lists change for {some(partners)}{when}.")
    if harming := [one for one in steps if one.harm]:
        lines.append(f"{counted(len(harming), 'step')} cannot be done without harm: {breaks_text(harming[0])}.")
    if moving:
        broken = sum(flow.breaks for one in moving for flow in one.moved)
        breaks, them = ("breaks", "it") if len(moving) == 1 else ("break", "them")
        what = f"{counted(len(moving), 'step')} {breaks} {counted(round(broken), 'open connection')}"
        lines.append(f"{what} at the peak: do {them} at low load.")
    written = {one.name for one in files}
    if rules := [one.exit for one in hosts if host_file_name(one) in written]:
        lines.append(f"NAT rules for {', '.join(rules)}")
    rows = [(number, *_row(one)) for number, one in enumerate(tasks, 1)]
    tables = (
        Table(
            "steps",
            "The order of building",
            _columns(any(one.day for one in tasks)),
            rows,
            empty="nothing to build",
            shown=14,
        ),
        Table("files", "Files (--save FOLDER writes them)", _FILES, [*_folded(files)], shown=20),
        Table("translators", "Translator hosts", _TRANSLATORS, [_host(one) for one in hosts], behind_all=not hosts),
    )
    not_counted = tuple(f"{one.exit}: {words}" for one in hosts for words in one.not_counted)
    return Page("handover", estate, tuple(lines), tables, {}, not_counted)


_KINDS = {
    "order.csv": "addresses to order",
    "sheet/planned.csv": "a build sheet",
    "routes.csv": "routes",
    "nat.yang.json": "NAT",
    "filters.csv": "filters",
    "endpoints.csv": "endpoints",
    "alerts.yaml": "alerts",
    "plan.xlsx": "a workbook",
}


def _kinds(files: Sequence[HandoverFile]) -> Iterator[str]:
    """What the files are for, in a few words."""
    partners = sum(one.name.endswith(".txt") for one in files)
    if partners:
        yield f"allow-lists for {counted(partners, 'destination')}"
    yield from (_KINDS[one.name] for one in files if one.name in _KINDS)


def _row(task: Task) -> tuple[object, ...]:
    if task.notice is not None:
        return task.day, notice_text(task.notice), 0, notice_look(task.notice)
    assert task.step is not None
    return task.day, task.step.what, round(sum(flow.breaks for flow in task.step.moved)), _look(task.step)


def _look(build_step: BuildStep) -> str:
    if build_step.harm:
        return f"fails: {breaks_text(build_step)}"
    if not build_step.looks:
        return "in service; nothing uses it yet" if build_step.kind == "add" else "every path is as before"
    first = look_text(build_step.looks[0])
    return first if len(build_step.looks) == 1 else f"{first}; and {len(build_step.looks) - 1} more"


def _folded(files: Sequence[HandoverFile]) -> Iterator[tuple[str, str]]:
    """Each file; those that differ in their ending alone in one row."""
    same: dict[tuple[str, str], list[str]] = {}
    for file in files:
        stem, _, ending = file.name.partition(".")
        if stem.startswith("steps/"):
            # One for each step.
            stem = "steps/NN"
            if ending in same.get((stem, file.about), ()):
                continue
        same.setdefault((stem, file.about.split(", as a table")[0]), []).append(ending)
    for (stem, about), endings in same.items():
        yield f"{stem}.{', .'.join(endings)}", about


def _hosts_addresses(translator: Translator) -> Iterator[str]:
    yield from translator.addresses or (f"{translator.number}, not yet assigned",)
    for own in translator.own:
        known = own.addresses or (f"{own.number}, not yet assigned",)
        yield from (f"{address} (for {own.destination})" for address in known)


def _host(translator: Translator) -> tuple[object, ...]:
    return (
        translator.exit,
        [*_hosts_addresses(translator)],
        translator.first_port,
        translator.last_port,
        translator.table,
        [f"{state} {seconds:g}" for state, seconds in translator.timers_s.items() if seconds],
        host_file_name(translator),
    )
