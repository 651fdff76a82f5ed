"""How a figure comes about: one shape for every step from what was written to what is shown."""

from dataclasses import dataclass

__all__ = ["Step"]


@dataclass(frozen=True)
class Step:
    """One figure: what it is of, what it is, its formula with the numbers put in, and where that comes from."""

    about: str
    figure: str
    value: str
    working: str
    source: str = ""
