"""`fenrask relieve`."""

from dataclasses import replace
from typing import Annotated

import typer

from fenrask.cli.completion import names
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.errors import UnusableInput
from fenrask.estate.suggestions import unknown
from fenrask.records.batch import Unread
from fenrask.records.readers import read_entries
from fenrask.records.relief import relieve
from fenrask.views.pages.relieve import relieve_page

__all__ = ["command"]

_FULL = 0.8


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[ESTATE] TABLE",
            help="The estate file; and the exit's connection table now, as `conntrack -L` lists it (`-`: standard in).",
        ),
    ],
    exit_: Annotated[
        str, typer.Option("--exit", metavar="EXIT", autocompletion=names("exits"), help="The exit whose table it is.")
    ],
) -> int:
    estate, files = split_words(words, 0)
    if len(files) != 1:
        raise typer.BadParameter("give one connection table")
    described = replace(call, estate=estate or call.estate).read()
    known = [name for name, one in described.estate.exits.items() if one.translates and described.offer_of(name)]
    if problems := unknown("--exit", [exit_], known, "an exit that translates"):
        raise UnusableInput(problems)
    unread = Unread({})
    relief = relieve(described, exit_, list(read_entries(files[0], unread)))
    call.show(relieve_page(described.estate.estate, described.catalogue.currency, relief, unread))
    return int(relief.in_use > _FULL * relief.ports)
