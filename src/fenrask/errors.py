"""The error tree. Core code raises these; only the command line catches, prints and exits.

FenraskError
├── UnusableInput   the input or the call cannot be used (exit status 2); carries every problem found
├── NoAnswer        the input is sound, yet no number or design exists that meets it (exit status 1)
└── OwnFault        a state that Fenrask itself should have made impossible (exit status 3)
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

__all__ = ["FenraskError", "NoAnswer", "OwnFault", "Place", "Problem", "UnusableInput", "WorkersLost"]


_LONGEST = 200
"""Characters of a path that are shown."""


@dataclass(frozen=True)
class Place:
    """Where something stands: a file, a 1-based line and column, and the dotted path to the value."""

    file: str = ""
    line: int = 0
    column: int = 0
    path: str = ""

    def __str__(self) -> str:
        position = f"{self.file}:{self.line}:{self.column}" if self.line else self.file
        path = self.path if len(self.path) <= _LONGEST else f"{self.path[: _LONGEST - 3]}..."
        return f"{position} {path}".strip()


@dataclass(frozen=True)
class Problem:
    """One thing that makes an input unusable: where, what is there, what was expected, what to do.

    found, expected: one of them may be empty, where the other says all.
    """

    place: Place
    found: str
    expected: str
    remedy: str = ""

    def __str__(self) -> str:
        text = f"{self.place}: {', expected '.join(filter(None, (self.found, self.expected)))}"
        if not self.found:
            text = f"{self.place}: expected {self.expected}"
        return f"{text}\n  {self.remedy}" if self.remedy else text


class FenraskError(Exception):
    """The root of all errors that Fenrask raises on purpose."""


@dataclass(eq=False)
class UnusableInput(FenraskError, ValueError):
    """A file or a call cannot be used; `problems` holds all that was found wrong, in file order."""

    problems: Sequence[Problem]

    def __str__(self) -> str:
        return "\n".join(str(problem) for problem in self.problems)


@dataclass(eq=False)
class NoAnswer(FenraskError):
    """Nothing meets what was asked: `cause` says why, `remedy` what would change that."""

    cause: str
    remedy: str = field(default="")

    def __str__(self) -> str:
        return f"{self.cause}\n  {self.remedy}" if self.remedy else self.cause


class WorkersLost(FenraskError):
    """The machines that were to work are gone; what was done before stays."""


class OwnFault(FenraskError):
    """Fenrask broke a promise of its own; never the user's doing."""
