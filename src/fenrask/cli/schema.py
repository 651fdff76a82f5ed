"""`fenrask schema`."""

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.estate.schema import SCHEMAS, json_schema

__all__ = ["command"]


def _known(name: str) -> str:
    if name not in SCHEMAS:
        raise typer.BadParameter(f"{name!r} is none of {', '.join(SCHEMAS)}")
    return name


def command(
    file: Annotated[
        str, typer.Argument(metavar=f"[{'|'.join(SCHEMAS)}]", callback=_known, help="Which file's schema.")
    ] = "estate",
    out: Annotated[Path | None, typer.Option(metavar="FILE", help="Write it to a file.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Write over a file that exists.")] = False,
) -> None:
    text = json.dumps(json_schema(file), indent=2) + "\n"
    if out is None:
        sys.stdout.write(text)
    else:
        write_whole(out, text.encode(), force)
