"""Tables of records: CSV and Parquet through PyArrow, with columns guessed by their names or stated in a map."""

import csv
import io
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from itertools import product
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.records.batch import (
    CLOSED,
    CONTINUED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    UNANSWERED,
    UNKNOWN,
    Batch,
    dotted,
    ending_of_flags,
    letters,
    parts_of,
    taken,
)
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.tables import accepted_tables

__all__ = ["COMMA", "FIELDS", "PARQUET", "UNITS"]

FIELDS: dict[str, tuple[str, ...]] = {
    "start": (
        "start", "starttime", "first", "firstseen", "begin", "begintime", "time", "timestamp", "datetime", "ts",
        "flowstart", "flowstartseconds", "flowstartmilliseconds",
    ),
    "end": (
        "end", "endtime", "last", "lastseen", "stop", "stoptime", "flowend", "flowendseconds", "flowendmilliseconds",
    ),
    "duration": ("duration", "durations", "seconds", "elapsed"),
    "source": (
        "source", "src", "srcaddr", "srcaddress", "srcip", "sourceip", "sourceaddress", "sourceipaddress", "clientip",
        "sourceipv4address",
    ),
    "target": (
        "target", "destination", "dst", "dstaddr", "dstaddress", "dstip", "destinationip", "destinationaddress",
        "destinationipaddress", "destip", "serverip", "destinationipv4address",
    ),
    "source_port": ("sourceport", "srcport", "sport", "clientport", "sourcetransportport"),
    "target_port": (
        "targetport", "port", "destinationport", "dstport", "dport", "destport", "serverport",
        "destinationtransportport",
    ),
    "protocol": ("protocol", "proto", "ipprotocol", "protocolidentifier"),
    "bytes_out": ("bytesout", "outbytes", "bytes", "octets", "octetdeltacount", "bytessent"),
    "bytes_in": ("bytesin", "inbytes", "bytesreceived", "replybytes", "reverseoctetdeltacount"),
    "flags": ("flags", "tcpflags", "tcpcontrolbits"),
    "ending": ("ending", "state", "endreason", "flowendreason"),
}  # fmt: skip
"""Our fields, and the words by which their columns are known: letters and digits alone, in small letters."""

_TIMES = {
    "s": 1.0, "sec": 1.0, "secs": 1.0, "seconds": 1.0, "ms": 1e-3, "msec": 1e-3, "millis": 1e-3, "milliseconds": 1e-3,
    "us": 1e-6, "usec": 1e-6, "micros": 1e-6, "microseconds": 1e-6, "ns": 1e-9, "nanos": 1e-9, "nanoseconds": 1e-9,
    "min": 60.0, "minutes": 60.0,
}  # fmt: skip
_SIZES = {
    "kb": 1e3, "mb": 1e6, "gb": 1e9, "kib": 2.0**10, "mib": 2.0**20, "gib": 2.0**30, "kbytes": 1e3, "mbytes": 1e6,
    "bits": 1 / 8, "kbit": 125.0, "mbit": 125e3,
}  # fmt: skip
UNITS: dict[str, dict[str, float]] = {"duration": _TIMES, "bytes_out": _SIZES, "bytes_in": _SIZES}
"""The units by which a column's name may end, of fields that have one; points in time tell theirs by their size."""
_NEEDED = ("start", "source", "target")
_ENDINGS = {
    "closed": CLOSED, "fin": CLOSED, "reset": RESET, "rst": RESET, "idle": IDLE, "timeout": IDLE, "rejected": REJECTED,
    "refused": REJECTED, "unanswered": UNANSWERED, "half closed": HALF_CLOSED, "half_closed": HALF_CLOSED,
    "open": OPEN, "still open": OPEN, "1": IDLE, "2": CONTINUED, "3": CLOSED, "4": OPEN, "5": OPEN,
}  # fmt: skip
"""Words for endings; and the numbers by which exporters say why a record ends (RFC 5102, section 5.11.3)."""
_PROTOCOLS = {"tcp": 6, "udp": 17, "icmp": 1}
_BLOCK = 8 * 2**20


def _comma(source: Source) -> Iterator[Batch]:
    import pyarrow as arrow
    import pyarrow.csv as comma

    source = _with_line_feeds(source)
    raw = source.stream.readline(_LONGEST_HEADING)
    # A carriage return within it is none that ends a line.
    heading = raw.decode("utf-8-sig", errors="replace").strip().replace("\r", " ")
    delimiter = _delimiter(heading)
    names = [one.strip() for one in next(csv.reader([heading], delimiter=delimiter, skipinitialspace=True), [])]
    columns, units = _columns(names, source)

    def invalid(row: Any) -> str:
        source.unread.add(f"{row.actual_columns} cells where the heading has {row.expected_columns}", source.name)
        return "skip"

    # All as text: a column's type may change in the middle, and one wrong cell must not cost the file.
    wanted = list(dict.fromkeys(columns.values()))
    lines, first = _lines_of(source, len(raw))
    try:
        reader = comma.open_csv(
            _tabbed(lines) if delimiter == " " else _Plain(lines),
            read_options=comma.ReadOptions(column_names=names, block_size=_BLOCK),
            parse_options=comma.ParseOptions(
                delimiter="\t" if delimiter == " " else delimiter, invalid_row_handler=invalid
            ),
            convert_options=comma.ConvertOptions(
                include_columns=wanted, column_types=dict.fromkeys(wanted, arrow.string())
            ),
        )
        for some in reader:
            table = {field: some.column(name) for field, name in columns.items()}
            yield _batch(table, units, some.num_rows, source, first)
            first += some.num_rows
    except arrow.lib.ArrowInvalid as error:
        if "Empty CSV" not in str(error):
            raise UnusableInput([Problem(Place(source.name), str(error).splitlines()[0], "a CSV of records")]) from None


def _lines_of(source: Source, begin: int) -> tuple[Any, int]:
    """The lines of a share of a table whose body begins at a byte, and the number of its first row.

    All are of the first share where the stream cannot be gone to a place in.
    """
    share = source.share
    if share.of == 1:
        return source.stream, 1
    size = source.stream.seek(0, io.SEEK_END) if not source.is_packed else 0
    if source.is_packed or not size:
        return (io.BytesIO() if share.number else source.stream), 1
    (first, rows), (last, _) = (_line_at(source, one, begin) for one in share.cut(begin, size))
    source.stream.seek(first)
    return _Part(source.stream, last - first), 1 + rows


def _line_at(source: Source, place: int, begin: int) -> tuple[int, int]:
    """Where the first line begins at or after a place, and how many are before it."""
    if place <= begin:
        return begin, 0
    at, lines = begin, 0
    source.stream.seek(at)
    while at < place - 1 and (piece := source.stream.read(min(_BLOCK, place - 1 - at))):
        at, lines = at + len(piece), lines + piece.count(b"\n")
    return at + len(source.stream.readline()), lines + 1


_LONGEST_HEADING = 1 << 20


def _with_line_feeds(source: Source) -> Source:
    """A table whose lines end in carriage returns alone, with line feeds; any other as it is."""
    head = getattr(source.stream, "peek", lambda _: b"")(_LOOK)[:_LOOK]
    if b"\n" in head or b"\r" not in head:
        return source
    return replace(source, stream=io.BufferedReader(_Feeding(source.stream)), is_packed=True)


_LOOK = 4096


class _Feeding(io.RawIOBase):
    """A stream with line feeds for carriage returns."""

    def __init__(self, stream: BinaryIO) -> None:
        super().__init__()
        self._stream = stream

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        content = self._stream.read(len(buffer)).replace(b"\r", b"\n")
        buffer[: len(content)] = content
        return len(content)


class _Part(io.RawIOBase):
    """So many bytes of a stream."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        super().__init__()
        self._stream, self._left = stream, size

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        found = self._stream.read(self._left if size < 0 else min(size, self._left))
        self._left -= len(found)
        return found

    def readlines(self, hint: int = -1) -> list[bytes]:
        found = self.read(hint)
        # To the end of a line: a part ends with one.
        rest = self._stream.readline() if self._left and not found.endswith(b"\n") else b""
        self._left -= len(rest)
        return (found + rest).splitlines(keepends=True)


_DELIMITERS = (b",", b"\t", b";", b" ")


class _Plain(io.RawIOBase):
    """A table's bytes, of which those that are no ASCII are question marks: no number or address has one.

    The library that reads tables gives up a file for a cell that is no UTF-8, and cannot report its row.
    """

    def __init__(self, stream: BinaryIO) -> None:
        super().__init__()
        self._stream = stream

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        found = self._stream.read(size)
        return found if found.isascii() else found.translate(_ASCII)


_ASCII = bytes(range(128)) + b"?" * 128


def _tabbed(stream: BinaryIO) -> Any:
    """A table whose columns are parted by any number of spaces, with a tab instead."""
    return io.BufferedReader(_Tabbed(stream), 1 << 20)


class _Tabbed(io.RawIOBase):
    def __init__(self, stream: BinaryIO) -> None:
        super().__init__()
        self._stream, self._left = stream, b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._left:
            lines = self._stream.readlines(1 << 16)
            if not lines:
                return 0
            joined = b"".join(b"\t".join(line.split()) + b"\n" for line in lines if line.strip())
            self._left = joined.translate(_ASCII)
        piece, self._left = self._left[: len(buffer)], self._left[len(buffer) :]
        buffer[: len(piece)] = piece
        return len(piece)


def _delimiter(heading: str) -> str:
    """What parts the columns: that by which most of them are known, a comma first."""
    known = {word for words in FIELDS.values() for word in words}
    known |= {word + unit for field, units in UNITS.items() for word in FIELDS[field] for unit in units}
    each = (one.decode() for one in _DELIMITERS)
    return max(each, key=lambda delimiter: sum(_key(name) in known for name in heading.split(delimiter)))


def _key(heading: str) -> str:
    return re.sub(r"[^a-z0-9]", "", heading.lower())


def _columns(names: Sequence[str], source: Source) -> tuple[dict[str, str], dict[str, float]]:
    """The column of each field, as stated, else guessed by its name, and its unit, s or bytes, where that says one.

    UnusableInput where a needed one is missing.
    """
    known = {_key(name): name for name in names}
    wrong = [
        Problem(Place(source.name, path=f"--map {field}"), repr(column), f"one of its columns: {', '.join(names)}")
        for field, column in source.columns.items()
        if column not in names
    ]
    if wrong:
        raise UnusableInput(wrong)
    found = dict(source.columns)
    for field, words in FIELDS.items():
        if field not in found and (name := next((known[word] for word in words if word in known), None)):
            found[field] = name
        for word, unit in product(words, UNITS.get(field, {})):
            if field not in found and word + unit in known:
                found[field] = known[word + unit]
    missing = [field for field in _NEEDED if field not in found]
    if missing:
        remedy = f"Say which it is: --map {missing[0]}=COLUMN. A table is of {accepted_tables('measure')}."
        expected = f"a column for {', '.join(missing)}"
        raise UnusableInput([Problem(Place(source.name), f"the columns {', '.join(names)}", expected, remedy)])
    source.guessed.update(found)
    return found, {field: _unit(field, name) for field, name in found.items()}


def _unit(field: str, name: str) -> float:
    """The unit that a column's name ends by, s or bytes; 1 where it says none."""
    key, units = _key(name), UNITS.get(field, {})
    ends = (key.removeprefix(word) for word in FIELDS.get(field, ()) if key.startswith(word))
    return next((units[end] for end in ends if end in units), 1.0)


def _batch(table: Mapping[str, Any], units: Mapping[str, float], n: int, source: Source, first: int) -> Batch:
    """One batch from the columns of some rows; rows without a time or an address are counted and left."""
    start, good = _times(table["start"], n)
    end = start
    if "end" in table:
        end, fine = _times(table["end"], n)
        good &= fine
    elif "duration" in table:
        end = start + np.maximum(_numbers(table["duration"], n) * units["duration"], 0.0)
    source_, fine = dotted(table["source"])
    good &= fine
    target, fine = dotted(table["target"])
    good &= fine
    good &= end >= start
    flags = np.zeros(n, dtype=np.uint8)
    if "flags" in table:
        flags = (np.clip(_numbers(table["flags"], n), 0, 2.0**32).astype(np.uint64) & 0xFF).astype(np.uint8)
    ending = ending_of_flags(flags)
    if "ending" in table:
        ending = _by_word(table["ending"], lambda word: _ENDINGS.get(word, UNKNOWN))
    source_port, target_port, beyond = _ports(table, n)
    for wrong, why in ((~good, "no time, no address, or an end before its start"), (beyond & good, "no port")):
        if wrong.any():
            where = f"{source.name}, row {first + int(np.flatnonzero(wrong)[0]) + 1}"
            source.unread.add(why, where, int(wrong.sum()))
    good &= ~beyond
    batch = Batch(
        start, end, source_, target,
        source_port, target_port,
        _protocols(table.get("protocol"), n),
        _whole(table.get("bytes_out"), n, units.get("bytes_out", 1.0)),
        _whole(table.get("bytes_in"), n, units.get("bytes_in", 1.0)),
        ending,
    )  # fmt: skip
    return batch if good.all() else taken(batch, good)


def _ports(table: Mapping[str, Any], n: int) -> tuple[NDArray[np.uint16], NDArray[np.uint16], NDArray[np.bool_]]:
    """The ports of both ends, 0 where no column has them; and the rows in which one is no number from 0 to 65535."""
    both = [_numbers(table.get(field), n) for field in ("source_port", "target_port")]
    beyond = (np.minimum(*both) < 0) | (np.maximum(*both) > _MOST_PORT)
    source, target = (np.where(beyond, 0, each).astype(np.uint16) for each in both)
    return source, target, beyond


def _numbers(column: Any, n: int) -> NDArray[np.float64]:
    """Numbers of a column; 0 where a cell is none."""
    return np.zeros(n) if column is None else np.nan_to_num(_read_numbers(column, _number))


def _whole(column: Any, n: int, unit: float) -> NDArray[np.int64]:
    """Whole numbers of a column in a unit, exactly, up to 2^63 - 1; 0 where a cell is none."""
    numbers = np.clip(_numbers(column, n) * unit, 0, 2.0**62)
    found: NDArray[np.int64] = np.round(numbers).astype(np.int64)
    if unit != 1:
        return found
    for row in np.flatnonzero(numbers >= _EXACT):
        with suppress(ValueError):
            found[row] = min(int(str(column[int(row)].as_py()).strip()), _MOST)
    return found


_MOST_PORT = 65_535
_EXACT, _MOST = 2.0**53, 2**63 - 1
"""Up to which whole numbers are exact as floating ones (IEEE 754), and the greatest that is kept."""


def _read_numbers(column: Any, otherwise: Callable[[str], float]) -> NDArray[np.float64]:
    """A column as numbers: plain ones all at once, other text one by one; NaN where a cell is none."""
    import pyarrow as arrow

    from fenrask.records.kernels.cells import decimals

    if isinstance(column, arrow.DictionaryArray):
        dictionary, places = parts_of(column)
        return np.append(_read_numbers(dictionary, otherwise), np.nan)[places]
    if (
        arrow.types.is_boolean(column.type)
        or arrow.types.is_integer(column.type)
        or arrow.types.is_floating(column.type)
    ):
        return np.asarray(column.cast(arrow.float64(), safe=False).to_numpy(zero_copy_only=False), dtype=np.float64)
    found: NDArray[np.float64]
    found, good = decimals(*letters(column))
    for row in np.flatnonzero(~good):
        found[row] = otherwise(str(column[int(row)].as_py() or "").strip())
    return found


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return float("nan")


def _by_word(column: Any, number: Callable[[str], int]) -> NDArray[np.uint8]:
    """A small whole number for each cell, by its word in small letters: each different word is looked at once."""
    import pyarrow as arrow

    words = column if isinstance(column, arrow.DictionaryArray) else column.cast(arrow.string()).dictionary_encode()
    dictionary, places = parts_of(words)
    of_word = [number(str(one).strip().lower()) for one in dictionary.cast(arrow.string()).to_pylist()]
    found: NDArray[np.uint8] = np.array([*of_word, number("")], dtype=np.uint8)[places]
    return found


def _protocols(column: Any, n: int) -> NDArray[np.uint8]:
    if column is None:
        return np.full(n, 6, dtype=np.uint8)

    def number(word: str) -> int:
        plain = word.removesuffix(".0")
        return int(plain) % 256 if plain.isdecimal() else _PROTOCOLS.get(word, 0)

    return _by_word(column, number)


def _times(column: Any, n: int) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Seconds since 1970, and which are times: numbers by their size in s, ms, us or ns; else ISO 8601."""
    import pyarrow as arrow

    if arrow.types.is_temporal(column.type):
        values = np.asarray(column.to_numpy(zero_copy_only=False))
        return np.nan_to_num(values.astype("datetime64[ns]").astype(np.int64) / 1e9), ~np.isnat(values)
    found = _read_numbers(column, _time)
    good = np.isfinite(found) & (found >= 0)
    top = float(np.median(found[good])) if good.any() else 0.0
    scale = next((size for size, most in ((1.0, 1e11), (1e3, 1e14), (1e6, 1e17)) if top < most), 1e9)
    return np.where(good, found / scale, 0.0), good


def _time(text: str) -> float:
    from datetime import UTC, datetime

    try:
        return float(text)
    except ValueError:
        pass
    try:
        when = datetime.fromisoformat(text)
    except ValueError:
        return float("nan")
    return (when if when.tzinfo else when.replace(tzinfo=UTC)).timestamp()


def _parquet(source: Source) -> Iterator[Batch]:
    import pyarrow as arrow
    import pyarrow.parquet as parquet

    try:
        schema = parquet.read_schema(source.stream)
        columns, units = _columns(schema.names, source)
        # Of text each different cell is looked at once.
        words = [name for name in dict.fromkeys(columns.values()) if _is_text(schema.field(name).type)]
        file = parquet.ParquetFile(source.stream, read_dictionary=words, pre_buffer=False)
        groups = [file.metadata.row_group(number).num_rows for number in range(file.metadata.num_row_groups)]
        own = range(*source.share.cut(0, len(groups)))
        first = sum(groups[: own.start])
        for some in file.iter_batches(1 << 16, row_groups=[*own], columns=list(dict.fromkeys(columns.values()))):
            table = {field: some.column(name) for field, name in columns.items()}
            yield _batch(table, units, some.num_rows, source, first)
            first += some.num_rows
    except (arrow.lib.ArrowException, OSError, UnicodeDecodeError) as error:
        raise UnusableInput([Problem(Place(source.name), str(error).splitlines()[0], "a Parquet file")]) from None


def _is_text(kind: Any) -> bool:
    import pyarrow as arrow

    return bool(arrow.types.is_string(kind) or arrow.types.is_binary(kind))


def _is_table(head: bytes) -> bool:
    first = head.split(b"\n", 1)[0]
    return any(one in first for one in _DELIMITERS) and b"\0" not in head[:256]


COMMA = Reader("CSV", _is_table, _comma, divides=True)
PARQUET = Reader("Parquet", lambda head: head[:4] == b"PAR1", _parquet, divides=True)
