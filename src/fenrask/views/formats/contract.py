"""What a format is: a function from a page to text."""

from collections.abc import Callable
from dataclasses import dataclass

from fenrask.views.page import Page

__all__ = ["Format", "Rendering"]


@dataclass(frozen=True)
class Rendering:
    """Where the text goes: how wide, whether colours are understood."""

    width: int = 100
    colour: bool = False
    all_rows: bool = False
    """Whether every row of every table is shown."""


Format = Callable[[Page, Rendering], str]
