"""`fenrask capacity`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import capacity, explain_capacity
from fenrask.cli.options import Call, Explain, filtered_command
from fenrask.demand import demand
from fenrask.routing import flow_paths
from fenrask.views.pages.capacity import capacity_page
from fenrask.views.pages.explained import with_steps

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw ports wanted over the day (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    sized = capacity(demand(flow_paths(call.read())))
    page = capacity_page(sized)
    call.show(with_steps(page, explain_capacity(sized)) if explain else page, sized.demand.paths)
    if figure:
        from fenrask.views.figures.ports import draw_ports

        call.write(figure, draw_ports(sized, figure.suffix))
    return int(not sized.fits)
