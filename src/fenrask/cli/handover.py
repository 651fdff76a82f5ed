"""`fenrask handover`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import capacity, translators
from fenrask.cli.options import Call, estate_command
from fenrask.demand import demand
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.routing import flow_paths
from fenrask.views.pages.handover import handover_files, handover_page

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    save: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Write the files into this folder; else they are only told.")
    ] = None,
    outward: Annotated[
        str, typer.Option(metavar="INTERFACE", help="The translator hosts' interface toward the internet.")
    ] = "eth0",
) -> int:
    if not outward or len(outward) > 15 or not all(sign.isalnum() or sign in "-_." for sign in outward):
        raise UnusableInput([Problem(Place(path="--outward"), repr(outward), "an interface, such as eth0")])
    described = call.read()
    found = list(translators(capacity(demand(flow_paths(described)))))
    call.show(handover_page(described.estate.estate, found))
    for name, text in handover_files(described.estate.estate, found, outward).items() if save else ():
        call.write(Path(save or ".") / name, text.encode())
    return 0
