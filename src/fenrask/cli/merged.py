"""`fenrask merged`."""

import sys
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.estate.writing import estate_text

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    month: Annotated[
        int | None,
        typer.Option(
            metavar="MONTH",
            min=0,
            max=240,
            help="The estate as it is in this month from now, which grows no more.",
        ),
    ] = None,
) -> int:
    described = call.read()
    if month is not None:
        from fenrask.what_if import only

        described = only(described, month)
    text = estate_text(described.data)
    if call.out is None:
        sys.stdout.write(text)
    else:
        call.write(call.out, text.encode())
    return 0
