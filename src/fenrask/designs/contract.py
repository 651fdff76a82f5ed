"""What a design is: a whole candidate for the estate, as a merge patch over what is described."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from fenrask.estate import Described

__all__ = ["Design", "Patch"]

Patch = dict[str, Any]
"""A JSON Merge Patch (RFC 7396)."""


@dataclass(frozen=True)
class Design:
    """One design: its name, one sentence, and how its patch is made.

    `patch` raises NoAnswer where the design cannot be made from this estate and catalogue.
    """

    name: str
    about: str
    patch: Callable[[Described], Patch]
    kinds: tuple[str, ...] = ()
    """The kinds of exits that it takes an offer of, where several may do: each is tried."""
    has_centre: bool = False
    """Whether one network has an exit for all: each of few networks is tried."""
