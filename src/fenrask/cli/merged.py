"""`fenrask merged`."""

import sys

from fenrask.cli.options import Call, estate_command
from fenrask.estate.writing import estate_text

__all__ = ["command"]


@estate_command
def command(call: Call) -> int:
    text = estate_text(call.read().data)
    if call.out is None:
        sys.stdout.write(text)
    else:
        call.write(call.out, text.encode())
    return 0
