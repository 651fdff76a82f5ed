"""`fenrask compare`."""

from math import isfinite
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.designs import MEASURES, STANDARD, Design, beside, changes, compare, designs_break_even
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import read_estate, read_patch
from fenrask.estate.suggestions import nearest
from fenrask.evaluation import evaluate
from fenrask.views.pages.break_even import designs_break_even_page
from fenrask.views.pages.compare import changes_page, compare_page, patch_files
from fenrask.what_if import zone_losses

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    design: Annotated[
        list[Path] | None, typer.Option(metavar="FILE", help="A design of your own, a merge patch, beside the others.")
    ] = None,
    catalogue: Annotated[
        list[Path] | None, typer.Option(metavar="FILE", help="Another provider's catalogue, to compare with as well.")
    ] = None,
    weights: Annotated[
        list[str] | None,
        typer.Option(
            metavar="MEASURE=NUMBER", help=f"Rank by a weighed sum of {', '.join(MEASURES)}; else nothing is."
        ),
    ] = None,
    base: Annotated[
        Path | None, typer.Option(metavar="ESTATE", help="Instead, what changes flow by flow against this estate.")
    ] = None,
    flow: Annotated[
        str | None,
        typer.Option("--break-even", metavar="FLOW", help="Instead, at which volume of it designs change places."),
    ] = None,
    save: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Write each design's patch into this folder.")
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw each design's cost to a .png, .svg or .pdf.")
    ] = None,
) -> int:
    described = call.read()
    if base:
        before, now = evaluate(read_estate(base)), evaluate(described)
        total = now.bill.total - before.bill.total
        call.show(changes_page(described.estate.estate, now.bill.currency, changes(before, now), total))
        return 0
    if flow is not None and weights:
        raise UnusableInput([Problem(Place(path="--weights"), "--break-even", "one of the two")])
    own = [_own(path) for path in design or []]
    others = [described.priced_by(file) for file in catalogue or []]
    comparison = beside(
        compare(described, [*STANDARD, *own]),
        {one.catalogue.catalogue: compare(one, STANDARD) for one in others},
    )
    for name, text in patch_files(comparison).items() if save else ():
        call.write(Path(save or ".") / name, text.encode())
    if flow is not None:
        found = designs_break_even(comparison, flow)
        call.show(designs_break_even_page(described.estate.estate, found))
        if figure:
            from fenrask.views.figures.curves import draw_curves

            call.write(figure, draw_curves(described.estate.estate, found, figure.suffix))
        return 0
    losses = {one.design.name: zone_losses(one.evaluation) for one in comparison.candidates}
    call.show(compare_page(comparison, losses, _weights(weights or [])))
    if figure:
        from fenrask.views.figures.designs import draw_designs

        call.write(figure, draw_designs(comparison, figure.suffix))
    return int(comparison.cheapest is None)


def _weights(words: list[str]) -> dict[str, float]:
    """Weights by measure; UnusableInput for a measure that is none, or what is no number."""
    found, problems = dict[str, float](), []
    for word in words:
        name, _, number = word.partition("=")
        try:
            found[name] = float(number)
            if not isfinite(found[name]):
                raise ValueError
        except ValueError:
            problems.append(Problem(Place(path="--weights"), repr(word), "MEASURE=NUMBER, such as month=1"))
        if name not in MEASURES:
            problems.append(Problem(Place(path="--weights"), repr(name), "a measure", nearest(name, MEASURES)))
    if problems:
        raise UnusableInput(problems)
    return found


def _own(path: Path) -> Design:
    patch = read_patch(path)
    return Design(path.stem, f"as {path} says", lambda _: patch)
