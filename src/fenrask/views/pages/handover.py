"""What is handed over, as a page: the files, the order of building, the translator hosts."""

from collections.abc import Iterator, Sequence

from fenrask.capacity import Translator
from fenrask.designs import BuildStep
from fenrask.units import counted
from fenrask.views.handover import HandoverFile, host_file_name, look_text
from fenrask.views.page import Column, Page, Table

__all__ = ["handover_page"]

_STEPS = (
    Column("step", "step", "count"),
    Column("what", "what"),
    Column("breaks", "connections that break", "count"),
    Column("look", "what must be seen then"),
)
_FILES = (Column("file", "file"), Column("about", "what it is"))
_TRANSLATORS = (
    Column("exit", "exit"),
    Column("addresses", "addresses", "list"),
    Column("first_port", "ports from", "code"),
    Column("last_port", "to", "code"),
    Column("table_connections", "table entries", "count"),
    Column("timers_s", "TCP timers, s", "list", least_width=110),
    Column("file", "file"),
)


def handover_page(
    estate: str, files: Sequence[HandoverFile], steps: Sequence[BuildStep], hosts: Sequence[Translator]
) -> Page:
    """The order of building with what to look at, and every file."""
    if not files:
        return Page("handover", estate, ("Nothing to build: both estates say the same.",), ())
    moving = [one for one in steps if any(flow.breaks >= 1 for flow in one.moved)]
    lines = [
        f"{counted(len(files), 'file')}: {counted(len(steps), 'build step')} with checks, {', '.join(_kinds(files))}."
    ]
    if moving:
        lines.append(f"Connections break at {counted(len(moving), 'step')}: move these in a quiet hour.")
    if hosts:
        lines.append(f"NAT rules for {', '.join(one.exit for one in hosts)}")
    rows = [
        (number, one.what, round(sum(flow.breaks for flow in one.moved)), _look(one))
        for number, one in enumerate(steps, 1)
    ]
    tables = (
        Table("steps", "The order of building", _STEPS, rows, empty="nothing to build", shown=14),
        Table("files", "Files (--save FOLDER writes them)", _FILES, [*_folded(files)], shown=20),
        Table("translators", "Translator hosts", _TRANSLATORS, [_host(one) for one in hosts], behind_all=not hosts),
    )
    not_counted = tuple(f"{one.exit}: {words}" for one in hosts for words in one.not_counted)
    return Page("handover", estate, tuple(lines), tables, {}, not_counted)


_KINDS = {
    "order.csv": "addresses to order",
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


def _look(one: BuildStep) -> str:
    if not one.looks:
        return "in service; nothing uses it yet" if one.kind == "add" else "every path is as before"
    first = look_text(one.looks[0])
    return first if len(one.looks) == 1 else f"{first}; and {len(one.looks) - 1} more"


def _folded(files: Sequence[HandoverFile]) -> Iterator[tuple[str, str]]:
    """Each file; those that differ in their ending alone in one row."""
    same: dict[tuple[str, str], list[str]] = {}
    for one in files:
        stem, _, ending = one.name.partition(".")
        same.setdefault((stem, one.about.split(", as a table")[0]), []).append(ending)
    for (stem, about), endings in same.items():
        yield f"{stem}.{', .'.join(endings)}", about


def _hosts_addresses(one: Translator) -> Iterator[str]:
    yield from one.addresses or (f"{one.number}, not yet assigned",)
    for own in one.own:
        known = own.addresses or (f"{own.number}, not yet assigned",)
        yield from (f"{address} (for {own.destination})" for address in known)


def _host(one: Translator) -> tuple[object, ...]:
    return (
        one.exit,
        [*_hosts_addresses(one)],
        one.first_port,
        one.last_port,
        one.table,
        [f"{state} {seconds:g}" for state, seconds in one.timers_s.items() if seconds],
        host_file_name(one),
    )
