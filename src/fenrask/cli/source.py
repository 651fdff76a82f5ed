"""`fenrask source`."""

from dataclasses import replace
from datetime import UTC, datetime
from itertools import chain
from typing import Annotated

import typer

from fenrask.cli.completion import names
from fenrask.cli.failures import CaseName, LoseExit, LoseZone, asked_failure
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.prefixes import Address, parse_address
from fenrask.records.batch import Unread
from fenrask.records.readers import read_entries
from fenrask.records.used import uses
from fenrask.views.pages.source import partner_page, uses_page
from fenrask.what_if.sources import shown_to

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[ESTATE] DESTINATION | [ESTATE] RECORDS...",
            help="The estate file; and a destination's name or an address: each subnet with flows there is shown, as a "
            "table for a partner. With --used: events or listings of connection tracking, or NAT events (IPFIX, "
            "NetFlow v9).",
            autocompletion=names("destinations"),
        ),
    ],
    used: Annotated[
        str,
        typer.Option(metavar="ADDRESS[:PORT]", help="Show instead whose connection used this public address and port."),
    ] = "",
    at: Annotated[
        str, typer.Option(metavar="TIME", help="With --used: at this time (ISO 8601, or seconds since 1970).")
    ] = "",
    lose_zone: LoseZone = None,
    lose_exit: LoseExit = None,
    case: CaseName = None,
) -> int:
    if at and not used:
        raise UnusableInput([Problem(Place(path="--at"), "no --used", "the address and port that were used")])
    if used:
        return _used(call, words, used, at)
    estate, rest = split_words(words, 2)
    if len(rest) != 1:
        raise typer.BadParameter("give a destination; for one subnet: fenrask path SUBNET DESTINATION")
    described = replace(call, estate=estate or call.estate).read()
    failure = asked_failure(described, lose_zone, lose_exit, case)
    asked = {failure.name: failure.case} if failure else None
    found = shown_to(described, rest[0], asked)
    call.show(partner_page(described.estate.estate, rest[0], found))
    return int(not all(cases[0].arrives for cases in found.values()))


def _used(call: Call, words: list[str], used: str, at: str) -> int:
    estate, files = split_words(words, 0)
    if not files:
        raise typer.BadParameter("give a translator's records")
    described = replace(call, estate=estate or call.estate).read()
    (address, port), when, unread = _address(used), _time(at), Unread({})
    entries = chain.from_iterable(read_entries(file, unread) for file in files)
    found = list(uses(described.estate, entries, address, port, when))
    call.show(uses_page(described.estate.estate, used, at, found, unread))
    return int(not found)


def _address(text: str) -> tuple[Address, int | None]:
    """`203.0.113.7:40001`, `[2001:db8::1]:443`, or the address alone."""
    whole, _, port = text.rpartition(":") if text.count(":") == 1 or "]:" in text else (text, "", "")
    try:
        address = parse_address((whole or text).strip("[]"))
        if port and not 0 < int(port) < 65536:
            raise ValueError(f"a port from 1 to 65535, not {port}")
    except ValueError as error:
        raise UnusableInput([Problem(Place(path="--used"), repr(text), str(error))]) from None
    return address, int(port) if port else None


def _time(text: str) -> float | None:
    if not text:
        return None
    try:
        return float(text)
    except ValueError:
        pass
    try:
        when = datetime.fromisoformat(text)
    except ValueError:
        expected = "a time, such as 2026-11-20T17:04:10Z"
        raise UnusableInput([Problem(Place(path="--at"), repr(text), expected)]) from None
    return (when if when.tzinfo else when.replace(tzinfo=UTC)).timestamp()
