"""`fenrask addresses`."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.addresses import explain_addresses, plan_addresses
from fenrask.capacity import Capacity
from fenrask.checks.today import today
from fenrask.cli.options import Call, Confidence, Explain, filtered_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.suggestions import nearest
from fenrask.evaluation import Evaluation, evaluate
from fenrask.views.pages.addresses import addresses_page
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    add: Annotated[
        list[str] | None,
        typer.Option(metavar="EXIT=NUMBER", help="Show what partners must add if EXIT gets NUMBER more addresses."),
    ] = None,
    confidence: Confidence = None,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="Draw the share of connections without a port by number of addresses (.png, .svg or .pdf).",
        ),
    ] = None,
) -> int:
    described = call.read()
    evaluation, note = evaluate(described), ""
    state = today(evaluation)
    if confidence is not None:
        evaluation, note = _confident(evaluation, confidence)
    sized = evaluation.capacity
    plan = plan_addresses(sized, _added(add or [], sized))
    page = with_today(addresses_page(evaluation, plan), state)
    if note:
        page = replace(page, summary=(note, *page.summary))
    call.show(with_steps(page, explain_addresses(described, plan)) if explain else page, evaluation.paths)
    if figure:
        from fenrask.views.figures.blocking import draw_blocking

        call.write(figure, draw_blocking(sized, figure.suffix))
    fits = [one.fits for one in plan.partners] + [one.fits for one in plan.changes]
    return int(not all(fits) or not state.is_well)


def _confident(evaluation: Evaluation, level: float) -> tuple[Evaluation, str]:
    """The estate with as many addresses as the confidence asks for, and a sentence on what that changes."""
    from fenrask.views.pages.confidence import more_addresses
    from fenrask.what_if import ranges, with_confidence

    after, exits = with_confidence(evaluation, level)
    return after, more_addresses(exits, level, bool(ranges(evaluation.described)))


def _added(words: list[str], sized: Capacity) -> dict[str, int]:
    """The addresses to add by exit; UnusableInput for an exit that has none, or what is no number."""
    known = [one.exit for one in sized.exits]
    added, problems = {}, []
    for word in words:
        name, _, number = word.partition("=")
        if name not in known:
            problems.append(Problem(Place(path="--add"), repr(name), "a translating exit", nearest(name, known)))
        elif not number.isdecimal() or len(number) > 4:
            problems.append(Problem(Place(path="--add"), repr(word), "EXIT=NUMBER, such as gate=2, at most 9999"))
        else:
            added[name] = int(number)
    if problems:
        raise UnusableInput(problems)
    return added
