"""`fenrask demand`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import capacity
from fenrask.cli.options import Call, Explain, filtered_command
from fenrask.demand import demand, explain_demand
from fenrask.routing import flow_paths
from fenrask.views.pages.demand import demand_page
from fenrask.views.pages.explained import with_steps

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw concurrent connections by exit and hour (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    load = demand(flow_paths(call.read()))
    page = demand_page(load)
    call.show(with_steps(page, explain_demand(load)) if explain else page, load.paths)
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.heat import draw_heat

        call.write(figure, draw_heat(capacity(load), figure.suffix))
    return int(bool(load.not_counted))
