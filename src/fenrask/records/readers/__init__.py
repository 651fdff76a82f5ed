"""Readers of connection records. A new one is one file and one line in `READERS`."""

import io
import zlib
from bz2 import BZ2File
from collections.abc import Callable, Iterator, Mapping
from lzma import LZMAError, LZMAFile
from typing import Any, BinaryIO

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.inputs import at, opened_file
from fenrask.records.batch import BREAKS_OFF, LAST_S, Batch, Unread, taken, too_large
from fenrask.records.readers.captured import CAPTURED, datagrams_from
from fenrask.records.readers.columns import COMMA, FIELDS, PARQUET
from fenrask.records.readers.contract import USUAL, WHOLE, Quiet, Reader, Share, Source
from fenrask.records.readers.entries import Entry, sound
from fenrask.records.readers.exported import EXPORTED, nat_entries
from fenrask.records.readers.marked import MARKED, marked_entries
from fenrask.records.readers.tracked import TRACKED, entries

__all__ = [
    "EMPTY", "FIELDS", "READERS", "WHOLE", "Quiet", "Reader", "Share", "Source", "format_of", "opened",
    "read_datagrams", "read_entries", "read_records",
]  # fmt: skip

READERS: tuple[Reader, ...] = (PARQUET, CAPTURED, EXPORTED, MARKED, TRACKED, COMMA)
"""Tried in this order: each knows its files by their first bytes."""

_TRANSLATED: tuple[tuple[Reader, Callable[[Source], Iterator[Entry]]], ...] = (
    (EXPORTED, nat_entries), (MARKED, marked_entries), (TRACKED, entries)
)  # fmt: skip
"""Formats that say what a connection was translated to."""
_HEAD = 4096
_GZIP = b"\x1f\x8b"
EMPTY = "empty"
"""The format of a file without a byte."""


def opened(
    file: str,
    unread: Unread,
    columns: Mapping[str, str] | None = None,
    quiet: Quiet = USUAL,
    share: Share = WHOLE,
) -> tuple[Source, bytes]:
    """A file (`-` for standard input), unpacked where it is packed, and its first bytes."""
    stream: Any = opened_file(file, at(Place(file), "a file of records"))
    as_it_is = stream
    magic = stream.peek(4)[:4]
    if magic[:2] == _GZIP:
        stream = io.BufferedReader(_Unpacked(stream, file, unread), _HEAD * 16)
    elif packed := next((of for first, of in _PACKED.items() if magic.startswith(first)), None):
        stream = io.BufferedReader(_Told(packed(stream), stream, file, unread), _HEAD * 16)
    is_packed = stream is not as_it_is or file == "-" or not stream.seekable()
    source = Source(file, stream, unread, dict(columns or {}), quiet, share, is_packed)
    return source, stream.peek(_HEAD)[:_HEAD]


class _Unpacked(io.RawIOBase):
    """A gzip file as it unpacks, member by member (RFC 1952); where it breaks off is counted, what came stays."""

    def __init__(self, packed: BinaryIO, name: str, unread: Unread) -> None:
        super().__init__()
        self._packed, self._name, self._unread = packed, name, unread
        self._member, self._left, self._begun = zlib.decompressobj(31), b"", False

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while True:
            content = self._left or self._packed.read(_HEAD * 16)
            if not content and not self._begun:
                return 0
            self._begun = True
            try:
                piece = self._member.decompress(content, len(buffer))
            except zlib.error as error:
                return self._broken(str(error))
            self._left = self._member.unconsumed_tail
            if self._member.eof:
                self._left = self._member.unused_data
                self._member, self._begun = zlib.decompressobj(31), False
            if piece:
                buffer[: len(piece)] = piece
                return len(piece)
            if not content:
                return self._broken("its end is missing")

    def _broken(self, why: str) -> int:
        self._unread.add(f"{BREAKS_OFF}: {why}", self._name)
        self._member, self._left, self._begun = zlib.decompressobj(31), b"", False
        while self._packed.read(1 << 20):
            pass
        return 0

    def close(self) -> None:
        self._packed.close()
        super().close()


class _Told(io.RawIOBase):
    """A packed file as it unpacks; where it breaks off is counted, what came stays."""

    def __init__(self, stream: Any, packed: BinaryIO, name: str, unread: Unread) -> None:
        super().__init__()
        self._stream, self._packed, self._name, self._unread = stream, packed, name, unread

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        try:
            piece = self._stream.read(len(buffer))
        except (EOFError, OSError, LZMAError) as error:
            self._unread.add(f"{BREAKS_OFF}: {str(error).splitlines()[0]}", self._name)
            return 0
        buffer[: len(piece)] = piece
        return len(piece)

    def close(self) -> None:
        self._stream.close()
        self._packed.close()
        super().close()


def _zstd(stream: BinaryIO) -> Any:
    import pyarrow as arrow

    return arrow.CompressedInputStream(arrow.PythonFile(stream, mode="r"), "zstd")


_PACKED: Mapping[bytes, Callable[[BinaryIO], Any]] = {
    b"\x28\xb5\x2f\xfd": _zstd, b"BZh": BZ2File, b"\xfd7zX": LZMAFile
}  # fmt: skip
"""What unpacks a file, by how it begins."""


def read_records(
    file: str,
    unread: Unread,
    columns: Mapping[str, str] | None = None,
    quiet: Quiet = USUAL,
    share: Share = WHOLE,
) -> tuple[str, dict[str, str], Iterator[Batch]]:
    """The format of a file, the columns that are taken (of a table; filled while it is read), and its batches.

    quiet: when what is silent is over, where packets are read; share: which part of the file. An empty file is counted,
    and has none. UnusableInput for a file of no known format.
    """
    broken = unread.broken_off
    source, head = opened(file, unread, columns, quiet, share)
    if not head:
        _close(source)
        if unread.broken_off == broken and not share.number:
            unread.add("an empty file", file)
        return EMPTY, source.guessed, iter(())
    reader = _knowing(source, head)
    if not reader.divides and share.number:
        _close(source)
        return reader.name, source.guessed, iter(())
    return reader.name, source.guessed, _whole(reader, source)


def _knowing(source: Source, head: bytes) -> Reader:
    """The reader of a file; UnusableInput for one of no known format."""
    reader = next((one for one in READERS if one.knows(head)), None)
    if reader is None:
        _close(source)
        names = ", ".join(one.name for one in READERS)
        raise UnusableInput([Problem(Place(source.name), repr(head[:24]), f"one of {names}")])
    return reader


def format_of(file: str, unread: Unread) -> str:
    """The format of a file of records; an empty one is counted. UnusableInput for a file of no known format."""
    broken = unread.broken_off
    source, head = opened(file, unread)
    found = _knowing(source, head).name if head else EMPTY
    if not head and unread.broken_off == broken:
        unread.add("an empty file", file)
    _close(source)
    return found


def read_datagrams(file: str, port: int, unread: Unread) -> Iterator[bytes]:
    """What datagrams of UDP from a port carry, of a packet capture; nothing of a file of another format."""
    source, head = opened(file, unread)
    with source.stream:
        yield from datagrams_from(source, port) if CAPTURED.knows(head) else ()


def read_entries(file: str, unread: Unread) -> Iterator[Entry]:
    """What a translator's records say, one by one; UnusableInput for a file of another format."""
    source, head = opened(file, unread)
    read = next((of for reader, of in _TRANSLATED if reader.knows(head)), None)
    if read is None:
        _close(source)
        found = repr(head[:24]) if head else "an empty file"
        expected = "connection tracking (events or a listing, text or XML) or NAT events in IPFIX or NetFlow v9"
        raise UnusableInput([Problem(Place(file), found, expected)])
    with source.stream:
        yield from sound(read(source), source)


def _whole(reader: Reader, source: Source) -> Iterator[Batch]:
    """All batches; then the file is closed."""
    try:
        for batch in reader.read(source):
            late = (batch.start_s > LAST_S) | (batch.end_s > LAST_S)
            backward = ~late & (batch.end_s < batch.start_s)
            large = ~(late | backward) & too_large(batch)
            for wrong, why in (
                (late, "a time after the year 2105"),
                (backward, "an end before its beginning"),
                (large, "more than 72 petabytes in one connection"),
            ):
                if wrong.any():
                    source.unread.add(why, source.name, int(wrong.sum()))
            good = ~(late | backward | large)
            yield batch if good.all() else taken(batch, good)
    finally:
        _close(source)


def _close(source: Source) -> None:
    if source.name != "-":
        source.stream.close()
