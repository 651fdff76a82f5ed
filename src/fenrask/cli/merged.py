"""`fenrask merged`."""

import sys
from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
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
    growth: Annotated[
        float, typer.Option(metavar="SHARE", min=-1, max=1, help="With --month: extra growth of all loads per month.")
    ] = 0.0,
) -> int:
    described = call.read()
    if growth and month is None:
        raise UnusableInput([Problem(Place(path="--growth"), "no --month", "a month by which it has grown")])
    if month is not None:
        from fenrask.what_if import only

        described = only(described, month, growth)
    text = estate_text(described.data)
    if call.out is None:
        sys.stdout.write(text)
    else:
        call.write(call.out, text.encode())
    return 0
