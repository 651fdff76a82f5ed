"""Bytes from outside, read in one place: how many, from what, for how long, and how deep values in them may lie.

Whatever cannot be read is UnusableInput with a sentence. A named pipe or a device is waited for as long as
`PATIENCE_S`, or `ALONE_S` where no program writes into it; a shell's `<(command)` is read like a file.
"""

import io
import json
import os
import select
import stat
import sys
from collections.abc import Callable
from pathlib import Path
from time import monotonic
from typing import Any, BinaryIO, NoReturn

from fenrask.errors import Place, Problem, UnusableInput

__all__ = [
    "ALONE_S",
    "MOST_BYTES",
    "PATIENCE_S",
    "at",
    "file_bytes",
    "file_text",
    "is_file",
    "json_values",
    "opened_file",
]

MOST_BYTES = 256 * 2**20
"""Of a file that is held whole."""
PATIENCE_S = 60.0
"""How long a pipe or a device may say nothing."""
ALONE_S = 10.0
"""How long a named pipe is waited for that no program has opened to write into it."""
_LOOK_S = 0.25
STANDARD_INPUT = "-"
Unreadable = Callable[[str], Problem]
"""What is wrong, in words, as a problem of the place that names the file."""


def file_bytes(file: str | Path, unreadable: Unreadable, most: int = MOST_BYTES) -> bytes:
    """A whole file, or standard input for `-`; UnusableInput where it cannot be read or has more than `most` bytes."""
    stream = opened_file(file, unreadable)
    try:
        content = stream.read(most + 1)
    except OSError as error:
        _refuse(unreadable, _words(error))
    finally:
        if str(file) != STANDARD_INPUT:
            stream.close()
    if len(content) > most:
        _refuse(unreadable, f"over {most / 2**20:,.0f} MiB")
    return content


def file_text(file: str | Path, unreadable: Unreadable, most: int = MOST_BYTES) -> str:
    """A whole file as UTF-8, with or without a mark in front; bytes that are none are shown as such."""
    return file_bytes(file, unreadable, most).decode("utf-8-sig", errors="replace")


def opened_file(file: str | Path, unreadable: Unreadable) -> io.BufferedReader:
    """A file as a stream, or standard input for `-`; UnusableInput where there is none, or nothing comes from it."""
    name = str(file)
    try:
        if name == STANDARD_INPUT:
            return _buffered(sys.stdin.buffer if sys.stdin else io.BytesIO())
        kind = Path(name).stat().st_mode
        if stat.S_ISFIFO(kind) or stat.S_ISCHR(kind) or stat.S_ISSOCK(kind):
            return io.BufferedReader(_Patient(name, unreadable))
        return _buffered(Path(name).open("rb"))
    except (OSError, ValueError) as error:
        _refuse(unreadable, _words(error))


def is_file(file: Path) -> bool:
    """Whether there is a file of this name; a name that cannot be one is none."""
    try:
        return file.is_file()
    except (OSError, ValueError):
        return False


def json_values(text: str | bytes) -> Any:
    """The values of a JSON text (RFC 8259); ValueError where it is none, or nested too deep to be one of ours."""
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("values nested hundreds of levels deep") from None


def _buffered(stream: BinaryIO) -> io.BufferedReader:
    return stream if isinstance(stream, io.BufferedReader) else io.BufferedReader(stream)  # type: ignore[arg-type,unused-ignore]


def _refuse(unreadable: Unreadable, why: str) -> NoReturn:
    raise UnusableInput([unreadable(why)]) from None


def _words(error: OSError | ValueError) -> str:
    if isinstance(error, OSError):
        return (error.strerror or type(error).__name__).lower()
    return "a name with a null byte" if "null" in str(error) else str(error)


class _Patient(io.RawIOBase):
    """A pipe or a device that has to say something from time to time."""

    def __init__(self, name: str, unreadable: Unreadable) -> None:
        super().__init__()
        # Not waiting for a writer: that is done below, for a while.
        self._file = os.open(name, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
        self._unreadable = unreadable

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        began = monotonic()
        while True:
            ready, _, _ = select.select([self._file], [], [], _LOOK_S)
            is_alone = False
            try:
                content = os.read(self._file, len(buffer))
            except BlockingIOError:
                content = b""
            else:
                # A pipe that is not ready, and yet at its end, has never had anyone who writes into it.
                is_alone = not content and not ready
                if content or ready:
                    buffer[: len(content)] = content
                    return len(content)
            waited_s = monotonic() - began
            if is_alone and waited_s > ALONE_S:
                _refuse(self._unreadable, "a pipe into which no program writes")
            if waited_s > PATIENCE_S:
                _refuse(self._unreadable, f"nothing came from it for {PATIENCE_S:g} s")

    def close(self) -> None:
        if not self.closed:
            os.close(self._file)
        super().close()


def at(place: Place, expected: str, remedy: str = "", before: str = "") -> Unreadable:
    """A problem of a place: what is wrong with the file, after what is told before; what is expected."""
    return lambda why: Problem(place, f"{before}{why}", expected, remedy)
