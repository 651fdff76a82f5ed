"""`fenrask rehearse`."""

from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.progress import gone_through

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
        typer.Option(
            metavar="NUMBER", min=0, help="With --base: only the estate after this step of `handover`; 0: the start."
        ),
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
    rehearsed = [(number, name, rehearse(one)) for number, name, one in gone_through(stages, "estate")]
    call.show(rehearse_page(described.estate.estate, rehearsed))
    return int(any(one.differing for *_, one in rehearsed))


def _stages(described: Described, base: Path | None, step: int | None) -> list[tuple[int, str, Described]]:
    """The estates to rehearse, each with the step that it follows; without a base, the one that there is.

    Steps have the numbers of `handover`, where what partners are told has numbers too.
    """
    if base is None:
        return [(0, "", described)]
    from fenrask.designs import build_steps, tasks_of
    from fenrask.evaluation import evaluate

    before, now = evaluate(read_estate(base)), evaluate(described)
    tasks = enumerate(tasks_of(before, build_steps(before, now), now), 1)
    steps = [(number, one.step) for number, one in tasks if one.step is not None]
    stages = [(0, "as it is today", before.described)]
    stages += [(number, one.what, one.after.described) for number, one in steps]
    if step is None:
        return stages
    if step not in (known := [number for number, *_ in stages]):
        expected = f"a step of the change: {', '.join(map(str, known))}"
        raise UnusableInput([Problem(Place(path="--step"), str(step), expected)])
    return [one for one in stages if one[0] == step]
