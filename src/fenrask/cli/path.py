"""`fenrask path`."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, shared_options, split_words
from fenrask.routing import broken_needs, effective_routes, flow_ways, trace
from fenrask.views.pages.path import flows_page, routes_page, walk_page

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
        walks = trace(described, rest[0], rest[1], public)
        call.show(walk_page(described, rest[1], walks))
        return int(not all(walk.verdict.arrives for walk, _ in walks))
    ways = flow_ways(described)
    broken = [one for flow in described.estate.flows for one in broken_needs(ways, flow)]
    call.show(flows_page(ways, broken))
    if figure:
        # Matplotlib takes longer to import than all else takes to run, so only a figure loads it.
        from fenrask.views.figures.ways import draw_ways

        call.write(figure, draw_ways(ways, broken, figure.suffix))
    return int(bool(broken))
