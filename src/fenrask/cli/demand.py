"""`fenrask demand`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.capacity import capacity
from fenrask.checks.today import today
from fenrask.cli.options import Call, Explain, filtered_command
from fenrask.demand import explain_demand
from fenrask.evaluation import evaluate
from fenrask.views.pages.demand import demand_page
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today

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
    evaluation = evaluate(call.read())
    load, state = evaluation.demand, today(evaluation)
    page = with_today(demand_page(load), state)
    call.show(with_steps(page, explain_demand(load)) if explain else page, load.paths)
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.heat import draw_heat

        call.write(figure, draw_heat(capacity(load), figure.suffix))
    return int(not state.is_well)
