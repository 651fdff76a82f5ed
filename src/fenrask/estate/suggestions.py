"""The nearest known name to a misspelt one."""

from collections.abc import Iterable
from difflib import get_close_matches

from fenrask.errors import Place, Problem

__all__ = ["NONE_DEFINED", "nearest", "some", "unknown"]

NONE_DEFINED = "None is defined."

MOST_NAMES = 2000
"""Above this many known names the search for near ones is limited to those with the same first letter."""


def nearest(name: str, known: Iterable[str]) -> str:
    """A remedy that names the nearest known names, or some of those that exist.

    >>> nearest("gate-z", ["gate-a", "front-door"])
    "Did you mean 'gate-a'?"
    """
    names = list(known)
    pool = names if len(names) <= MOST_NAMES else [one for one in names if one[:1] == name[:1]]
    close = get_close_matches(name, pool, n=2, cutoff=0.6)
    if close:
        return f"Did you mean {' or '.join(repr(one) for one in close)}?"
    return f"Known: {some(names)}." if names else NONE_DEFINED


def unknown(option: str, names: Iterable[str], known: Iterable[str], expected: str) -> list[Problem]:
    """A problem for each name of an option that is not known."""
    names_known = list(dict.fromkeys(known))
    return [
        Problem(Place(path=option), repr(name), expected, nearest(name, names_known))
        for name in names
        if name not in names_known
    ]


def some(names: Iterable[str], most: int = 5) -> str:
    """At most `most` names, the rest counted.

    >>> some("abcdefg")
    'a, b, c, d, e and 2 more'
    """
    listed = list(names)
    text = ", ".join(listed[:most])
    return text if len(listed) <= most else f"{text} and {len(listed) - most} more"
