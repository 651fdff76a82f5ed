"""Files for the people who build, as a page that tells what each is for."""

from collections.abc import Mapping, Sequence

from fenrask.capacity import Translator
from fenrask.views.handover import rules_file, sysctl_file
from fenrask.views.page import Column, Page, Table

__all__ = ["handover_files", "handover_page"]

_TRANSLATORS = (
    Column("exit", "exit"),
    Column("addresses", "addresses", "list"),
    Column("first_port", "ports from", "count"),
    Column("last_port", "to", "count"),
    Column("table_connections", "table entries", "count"),
    Column("timers_s", "TCP timers, s", "list", least_width=110),
    Column("file", "file"),
)


def handover_page(estate: str, found: Sequence[Translator]) -> Page:
    """Every translator host with what it has to be told."""
    rows = [
        (
            one.exit,
            one.addresses or [f"{one.number}, not yet assigned"],
            one.first_port,
            one.last_port,
            one.table,
            [f"{state} {seconds:g}" for state, seconds in one.timers_s.items() if seconds],
            f"{one.exit}.nft",
        )
        for one in found
    ]
    names = ", ".join(one.exit for one in found)
    summary = f"NAT rules for {names}" if found else "No translator host to set up."
    not_counted = tuple(f"{one.exit}: {words}" for one in found for words in one.not_counted)
    return Page(
        "handover", estate, (summary,), (Table("translators", "Translator hosts", _TRANSLATORS, rows),), {}, not_counted
    )


def handover_files(estate: str, found: Sequence[Translator], outward: str) -> Mapping[str, str]:
    """By file name: its text."""
    files: dict[str, str] = {}
    for one in found:
        files[f"{one.exit}.nft"] = rules_file(one, outward, estate)
        files[f"{one.exit}.sysctl.conf"] = sysctl_file(one)
    return files
