"""`fenrask rehearse`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, read_estate

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    base: Annotated[
        Path | None,
        typer.Option(metavar="ESTATE", help="What is built today: rehearse each step of the change from it."),
    ] = None,
    step: Annotated[
        int | None,
        typer.Option(metavar="NUMBER", min=0, help="With --base: only the estate after this step; 0 for the start."),
    ] = None,
) -> int:
    if step is not None and base is None:
        raise UnusableInput([Problem(Place(path="--step"), "no --base", "the estate that the change begins at")])
    from fenrask.rehearsal import missing, rehearse
    from fenrask.views.pages.rehearse import rehearse_page

    described = call.read()
    if why := missing():
        expected = "Linux, root, and the commands `ip` and `nft`"
        raise UnusableInput([Problem(Place(path="this machine"), why, expected, "Run it where these are, or in CI.")])
    stages = _stages(described, base, step)
    rehearsed = [(name, rehearse(one)) for name, one in stages]
    call.show(rehearse_page(described.estate.estate, rehearsed))
    return int(any(one.differing for _, one in rehearsed))


def _stages(described: Described, base: Path | None, step: int | None) -> list[tuple[str, Described]]:
    """The estates to rehearse, each with the step that leads to it; without a base, the one that there is."""
    if base is None:
        return [("", described)]
    from fenrask.designs import build_steps
    from fenrask.evaluation import evaluate

    before = evaluate(read_estate(base))
    steps = build_steps(before, evaluate(described))
    stages = [("as it is today", before.described), *((one.what, one.after.described) for one in steps)]
    if step is None:
        return stages
    if step >= len(stages):
        raise UnusableInput([Problem(Place(path="--step"), str(step), f"a step from 0 to {len(stages) - 1}")])
    return stages[step : step + 1]
