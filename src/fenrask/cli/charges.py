"""`fenrask charges`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.designs import break_even
from fenrask.designs.break_even import check_flow
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.evaluation import evaluate
from fenrask.optimise import alternatives
from fenrask.views.pages.break_even import break_even_page
from fenrask.views.pages.charges import charges_page

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    flow: Annotated[
        str | None,
        typer.Option(
            "--break-even",
            metavar="FLOW",
            help="Show instead at which volume of this flow another exit is cheaper for it.",
        ),
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="With --break-even: draw cost against volume (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    described = call.read()
    if flow is None:
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "no --break-even", "a flow to draw")])
        call.show(charges_page(evaluate(described)))
        return 0
    check_flow(described, flow)
    found = break_even(alternatives(described, flow), flow)
    call.show(break_even_page(described.estate.estate, found, "path"))
    if figure:
        from fenrask.views.figures.curves import draw_curves

        call.write(figure, draw_curves(described.estate.estate, found, figure.suffix))
    return 0
