"""`fenrask charges`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.charges import explain_bill
from fenrask.cli.completion import names
from fenrask.cli.options import Call, Explain, filtered_command
from fenrask.designs import break_even
from fenrask.designs.break_even import check_flow
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise import alternatives
from fenrask.views.pages.break_even import break_even_page
from fenrask.views.pages.charges import charges_page
from fenrask.views.pages.explained import with_steps

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    of_flow: Annotated[
        str | None,
        typer.Option(
            "--break-even",
            metavar="FLOW",
            autocompletion=names("flows"),
            help="Show instead at which volume of this flow another exit is cheaper for it.",
        ),
    ] = None,
    confidence: Annotated[
        bool, typer.Option("--confidence", help="Show instead the bill as an interval, where loads are ranges.")
    ] = False,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="With --break-even: draw cost against volume (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    described = call.read()
    if confidence:
        return _confidence(call, evaluate(described))
    if of_flow is None:
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "no --break-even", "a flow to draw")])
        evaluation = evaluate(described)
        page = charges_page(evaluation)
        call.show(with_steps(page, explain_bill(evaluation.bill)) if explain else page, evaluation.paths)
        return 0
    check_flow(described, of_flow)
    found = break_even(alternatives(described, of_flow), of_flow, own=True)
    call.show(break_even_page(described.estate.estate, found, "path"))
    if figure:
        from fenrask.views.figures.curves import draw_curves

        call.write(figure, draw_curves(described.estate.estate, found, figure.suffix))
    return 0


def _confidence(call: Call, evaluation: Evaluation) -> int:
    from fenrask.views.pages.confidence import bill_confidence_page
    from fenrask.what_if import confident

    found = confident(evaluation, 0.95)
    call.show(bill_confidence_page(evaluation.described.estate.estate, evaluation.bill.currency, found))
    return 0
