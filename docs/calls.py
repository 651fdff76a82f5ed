"""What each command takes, as tables, from the program's own help; and the list of commands."""

import re
from collections.abc import Iterator
from typing import Any

import typer.main

from fenrask.cli.app import COMMANDS, app
from fenrask.views.results import declared_results

__all__ = ["NAMES", "listed_commands", "with_options"]

NAMES = tuple(COMMANDS)
_EVERYWHERE = ("--patch", "--set", "--merge", "--format", "--out", "--force", "--quiet", "--all", "--table")
_ROWS = ("--exit", "--flow", "--network", "--workload")
_OPTIONS = re.compile(r"(?<=## Options\n\n).*?(?=## JSON)", re.DOTALL)
_JSON = re.compile(r"(?<=## JSON\n).*", re.DOTALL)
_LISTED = re.compile(r"(?<=<!-- commands -->\n).*?(?=<!-- end -->)", re.DOTALL)


def with_options(name: str, page: str) -> str:
    """The page of a command with the table of what it takes, and links to what it prints for machines."""
    return _JSON.sub(lambda _: f"\n{_printed(name)}\n", _OPTIONS.sub(lambda _: "\n".join(_told(name)) + "\n\n", page))


def _printed(name: str) -> str:
    links = [
        f"[`fenrask.{result}`](../results.md#{result.replace('_', '-')}) (`{call}`)"
        for result, one in declared_results().items()
        for call in one["from"].split(", ")
        if call.split()[0] == name
    ]
    return f"{', '.join(links)}." if links else "None: what it prints is a file."


def listed_commands(page: str) -> str:
    """The page with the list of commands, by group, and the options that most of them take."""
    return _LISTED.sub(lambda _: "\n".join(_list()), page)


def _told(name: str) -> Iterator[str]:
    rows = [row for row in _rows(name) if row[0] not in (*_EVERYWHERE, *_ROWS, "--help")]
    taken = {row[0] for row in _rows(name)}
    if rows:
        yield from _table(rows)
        yield ""
    if taken >= {"--patch", "--out"}:
        also = " and [which rows](index.md#which-rows)" if taken >= {*_ROWS} else ""
        first = "Beside these" if rows else "It takes"
        yield f"{first} [what every command takes](index.md#what-every-command-takes){also}."


def _list() -> Iterator[str]:
    for group in dict.fromkeys(one.group for one in COMMANDS.values()):
        yield f"\n**{group}**\n"
        yield "| command | what it does |"
        yield "|---|---|"
        for name, one in COMMANDS.items():
            if one.group == group:
                yield f"| [`{name}`]({name}.md) | {one.sentence} |"
    for title, names in (("What every command takes", _EVERYWHERE), ("Which rows", _ROWS)):
        yield f"\n## {title}\n"
        yield from _table([row for row in _rows("check") if row[0] in names])
    yield ""


def _table(rows: list[tuple[str, str, str]]) -> Iterator[str]:
    yield "| option | value | what it does |"
    yield "|---|---|---|"
    for _, call, told in rows:
        names, _, value = call.partition(" ")
        shown = f"`{names.replace(',', '`, `')}`" if names else ""
        yield f"| {shown} | {f'`{value}`' if value else ''} | {told} |".replace("|  |", "| |")


def _rows(name: str) -> list[tuple[str, str, str]]:
    """Each parameter: its first name, its names with what it wants, and its help."""
    group: Any = typer.main.get_command(app)
    command = group.resolve_command(typer.Context(group, info_name="fenrask"), [name])[1]
    found = []
    for one in command.params:
        if getattr(one, "hidden", False) or one.name == "help":
            continue
        is_option = one.param_type_name == "option"
        names = ",".join((*one.opts, *one.secondary_opts)) if is_option else ""
        wants = "" if getattr(one, "is_flag", False) else (one.metavar or str(one.name).upper())
        help_ = " ".join((getattr(one, "help", "") or "").split())
        told = help_.replace("|", "\\|")
        found.append((one.opts[0] if is_option else "", f"{names} {wants.replace('|', '&#124;')}".rstrip(), told))
    return found
