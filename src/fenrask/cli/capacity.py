"""`fenrask capacity`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import capacity
from fenrask.cli.options import Call, estate_command
from fenrask.demand import demand
from fenrask.routing import flow_ways
from fenrask.views.pages.capacity import capacity_page

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw ports in use over the day to a .png, .svg or .pdf."),
    ] = None,
) -> int:
    sized = capacity(demand(flow_ways(call.read())))
    call.show(capacity_page(sized))
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.ports import draw_ports

        call.write(figure, draw_ports(sized, figure.suffix))
    return int(not sized.fits)
