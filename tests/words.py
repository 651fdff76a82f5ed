"""Words that no text for users has any more."""

import re
from collections.abc import Iterator
from typing import Any

GONE = re.compile(
    r"\b(ways? out|way out|lanes?|refus(?:ed|es)|anew|left out|far sides?|rhythms?|busiest moment|effective routes"
    r"|committed use|leads? to|led to|so many|nobody|lent-address|alike|begun ones|connections held|is held|are held"
    r"|released?|lives|one by one)\b",
    re.IGNORECASE,
)
"""The law of words, as far as a pattern can hold it; words that have a use of their own are not in it."""


def texts(result: Any) -> Iterator[str]:
    """Every text among the values of a result in JSON."""
    if isinstance(result, str):
        yield result
    elif isinstance(result, (dict, list)):
        for value in result.values() if isinstance(result, dict) else result:
            yield from texts(value)


def gone(result: Any) -> list[str]:
    """The texts of a result that have such a word."""
    return [text for text in texts(result) if GONE.search(text)]
