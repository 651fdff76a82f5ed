"""`fenrask schedule`."""

import json
from datetime import date
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks.today import today
from fenrask.cli.options import Call, estate_command
from fenrask.designs.contract import Patch
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.evaluation import evaluate
from fenrask.views.pages.schedule import schedule_page
from fenrask.views.today import with_today
from fenrask.what_if.schedule import schedule

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    months: Annotated[int, typer.Option(metavar="MONTHS", min=2, max=120, help="How many months to plan.")] = 24,
    confidence: Annotated[
        float,
        typer.Option(metavar="SHARE", min=0.5, max=0.999, help="Confidence, where loads or growth are ranges."),
    ] = 0.9,
    growth: Annotated[
        float, typer.Option(metavar="SHARE", min=-1, max=1, help="Extra growth of all loads per month.")
    ] = 0.0,
    begin: Annotated[
        str | None,
        typer.Option(metavar="DATE", help="The first day, such as 2026-12-01 (default: by first_month, if stated)."),
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw ports wanted and owned, and the bill (.png, .svg or .pdf)."),
    ] = None,
    save: Annotated[
        Path | None,
        typer.Option(metavar="FOLDER", help="Write each change of exits as a JSON Merge Patch of today's estate."),
    ] = None,
) -> int:
    first, described = _day(begin), call.read()
    state = today(evaluate(described))
    found = schedule(described, months, confidence, growth, first)
    call.show(with_today(schedule_page(described, found), state, ("short",)))
    if figure:
        from fenrask.views.figures.schedule import draw_schedule

        call.write(figure, draw_schedule(described, found, figure.suffix))
    if save and found.changes:
        call.write_all(save, {f"month-{one.begin}.json": _text(one.patch) for one in found.changes})
    return int(not found.is_well or not state.is_well)


def _text(patch: Patch) -> bytes:
    return (json.dumps(patch, indent=2) + "\n").encode()


_LAST = date(9000, 1, 1)


def _day(text: str | None) -> date | None:
    try:
        found = None if text is None else date.fromisoformat(text)
    except ValueError:
        raise UnusableInput([Problem(Place(path="--begin"), repr(text), "a date, such as 2026-12-01")]) from None
    if found is not None and found > _LAST:
        raise UnusableInput([Problem(Place(path="--begin"), repr(text), f"a date up to {_LAST}")])
    return found
