"""`fenrask charges`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.charges import explain_bill
from fenrask.checks.today import today
from fenrask.cli.completion import names
from fenrask.cli.options import Call, Confidence, Explain, filtered_command
from fenrask.designs import break_even
from fenrask.designs.break_even import check_flow
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise import alternatives
from fenrask.views.pages.break_even import break_even_page
from fenrask.views.pages.charges import charges_page
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today

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
    months: Annotated[
        int | None,
        typer.Option(
            metavar="MONTHS", min=2, max=120, help="Show instead the bills of the months ahead, as load grows."
        ),
    ] = None,
    confidence: Confidence = None,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="With --break-even: draw cost against volume (.png, .svg or .pdf)."),
    ] = None,
) -> int:
    described = call.read()
    if months is not None:
        others = {"--break-even": of_flow, "--confidence": confidence, "--explain": explain, "--figure": figure}
        if besides := [name for name, one in others.items() if one]:
            raise UnusableInput([Problem(Place(path="--months"), f"{some(besides)} beside it", "one of the two")])
        return _months(call, described, months)
    if confidence is not None:
        return _confidence(call, evaluate(described), confidence)
    if of_flow is None:
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "no --break-even", "a flow to draw")])
        evaluation = evaluate(described)
        state = today(evaluation)
        page = with_today(charges_page(evaluation), state)
        call.show(with_steps(page, explain_bill(evaluation.bill)) if explain else page, evaluation.paths)
        return int(not state.is_well)
    check_flow(described, of_flow)
    found = break_even(alternatives(described, of_flow), of_flow, own=True)
    state = today(evaluate(described))
    call.show(with_today(break_even_page(described.estate.estate, found, "path"), state))
    if figure:
        from fenrask.views.figures.curves import draw_curves

        call.write(figure, draw_curves(described.estate.estate, found, figure.suffix))
    return int(not state.is_well)


def _months(call: Call, described: Described, months: int) -> int:
    from fenrask.views.pages.months import months_page
    from fenrask.what_if import absent, months_ahead, once_in

    ahead = months_ahead(described, months)
    once = [once_in(described, month) for month in range(months)]
    state = today(evaluate(described))
    call.show(with_today(months_page(ahead, once, absent(described)), state), ahead[0].paths)
    return int(not state.is_well)


def _confidence(call: Call, evaluation: Evaluation, level: float) -> int:
    from fenrask.views.pages.confidence import bill_confidence_page
    from fenrask.what_if import confident

    found = confident(evaluation, level)
    state = today(evaluation)
    page = bill_confidence_page(evaluation.described.estate.estate, evaluation.bill.currency, found)
    call.show(with_today(page, state))
    return int(not state.is_well)
