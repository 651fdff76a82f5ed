"""`fenrask compare`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.designs import compare
from fenrask.views.pages.compare import compare_page, patch_files

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    save: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Write each design's patch into this folder.")
    ] = None,
) -> int:
    comparison = compare(call.read())
    call.show(compare_page(comparison))
    for name, text in patch_files(comparison).items() if save else ():
        call.write(Path(save or ".") / name, text.encode())
    return int(comparison.cheapest is None)
