"""`fenrask relieve`."""

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from time import monotonic, sleep
from typing import Annotated

import typer

from fenrask.checks.today import today
from fenrask.cli.completion import names
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.cli.screen import rendering
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import evaluate
from fenrask.records.batch import Unread
from fenrask.records.filling import Filling, Stream
from fenrask.records.readers import read_entries
from fenrask.records.relief import relieve
from fenrask.views.formats import FORMATS
from fenrask.views.page import Page
from fenrask.views.pages.relieve import filling_line, filling_page, relieve_page
from fenrask.views.today import with_today

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
    follow: Annotated[
        float | None,
        typer.Option(
            metavar="SECONDS",
            min=0.1,
            help="Look again at this interval, until Ctrl-C: how fast the ports fill, and when they are full. "
            "Standard input may be a listing, if any, and then events (`conntrack -L; conntrack -E`).",
        ),
    ] = None,
    for_s: Annotated[
        float | None,
        typer.Option("--for", metavar="SECONDS", min=0, help="How long to --follow; default: until Ctrl-C."),
    ] = None,
) -> int:
    estate, files = split_words(words, 0)
    if len(files) != 1:
        raise typer.BadParameter("give one connection table")
    described = replace(call, estate=estate or call.estate).read()
    known = [name for name, one in described.estate.exits.items() if one.translates and described.offer_of(name)]
    if problems := unknown("--exit", [exit_], known, "an exit that translates"):
        raise UnusableInput(problems)
    if for_s is not None and follow is None:
        raise typer.BadParameter("--for says how long to --follow")
    unread = Unread({})
    if follow is not None:
        return _follow(call, described, Filling(evaluate(described), exit_), files[0], (follow, for_s))
    relief = relieve(described, exit_, list(read_entries(files[0], unread)))
    page = relieve_page(described.estate.estate, described.catalogue.currency, relief, unread)
    call.show(with_today(page, today(evaluate(described)), ("covered",)))
    return int(relief.in_use > _FULL * relief.ports)


def _follow(call: Call, described: Described, filling: Filling, file: str, times: tuple[float, float | None]) -> int:
    """Look again and again: redrawn on a terminal, elsewhere a line each; 1 where it is nearly full at the end.

    times: how often, s, and for how long; None: until it is stopped.
    """
    unread, stream, (every_s, for_s) = Unread({}), None, times
    if file == "-":
        stream = Stream(read_entries(file, unread))
    begin, filled = monotonic(), None
    with _screen(call) as show, suppress(KeyboardInterrupt):
        while True:
            looked = monotonic()
            unread = unread if stream is not None else Unread({})
            # A stream that has ended says all that it will: one more look.
            is_last = (stream is not None and stream.has_ended) or (for_s is not None and looked - begin >= for_s)
            filled = filling.look(stream.now() if stream else list(read_entries(file, unread)), looked)
            show(filling_line(filled), filling_page(described.estate.estate, filled, unread))
            if is_last:
                break
            sleep(max(0.0, every_s - (monotonic() - looked)))
    return int(filled is not None and filled.use.share > _FULL)


@contextmanager
def _screen(call: Call) -> Iterator[Callable[[str, Page], None]]:
    """How each look is shown: drawn in place on a terminal, else as a line."""
    how = rendering(to_file=False, all_rows=call.all)
    if not sys.stdout.isatty() or call.quiet:
        yield lambda line, _: print(line, flush=True)
        return
    from rich.live import Live
    from rich.text import Text

    with Live(auto_refresh=False) as live:
        yield lambda _, page: live.update(Text.from_ansi(FORMATS["table"](page, how)), refresh=True)
