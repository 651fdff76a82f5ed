"""The argument and the options that commands share, and what a command does with them."""

import inspect
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import wraps
from pathlib import Path
from typing import Annotated, Any

import typer

from fenrask.cli.files import check_writable, write_whole
from fenrask.cli.screen import rendering, say
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.views.figures import ENDINGS
from fenrask.views.formats import FOR_FINDINGS, FORMATS
from fenrask.views.page import Page

__all__ = ["Call", "Explain", "estate_command", "shared_options", "split_words"]


def _known_format(name: str) -> str:
    if name not in FORMATS:
        raise typer.BadParameter(f"{name!r} is none of {', '.join(FORMATS)}")
    return name


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
        help="Set one value by its dotted key, as YAML; `null` removes it. `catalogue.` reaches the catalogue.",
    ),
]
FormatName = Annotated[
    str,
    typer.Option("--format", metavar=f"[{'|'.join(FORMATS)}]", callback=_known_format, help="Output format."),
]
Out = Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write the result to this file.")]
AllRows = Annotated[bool, typer.Option("--all", help="Show every row of every table.")]
Force = Annotated[bool, typer.Option("--force", help="Overwrite existing files.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print only the result.")]


Explain = Annotated[bool, typer.Option("--explain", help="Also show how each figure is computed, step by step.")]


@dataclass(frozen=True)
class Call:
    """One call of a command: its estate, and the options that all commands share."""

    estate: Path = Path("estate.yaml")
    patch: list[Path] = field(default_factory=list)
    set: list[str] = field(default_factory=list)
    format: str = "table"
    out: Path | None = None
    force: bool = False
    quiet: bool = False
    all: bool = False

    def read(self) -> Described:
        """The estate with its patches and settings."""
        return read_estate(self.estate, self.patch, self.set)

    def show(self, page: Page) -> None:
        """Print a page to stdout, or write it to the file of `--out`."""
        if self.format in FOR_FINDINGS and page.name != "check":
            found = f"--format {self.format} for {page.name}"
            others = ", ".join(name for name in FORMATS if name not in FOR_FINDINGS)
            raise UnusableInput(
                [Problem(Place(path="--format"), found, f"one of {others}", "It is for `check` alone.")]
            )
        text = FORMATS[self.format](page, rendering(to_file=self.out is not None, all_rows=self.all))
        if self.out is None:
            sys.stdout.write(text)
        else:
            self.write(self.out, text.encode())
        if self.format == "csv" and len(page.tables) > 1:
            others = ", ".join(table.name for table in page.tables[1:])
            self.say(f"the csv holds the table {page.tables[0].name}; json also holds {others}")

    def write(self, file: Path, content: bytes) -> None:
        """Write a file whole, and say so."""
        write_whole(file, content, self.force)
        self.say(f"wrote {file}")

    def say(self, message: str) -> None:
        """A message to stderr, unless `--quiet`."""
        if not self.quiet:
            say(message)


_SHARED = {
    "patch": (Patches, None),
    "set": (Settings, None),
    "format": (FormatName, "table"),
    "out": (Out, None),
    "force": (Force, False),
    "quiet": (Quiet, False),
    "all": (AllRows, False),
}


def shared_options(function: Callable[..., int | None]) -> Callable[..., None]:
    """A command with the shared options, handed to it as its first argument, a `Call`.

    Its own parameters stay; what it returns is the exit status.
    """
    return _with(function, dict(_SHARED))


def estate_command(function: Callable[..., int | None]) -> Callable[..., None]:
    """The same, with the estate as its argument."""
    return _with(function, {"estate": (Estate, Path("estate.yaml")), **_SHARED})


def split_words(words: list[str], others: int) -> tuple[Path | None, list[str]]:
    """The estate file, if the first word is one, and the other words, of which there are `others` at most.

    0 for any number of them: then only the ending tells an estate.
    """
    named = bool(words) and words[0].endswith((".yaml", ".yml"))
    if named or (others and (len(words) > others or (words and Path(words[0]).is_file()))):
        return Path(words[0]), words[1:]
    return None, words


def _with(function: Callable[..., int | None], shared: dict[str, tuple[Any, Any]]) -> Callable[..., None]:
    own = list(inspect.signature(function, eval_str=True).parameters.values())[1:]
    keyword = inspect.Parameter.KEYWORD_ONLY
    added = [inspect.Parameter(n, keyword, default=d, annotation=a) for n, (a, d) in shared.items()]
    kept = [one.replace(kind=keyword) for one in own]
    parameters = [*added[:-7], *kept, *added[-7:]]

    @wraps(function)
    def command(**given: Any) -> None:
        ours = {name: value for name in shared if (value := given.pop(name)) is not None}
        force = ours.get("force", False)
        if ours.get("out"):
            check_writable(ours["out"], force)
        if given.get("figure"):
            check_writable(given["figure"], force, ENDINGS)
        status = function(Call(**ours), **given)
        if status:
            raise typer.Exit(status)

    command.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    command.__annotations__ = {one.name: one.annotation for one in parameters}
    del command.__wrapped__
    return command
