"""Standard output and error that take every sign, whatever their encoding."""

import codecs
import io
from typing import TextIO

__all__ = ["speak_plainly"]

_PLAIN = str.maketrans(
    {"─": "-", "━": "=", "│": "|", "╭": "+", "╮": "+", "╰": "+", "╯": "+", "→": "->", "±": "+/-", "×": "x", "…": "..."}
    | dict(zip("▁▂▃▄▅▆▇", "_.-=+*#", strict=True))
)


def speak_plainly(*streams: TextIO) -> None:
    """Where a stream cannot hold a sign that is drawn, a plain one is used instead."""
    codecs.register_error("fenrask", _plainly)
    for stream in streams:
        if isinstance(stream, io.TextIOWrapper) and stream.encoding.lower().replace("-", "") != "utf8":
            stream.reconfigure(errors="fenrask")


def _plainly(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    text = error.object[error.start : error.end].translate(_PLAIN)
    return "".join(one if one.isascii() else "?" for one in text), error.end
