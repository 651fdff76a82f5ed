"""Readers of connection records. A new one is one file and one line in `READERS`."""

import gzip
import io
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.records.batch import Batch, Unread
from fenrask.records.readers.columns import COMMA, FIELDS, PARQUET
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.exported import EXPORTED
from fenrask.records.readers.tracked import TRACKED

__all__ = ["FIELDS", "READERS", "Reader", "Source", "opened", "read_records"]

READERS: tuple[Reader, ...] = (PARQUET, EXPORTED, TRACKED, COMMA)
"""Tried in this order: each knows its files by their first bytes."""

_HEAD = 4096
_GZIP, _ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"


def opened(file: str, unread: Unread, columns: Mapping[str, str] | None = None) -> tuple[Source, bytes]:
    """A file (`-` for standard input), unpacked where it is packed, and its first bytes."""
    try:
        raw: Any = sys.stdin.buffer if file == "-" else Path(file).open("rb")  # noqa: SIM115 - read as a stream, to its end
    except OSError as error:
        found = (error.strerror or type(error).__name__).lower()
        raise UnusableInput([Problem(Place(file), found, "a file of records")]) from None
    stream: Any = raw if isinstance(raw, io.BufferedReader) else io.BufferedReader(raw)
    magic = stream.peek(4)[:4]
    if magic[:2] == _GZIP:
        stream = io.BufferedReader(gzip.GzipFile(fileobj=stream), _HEAD * 16)
    elif magic == _ZSTD:
        stream = io.BufferedReader(_zstd(stream, file), _HEAD * 16)
    return Source(file, stream, unread, dict(columns or {})), stream.peek(_HEAD)[:_HEAD]


def _zstd(stream: BinaryIO, file: str) -> io.RawIOBase:
    try:
        import pyarrow as arrow
    except ImportError:
        remedy = "Install it: pip install fenrask[records]."
        raise UnusableInput([Problem(Place(file), "a file packed with zstd", "the extra `records`", remedy)]) from None
    packed: io.RawIOBase = arrow.CompressedInputStream(arrow.PythonFile(stream, mode="r"), "zstd")
    return packed


def read_records(
    file: str, unread: Unread, columns: Mapping[str, str] | None = None
) -> tuple[str, dict[str, str], Iterator[Batch]]:
    """The format of a file, the columns that are taken (of a table; filled while it is read), and its batches.

    UnusableInput for a file of no known format.
    """
    source, head = opened(file, unread, columns)
    reader = next((one for one in READERS if one.knows(head)), None)
    if reader is None:
        names = ", ".join(one.name for one in READERS)
        found = "an empty file" if not head else repr(head[:24])
        raise UnusableInput([Problem(Place(file), found, f"one of {names}")])
    return reader.name, source.guessed, _whole(reader, source)


def _whole(reader: Reader, source: Source) -> Iterator[Batch]:
    """All batches; a packed file that breaks off is counted, and what was read before it stays."""
    try:
        yield from reader.read(source)
    except (EOFError, gzip.BadGzipFile, OSError) as error:
        source.unread.add(f"a packed file that breaks off: {error}", source.name)
