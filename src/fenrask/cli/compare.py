"""`fenrask compare`."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from math import isfinite
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks.today import Today, today
from fenrask.cli.completion import names
from fenrask.cli.options import Call, Confidence, Explain, estate_command
from fenrask.cli.workers import Cases, workers_for_cases
from fenrask.derivation import Step
from fenrask.designs import MEASURES, STANDARD, Comparison, Design, FlowChange, beside, break_even, changes, compare
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, read_estate, read_patch
from fenrask.estate.suggestions import nearest, some
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation import explain as explained
from fenrask.routing import behaviour_step
from fenrask.views.pages.break_even import break_even_page
from fenrask.views.pages.compare import changes_page, compare_page, patch_files
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today
from fenrask.what_if import zone_losses, zone_losses_apart

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    design: Annotated[
        list[Path] | None,
        typer.Option(metavar="FILE", help="Also compare this design of your own, a JSON Merge Patch; may be repeated."),
    ] = None,
    catalogue: Annotated[
        list[Path] | None,
        typer.Option(metavar="FILE", help="Also compare with this provider's catalogue; may be repeated."),
    ] = None,
    weights: Annotated[
        list[str] | None,
        typer.Option(
            metavar="MEASURE=NUMBER", help=f"Rank by a weighted sum of {', '.join(MEASURES)} (default: by cost)."
        ),
    ] = None,
    base: Annotated[
        Path | None,
        typer.Option(metavar="ESTATE", help="Show instead what changes, flow by flow, from this other estate."),
    ] = None,
    flow: Annotated[
        str | None,
        typer.Option(
            "--break-even",
            metavar="FLOW",
            autocompletion=names("flows"),
            help="Show instead the volume of this flow at which one design becomes cheaper than another.",
        ),
    ] = None,
    months: Annotated[
        int | None,
        typer.Option(
            metavar="MONTHS",
            min=2,
            max=120,
            help="Show instead what each design costs through the months ahead, and when one overtakes another.",
        ),
    ] = None,
    public_hosts: Annotated[
        bool,
        typer.Option("--public-hosts", help="Allow a public address on each host (default: hosts stay private)."),
    ] = False,
    confidence: Confidence = None,
    workers: Cases = "1",
    explain: Explain = False,
    save: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Write each design's patch into this folder.")
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw each design's cost (.png, .svg or .pdf).")
    ] = None,
) -> int:
    described = call.read()
    with_months = {"--base": base, "--break-even": flow, "--confidence": confidence, "--explain": explain}
    _alone("--months", months, with_months | {"--figure": figure, "--save": save, "--weights": weights})
    if base:
        return _changed(call, described, base, explain)
    _alone("--break-even", flow, {"--weights": weights})
    state = today(evaluate(described))
    own = [_own(path) for path in design or []]
    priced = [described.priced_by(file) for file in catalogue or []]
    comparison = beside(
        compare(described, [*STANDARD, *own], public_hosts),
        {one.catalogue.catalogue: compare(one, STANDARD, public_hosts) for one in priced},
    )
    if months is not None:
        return _months(call, comparison, months, state)
    if save:
        call.write_all(save, {name: text.encode() for name, text in patch_files(comparison).items()})
    if flow is not None:
        volumes = break_even(comparison, flow)
        call.show(with_today(break_even_page(described.estate.estate, volumes, "design"), state, ("covered",)))
        if figure:
            from fenrask.views.figures.curves import draw_curves

            call.write(figure, draw_curves(described.estate.estate, volumes, figure.suffix))
        return int(not state.is_well)
    if confidence is not None:
        return _confidence(call, comparison, workers, state, confidence)
    with workers_for_cases(workers) as others:
        evaluations = [one.evaluation for one in comparison.candidates]
        if others:
            each = zone_losses_apart(others[0], [one.described for one in evaluations])
        else:
            each = [zone_losses(one) for one in evaluations]
    losses = {one.design.name: lost for one, lost in zip(comparison.candidates, each, strict=True)}
    page = with_today(compare_page(comparison, losses, _weights(weights or [])), state, ("covered",))
    call.show(with_steps(page, _steps(comparison)) if explain else page)
    if figure:
        from fenrask.views.figures.designs import draw_designs

        call.write(figure, draw_designs(comparison, figure.suffix))
    return int(comparison.cheapest is None or not state.is_well)


def _alone(option: str, value: object, others: Mapping[str, object]) -> None:
    """UnusableInput where an option is given beside others that ask for something else."""
    besides = [name for name, one in others.items() if one]
    if value is not None and besides:
        raise UnusableInput([Problem(Place(path=option), f"{some(besides)} beside it", "one of the two")])


def _changed(call: Call, described: Described, base: Path, explain: bool) -> int:
    before, now = evaluate(read_estate(base)), evaluate(described)
    total = now.bill.total - before.bill.total
    found = changes(before, now)
    state, page = today(now), changes_page(described.estate.estate, now.bill.currency, found, total)
    page = with_today(page, state)
    if (known := today(before)) != state:
        page = with_today(page, known, of=f"in {base.name}")
    call.show(with_steps(page, _on_open_connections(now, found)) if explain else page)
    return int(any(one.is_lost for one in found) or not state.is_well)


def _months(call: Call, comparison: Comparison, months: int, state: Today) -> int:
    from fenrask.views.pages.through import through_page
    from fenrask.what_if import absent
    from fenrask.what_if.through import through_months

    found = through_months(comparison, months)
    gone = absent(comparison.candidates[0].evaluation.described)
    call.show(with_today(through_page(found, gone), state, ("covered",)))
    return int(max(one.passing for one in found) < months or not state.is_well)


def _confidence(call: Call, comparison: Comparison, workers: str, state: Today, level: float) -> int:
    from fenrask.views.pages.confidence import compare_confidence_page
    from fenrask.what_if import confident, confident_apart

    evaluations = [one.evaluation for one in comparison.candidates]
    with workers_for_cases(workers) as others:
        if others:
            each = confident_apart(others[0], [one.described for one in evaluations], level)
        else:
            each = [confident(one, level) for one in evaluations]
    found = {one.design.name: own for one, own in zip(comparison.candidates, each, strict=True)}
    estate = comparison.candidates[0].evaluation.described.estate.estate
    call.show(with_today(compare_confidence_page(estate, comparison, found), state, ("covered",)))
    return int(comparison.cheapest is None or not state.is_well)


_LINES = 3


def _on_open_connections(now: Evaluation, found: Sequence[FlowChange]) -> Iterator[Step]:
    """What the provider does with open connections of the flows that move."""
    catalogue = now.described.catalogue
    for change in found:
        if change.paths[0] != change.paths[1] or change.sources[0] != change.sources[1]:
            stays = catalogue.behaviour.open_connections == "stay"
            word = "stay on a path whose exits exist" if stays else "break where their path is another"
            working = f"{change.breaks:,.0f} break at the peak: open ones {word}"
            yield behaviour_step(catalogue, change.flow, "open_connections", working)


def _steps(comparison: Comparison) -> Iterator[Step]:
    """How the cost and the ports of each design are computed: the largest lines of its bill, its fullest exit."""
    for candidate in comparison.candidates:
        for step in explained(candidate.evaluation, _LINES):
            yield replace(step, about=f"{candidate.design.name}: {step.about}")


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
