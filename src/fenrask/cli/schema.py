"""`fenrask schema`."""

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.estate.schema import SCHEMAS, json_schema
from fenrask.views.results import results_schema

__all__ = ["command"]

RESULTS = "results"
_NAMES = (*SCHEMAS, RESULTS)


def _known(name: str) -> str:
    if name not in _NAMES:
        raise typer.BadParameter(f"{name!r} is none of {', '.join(_NAMES)}")
    return name


def command(
    file: Annotated[
        str,
        typer.Argument(
            metavar=f"[{'|'.join(_NAMES)}]", callback=_known, help="Of which file; or of the JSON that commands print."
        ),
    ] = "estate",
    out: Annotated[Path | None, typer.Option(metavar="FILE", help="Write it to a file.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Write over a file that exists.")] = False,
) -> None:
    schema = results_schema() if file == RESULTS else json_schema(file)
    text = json.dumps(schema, indent=2) + "\n"
    if out is None:
        sys.stdout.write(text)
    else:
        write_whole(out, text.encode(), force)
