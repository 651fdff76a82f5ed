"""The terminal: how wide it is, whether it shows colours; messages."""

import os
import shutil
import sys

from fenrask.views.formats import Rendering

__all__ = ["rendering", "say"]

FILE_WIDTH = 120
PIPE_WIDTH = 100


def rendering(to_file: bool, all_rows: bool = False) -> Rendering:
    """How to set text: as wide as the terminal (COLUMNS, if set), in colour only on a terminal."""
    if to_file:
        return Rendering(FILE_WIDTH, all_rows=all_rows)
    width = shutil.get_terminal_size((PIPE_WIDTH, 24)).columns
    plain = "NO_COLOR" in os.environ or os.environ.get("TERM") == "dumb"
    return Rendering(max(width, 40), sys.stdout.isatty() and not plain, all_rows)


def say(message: str) -> None:
    """A message to stderr: data alone goes to stdout."""
    print(message, file=sys.stderr)
