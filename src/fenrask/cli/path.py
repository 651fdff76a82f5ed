"""`fenrask path`."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks.today import today
from fenrask.cli.completion import subnet_and_destination
from fenrask.cli.failures import CaseName, LoseExit, LoseZone, asked_failure
from fenrask.cli.options import Call, filtered_options, split_words
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.needs import OUTBOUND_ONLY
from fenrask.routing import Sending, Trace, decided, effective_routes, exchanged, trace_from
from fenrask.views.page import Page
from fenrask.views.pages.explained import with_steps
from fenrask.views.pages.path import flows_page, inward_page, inward_trace_page, lines_page, routes_page, trace_page
from fenrask.views.pages.source import with_cases
from fenrask.views.today import with_today
from fenrask.what_if.sources import sources_shown

__all__ = ["command"]


@filtered_options
def command(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ESTATE] [SUBNET [DESTINATION]]",
            help="The estate file; a subnet, to see its routes; and a destination's name or an address, "
            "to trace it hop by hop and back. Of a flow that comes in: who opens it, and the workload.",
            autocompletion=subnet_and_destination,
        ),
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw the paths (.png, .svg or .pdf): all of them, or the one asked for."),
    ] = None,
    inward: Annotated[
        bool, typer.Option("--inward", help="Show instead who could open connections to our hosts, or to a SUBNET's.")
    ] = False,
    lines: Annotated[
        bool, typer.Option("--lines", help="Show instead what is exchanged with third parties over private lines.")
    ] = False,
    explain: Annotated[
        bool,
        typer.Option("--explain", help="Also show which facts of the provider's network (`behaviour`) decided."),
    ] = False,
    public: Annotated[
        bool, typer.Option("--public", help="Assume that the sending host has a public address.")
    ] = False,
    lose_zone: LoseZone = None,
    lose_exit: LoseExit = None,
    case: CaseName = None,
) -> int:
    estate, rest = split_words(words or [], 2)
    if len(rest) > 2:
        raise typer.BadParameter("give at most a subnet and a destination")
    call = replace(call, estate=estate or call.estate)
    described = call.read()
    if failure := asked_failure(described, lose_zone, lose_exit, case):
        described = failure.struck(described)
    if inward or lines:
        _check_alone([name for name, is_given in (("--inward", inward), ("--lines", lines)) if is_given], figure)
        return _inward(call, described, rest) if inward else _lines(call, described, rest)
    if len(rest) == 1:
        return _routes(call, described, rest[0], figure)
    evaluation = evaluate(described)
    if rest and (flows := _coming_in(described, *rest)):
        page = inward_trace_page(evaluation.paths, flows, evaluation.broken)
        call.show(page)
        if figure:
            raise UnusableInput([Problem(Place(path="--figure"), "a flow that comes in", "all paths, or one outward")])
        return int(any(evaluation.broken_by_flow.get(name) for name in flows))
    if rest:
        [workload] = call.chosen.get("workload", [None])[:1]
        traces = trace_from(described, rest[0], rest[1], public, workload)
        flows = _flows_on(evaluation, traces[0][0].subnet, rest[1])
        broken = [one for name in flows for one in evaluation.broken_by_flow.get(name, [])]
        page = trace_page(described, rest[1], traces, broken)
        cases = [*sources_shown(described, Sending(rest[0], rest[1], public, workload))]
        page = with_cases(page, traces[0][0].subnet, cases)
        call.show(_explained(evaluation, page, traces) if explain else page)
        if figure:
            from fenrask.views.figures.paths import draw_trace

            call.write(figure, draw_trace(described, rest[1], [trace for trace, _ in traces], figure.suffix))
        return int(bool(broken) or not all(trace.verdict.arrives for trace, _ in traces))
    state = today(evaluation)
    page = flows_page(evaluation.paths, evaluation.broken, evaluation.down_minutes)
    page = with_today(page, state, ("lost", "unmet"), of=f"after {failure.name}" if failure else "")
    call.show(_explained(evaluation, page, ()) if explain else page, evaluation.paths)
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.paths import draw_paths

        call.write(figure, draw_paths(evaluation.paths, evaluation.broken, figure.suffix))
    return int(not state.is_well)


def _routes(call: Call, described: Described, subnet: str, figure: Path | None) -> int:
    """The routes of a subnet."""
    if figure:
        raise UnusableInput([Problem(Place(path="--figure"), "a subnet alone", "a destination too, or none of both")])
    call.show(routes_page(described, subnet, effective_routes(described, subnet)))
    return 0


def _explained(evaluation: Evaluation, page: Page, traces: Sequence[tuple[Trace, object]]) -> Page:
    """The page with the facts of the catalogue that decided these paths; of no traces: those of all flows."""
    routes = evaluation.paths.routes
    if traces:
        steps = [step for trace, _ in traces for step in decided(routes, trace.subnet, trace)]
    else:
        examples = {path.example: path for path in evaluation.paths.paths}
        steps = [step for path in examples.values() for step in decided(routes, path.flow, path.example)]
    title, empty = "What the provider's network does by itself, where it decided", "nothing of it decided a path"
    return with_steps(page, dict.fromkeys(steps), title, empty)


def _check_alone(views: list[str], figure: Path | None) -> None:
    """UnusableInput where two views beyond our own flows are asked for, or a figure of one."""
    if len(views) > 1:
        raise UnusableInput([Problem(Place(path=views[0]), views[1], "one of the two")])
    if figure:
        raise UnusableInput([Problem(Place(path="--figure"), views[0], "the paths of flows")])


def _lines(call: Call, described: Described, rest: list[str]) -> int:
    """What third parties are told, and what they announce."""
    if rest:
        raise typer.BadParameter("--lines takes no subnet")
    call.show(lines_page(described.estate.estate, exchanged(evaluate(described).paths)))
    return 0


def _inward(call: Call, described: Described, rest: list[str]) -> int:
    """Who could come in, to all subnets or to one."""
    if len(rest) > 1:
        raise typer.BadParameter("--inward takes at most a subnet")
    evaluation = evaluate(described)
    if problems := unknown("SUBNET", rest, described.estate.subnets, "a subnet"):
        raise UnusableInput(problems)
    known = evaluation.paths.openings
    call.show(inward_page(evaluation.paths, known.to(rest[0]) if rest else known.of_all()), evaluation.paths)
    return int(any(one.need == OUTBOUND_ONLY for one in evaluation.broken))


def _coming_in(described: Described, origin: str, workload: str) -> list[str]:
    """The flows from someone to a workload, where these are what the two words name."""
    return [
        name
        for name, flow in described.estate.inward_flows.items()
        if (flow.from_, flow.to) == (origin, workload) and origin not in described.estate.subnets
    ]


def _flows_on(evaluation: Evaluation, subnet: str, target: str) -> list[str]:
    """The flows from a subnet to a destination."""
    estate = evaluation.described.estate
    return [
        name
        for name, flow in estate.outward_flows.items()
        if flow.to == target and subnet in estate.workloads[flow.from_].subnets
    ]
