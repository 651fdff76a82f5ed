"""The terminal: how wide it is, whether it shows colours; messages."""

import shutil
import sys

from rich.console import Console

from fenrask.views.formats import Rendering

__all__ = ["rendering", "say"]

FILE_WIDTH = 120
PIPE_WIDTH = 100


def rendering(to_file: bool, all_rows: bool = False) -> Rendering:
    """How to set text: as wide as the terminal (COLUMNS), in colour by the rules of Rich (FORCE_COLOR, NO_COLOR)."""
    if to_file:
        return Rendering(FILE_WIDTH, all_rows=all_rows)
    width = shutil.get_terminal_size((PIPE_WIDTH, 24)).columns
    console = Console(file=sys.stdout)
    colour = console.is_terminal and not console.no_color and not console.is_dumb_terminal
    return Rendering(max(width, 40), colour, all_rows)


def say(message: str) -> None:
    """A message to stderr: data alone goes to stdout."""
    print(message, file=sys.stderr)
