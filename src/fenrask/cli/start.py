"""`fenrask start`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.screen import say
from fenrask.demo.samples import BEGINNING

__all__ = ["command"]


def command(
    folder: Annotated[Path, typer.Argument(help="Where the estate is written.")],
    force: Annotated[bool, typer.Option("--force", help="Write over files that exist.")] = False,
) -> None:
    for name, content in BEGINNING.contents().items():
        write_whole(folder / name, content, force)
        say(f"wrote {folder / name}")
    say(f"Next: cd {folder} && fenrask check")
