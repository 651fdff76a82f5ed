"""`fenrask source`."""

from dataclasses import replace
from typing import Annotated

import typer

from fenrask.cli.completion import subnet_and_destination
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.views.pages.source import source_page
from fenrask.what_if.sources import sources_shown

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[ESTATE] SUBNET DESTINATION",
            help="The estate file; a subnet; and a destination's name or an address.",
            autocompletion=subnet_and_destination,
        ),
    ],
    public: Annotated[bool, typer.Option("--public", help="The sending host has a public address.")] = False,
) -> int:
    estate, rest = split_words(words, 2)
    if len(rest) != 2:
        raise typer.BadParameter("give a subnet and a destination")
    described = replace(call, estate=estate or call.estate).read()
    cases = list(sources_shown(described, rest[0], rest[1], public))
    call.show(source_page(described.estate.estate, rest[0], rest[1], cases))
    return int(not all(trace.verdict.arrives for trace, _ in cases[0].traces))
