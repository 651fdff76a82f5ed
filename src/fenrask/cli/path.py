"""`fenrask path`."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, shared_options, split_words
from fenrask.evaluation import broken_needs
from fenrask.routing import effective_routes, flow_paths, trace_from
from fenrask.views.pages.path import flows_page, routes_page, trace_page

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ESTATE] [SUBNET [DESTINATION]]",
            help="The estate file; a subnet, to see its routes; and a destination's name or an address, "
            "to go there hop by hop and back.",
        ),
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draw all ways out to a .png, .svg or .pdf.")
    ] = None,
    public: Annotated[bool, typer.Option("--public", help="The sending host has a public address.")] = False,
) -> int:
    estate, rest = split_words(words or [], 2)
    if len(rest) > 2:
        raise typer.BadParameter("give at most a subnet and a destination")
    call = replace(call, estate=estate or call.estate)
    described = call.read()
    if len(rest) == 1:
        call.show(routes_page(described, rest[0], effective_routes(described, rest[0])))
        return 0
    if rest:
        traces = trace_from(described, rest[0], rest[1], public)
        call.show(trace_page(described, rest[1], traces))
        return int(not all(trace.verdict.arrives for trace, _ in traces))
    paths = flow_paths(described)
    broken = [one for flow in described.estate.flows for one in broken_needs(paths, flow)]
    call.show(flows_page(paths, broken))
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.paths import draw_paths

        call.write(figure, draw_paths(paths, broken, figure.suffix))
    return int(bool(broken))
