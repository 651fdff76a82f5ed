"""`fenrask start`."""

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.screen import say
from fenrask.demo.samples import BEGINNING
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import read_estate, read_patch
from fenrask.estate.writing import estate_text, renamed, without_its_own

__all__ = ["command"]


def command(
    folder: Annotated[Path, typer.Argument(help="Where the estate is written.")],
    source: Annotated[
        Path | None, typer.Option("--from", metavar="ESTATE", help="Begin from this estate instead of a small one.")
    ] = None,
    names: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="With --from: a YAML file of what is new: `estate`, and `names`, `zones`, `regions`, `prefixes` "
            "from old to new.",
        ),
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrite existing files.")] = False,
) -> None:
    if names and not source:
        raise UnusableInput([Problem(Place(path="--names"), "no --from", "an estate to begin from")])
    contents, left_out = _from(source, names) if source else (BEGINNING.contents(), [])
    for name, content in contents.items():
        write_whole(folder / name, content, force)
        say(f"wrote {folder / name}")
    for what in left_out:
        say(f"not copied: {what}")
    say(f"Next: cd {folder} && fenrask check")


def _from(source: Path, names: Path | None) -> tuple[dict[str, bytes], list[str]]:
    """The files of an estate like another one, and what was not copied; UnusableInput for what does not hold."""
    described = read_estate(source)
    mapping = read_patch(names) if names else {}
    moves = mapping.get("prefixes") if isinstance(mapping, dict) else None
    data, left_out = without_its_own(described.data, moves if isinstance(moves, dict) else None)
    data = renamed(data, mapping, str(names)) if names else data
    catalogue = source.parent / str(data["catalogue"])
    with TemporaryDirectory() as folder:
        # What is written must be readable: the names may collide, the prefixes overlap.
        trial = Path(folder) / "estate.yaml"
        (Path(folder) / catalogue.name).write_bytes(catalogue.read_bytes())
        data["catalogue"] = catalogue.name
        trial.write_text(estate_text(data), encoding="utf-8")
        read_estate(trial)
    return {"estate.yaml": estate_text(data).encode(), catalogue.name: catalogue.read_bytes()}, left_out
