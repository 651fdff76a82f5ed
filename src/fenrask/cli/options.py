"""The argument and the options that commands share, and what a command does with them."""

import inspect
import math
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from fenrask.cli.completion import names
from fenrask.cli.files import check_writable, write_all, write_whole
from fenrask.cli.progress import Underway
from fenrask.cli.screen import rendering, say
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.estate.suggestions import unknown
from fenrask.units import counted
from fenrask.views.figures import ENDINGS
from fenrask.views.formats import FOR_FINDINGS, FORMATS
from fenrask.views.page import Page
from fenrask.views.selection import NOUNS, Selection, selected

if TYPE_CHECKING:
    from fenrask.routing import Paths

__all__ = ["Call", "Explain", "estate_command", "filtered_command", "filtered_options", "shared_options", "split_words"]


def _formats(command: str) -> list[str]:
    """The formats that a command takes."""
    return [name for name in FORMATS if command == "check" or name not in FOR_FINDINGS]


def _format_option(command: str) -> Any:
    def checked(name: str) -> str:
        known = _formats(command)
        if name not in known:
            others = " It is for `check` alone." if name in FORMATS else ""
            raise typer.BadParameter(f"{name!r} is none of {', '.join(known)}.{others}")
        return name

    told = f"Output format: {', '.join(_formats(command))}."
    return Annotated[str, typer.Option("--format", metavar="FORMAT", callback=checked, help=told)]


Estate = Annotated[Path, typer.Argument(metavar="[ESTATE]", help="The estate file.", show_default=True)]
Patches = Annotated[
    list[Path] | None,
    typer.Option("--patch", metavar="FILE", help="Apply a JSON Merge Patch (RFC 7396) first; may be repeated."),
]
Settings = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="KEY=VALUE",
        help="Set one value by its dotted key, as YAML: a mapping takes the place of the one there; `null` removes it. "
        "`catalogue.` reaches the catalogue.",
    ),
]
Merged = Annotated[
    list[str] | None,
    typer.Option("--merge", metavar="KEY=VALUE", help="The same, but a mapping is merged into the one there."),
]
Confidence = Annotated[
    float | None,
    typer.Option(
        metavar="SHARE",
        min=0.5,
        max=0.9999,
        help="Where loads are ranges: show what holds with this confidence (addresses that do, a bill's interval).",
    ),
]
Out = Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write the result to this file.")]
AllRows = Annotated[bool, typer.Option("--all", help="Show every row of every table.")]
TableName = Annotated[
    str | None, typer.Option("--table", metavar="NAME", help="Show this table alone, by its name in the JSON.")
]
Force = Annotated[bool, typer.Option("--force", help="Overwrite existing files.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print only the result.")]


Explain = Annotated[bool, typer.Option("--explain", help="Also show how each figure is computed, step by step.")]


@dataclass(frozen=True)
class Call:
    """One call of a command: its estate, and the options that all commands share."""

    estate: Path = Path("estate.yaml")
    patch: list[Path] = field(default_factory=list)
    set: list[str] = field(default_factory=list)
    merge: list[str] = field(default_factory=list)
    format: str = "table"
    out: Path | None = None
    force: bool = False
    quiet: bool = False
    all: bool = False
    table: str | None = None
    chosen: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """The exits, flows, networks and workloads whose rows are wanted alone, by noun."""
    underway: Underway = field(default_factory=lambda: Underway(shown=False))
    """What shows how far it has come, until something is printed."""

    def read(self, to_be_measured: bool = False) -> Described:
        """The estate with its patches and settings; to_be_measured: see `read_estate`."""
        described = read_estate(self.estate, self.patch, self.set, self.merge, to_be_measured)
        problems = [
            problem
            for noun, names in self.chosen.items()
            for problem in unknown(f"--{noun}", names, getattr(described.estate, NOUNS[noun]), f"one of the {noun}s")
        ]
        if problems:
            raise UnusableInput(problems)
        return described

    def show(self, page: Page, paths: "Paths | None" = None) -> None:
        """Print a page to stdout, or write it to the file of `--out`; with paths, the rows that were chosen."""
        if self.chosen and paths is not None:
            page = selected(page, Selection.of(paths, self.chosen))
        if self.table is not None:
            page = self._only(self.table, page)
        text = FORMATS[self.format](page, rendering(to_file=self.out is not None, all_rows=self.all))
        self.underway.end()
        if self.out is None:
            sys.stdout.write(text)
        else:
            self.write(self.out, text.encode())
        if self.format == "csv" and len(page.tables) > 1:
            others = ", ".join(table.name for table in page.tables[1:])
            self.say(f"the csv holds the table {page.tables[0].name}; for another: --table, one of {others}")

    @staticmethod
    def _only(name: str, page: Page) -> Page:
        if problems := unknown("--table", [name], [table.name for table in page.tables], "a table of this result"):
            raise UnusableInput(problems)
        return replace(page, tables=tuple(replace(one, behind_all=False) for one in page.tables if one.name == name))

    def write(self, file: Path, content: bytes) -> None:
        """Write a file whole, and say so."""
        write_whole(file, content, self.force)
        self.say(f"wrote {file}")

    def write_all(self, folder: Path, files: Mapping[str, bytes]) -> None:
        """Write a set of files into a folder, all or none, and say so."""
        write_all({folder / name: content for name, content in files.items()}, self.force)
        self.say(f"wrote {counted(len(files), 'file')} into {folder}")

    def say(self, message: str) -> None:
        """A message to stderr, unless `--quiet`."""
        if not self.quiet:
            self.underway.end()
            say(message)


_SHARED = {
    "patch": (Patches, None),
    "set": (Settings, None),
    "merge": (Merged, None),
    "format": (None, "table"),
    "out": (Out, None),
    "force": (Force, False),
    "quiet": (Quiet, False),
    "all": (AllRows, False),
    "table": (TableName, None),
}


def _chosen(noun: str) -> Any:
    told = f"Show only rows about this {noun}; may be repeated."
    complete = names(NOUNS[noun])
    return Annotated[
        list[str] | None, typer.Option(f"--{noun}", metavar=noun.upper(), autocompletion=complete, help=told)
    ]


_CHOSEN = {noun: (_chosen(noun), None) for noun in NOUNS}


def shared_options(function: Callable[..., int | None]) -> Callable[..., None]:
    """A command with the shared options, handed to it as its first argument, a `Call`.

    Its own parameters stay; what it returns is the exit status.
    """
    return _with(function, dict(_SHARED))


def estate_command(function: Callable[..., int | None]) -> Callable[..., None]:
    """The same, with the estate as its argument."""
    return _with(function, {"estate": (Estate, Path("estate.yaml")), **_SHARED})


def filtered_options(function: Callable[..., int | None]) -> Callable[..., None]:
    """As `shared_options`, with rows chosen by exit, flow, network and workload."""
    return _with(function, {**_CHOSEN, **_SHARED})


def filtered_command(function: Callable[..., int | None]) -> Callable[..., None]:
    """As `estate_command`, with rows chosen by exit, flow, network and workload."""
    return _with(function, {"estate": (Estate, Path("estate.yaml")), **_CHOSEN, **_SHARED})


def split_words(words: list[str], others: int) -> tuple[Path | None, list[str]]:
    """The estate file, if the first word is one, and the other words, of which there are `others` at most.

    0 for any number of them: then only the ending tells an estate. Else `-` is one, too, that is piped in.
    """
    named = bool(words) and (words[0].endswith((".yaml", ".yml")) or (others > 0 and words[0] == "-"))
    if named or (others and (len(words) > others or (words and Path(words[0]).is_file()))):
        return Path(words[0]), words[1:]
    return None, words


def _not_finite(given: Mapping[str, Any]) -> Iterator[Problem]:
    """Options with a number that is none, or without end."""
    for name, value in given.items():
        for number in value if isinstance(value, list | tuple) else [value]:
            if isinstance(number, float) and not math.isfinite(number):
                yield Problem(Place(path=f"--{name.replace('_', '-')}"), str(number), "a finite number")


def _with(function: Callable[..., int | None], shared: dict[str, tuple[Any, Any]]) -> Callable[..., None]:
    own = list(inspect.signature(function, eval_str=True).parameters.values())[1:]
    shared = shared | {"format": (_format_option(function.__module__.rpartition(".")[2]), "table")}
    keyword = inspect.Parameter.KEYWORD_ONLY
    added = [inspect.Parameter(n, keyword, default=d, annotation=a) for n, (a, d) in shared.items()]
    kept = [one.replace(kind=keyword) for one in own]
    parameters = [*added[: -len(_SHARED)], *kept, *added[-len(_SHARED) :]]

    @wraps(function)
    def command(**given: Any) -> None:
        if problems := [*_not_finite(given)]:
            raise UnusableInput(problems)
        ours = {name: value for name in shared if (value := given.pop(name)) is not None}
        chosen = {noun: ours.pop(noun) for noun in NOUNS if noun in ours}
        force = ours.get("force", False)
        if ours.get("out"):
            check_writable(ours["out"], force)
        if given.get("figure"):
            check_writable(given["figure"], force, ENDINGS)
        with Underway(shown=not ours.get("quiet")) as underway:
            status = function(Call(**ours, chosen=chosen, underway=underway), **given)
        if status:
            raise typer.Exit(status)

    command.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    command.__annotations__ = {one.name: one.annotation for one in parameters}
    del command.__wrapped__
    return command
