"""`fenrask path`."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, shared_options
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
    public: Annotated[bool, typer.Option("--public", help="The sending host has a public address.")] = False,
) -> int:
    estate, rest = _split(words or [])
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
    return int(bool(broken))


def _split(words: list[str]) -> tuple[Path | None, list[str]]:
    """The estate file, if the first word looks like one or is one, and the other words."""
    if words and (len(words) > 2 or words[0].endswith((".yaml", ".yml")) or Path(words[0]).is_file()):
        return Path(words[0]), words[1:]
    return None, words
