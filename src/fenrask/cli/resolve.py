"""`fenrask resolve`."""

import json
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.prefixes import parse_address
from fenrask.records import drift_patch, drifts
from fenrask.records.names import look_up
from fenrask.views.pages.resolve import resolve_page

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    server: Annotated[
        str, typer.Option("--server", metavar="ADDRESS[#PORT]", help="The DNS server to ask; nothing else is asked.")
    ],
    save: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write the patch that brings the estate up to date.")
    ] = None,
) -> int:
    address, port = _server(server)
    described = call.read()
    found = drifts(described, lambda name: look_up(name, address, port))
    call.show(resolve_page(described.estate.estate, found, server))
    if save:
        call.write(save, (json.dumps(drift_patch(found), indent=2) + "\n").encode())
    return int(any(one.drifted or one.faults for one in found))


def _server(stated: str) -> tuple[str, int]:
    address, _, port = stated.partition("#")
    try:
        return str(parse_address(address)), int(port or 53)
    except ValueError:
        expected = "an address, and a port behind # if it is not 53"
        raise UnusableInput([Problem(Place(path="--server"), repr(stated), expected)]) from None
