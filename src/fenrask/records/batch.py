"""Connection records as columns: what every reader yields and every measure takes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv6Address
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate.flows import Ending
from fenrask.prefixes import parse_address

__all__ = [
    "BEYOND",
    "BREAKS_OFF",
    "CLOSED",
    "CONTINUED",
    "ENDING_NAMES",
    "FLAGGED",
    "HALF_CLOSED",
    "IDLE",
    "LAST_S",
    "STATES",
    "OPEN",
    "REJECTED",
    "RESET",
    "UDP_ALONE",
    "UDP_ANSWERED",
    "UDP_ONE_WAY",
    "UDP_STREAMING",
    "UNANSWERED",
    "UNKNOWN",
    "Addresses",
    "Batch",
    "Listing",
    "Unread",
    "dotted",
    "ending_of_flags",
    "letters",
    "parts_of",
    "settled_batches",
    "taken",
    "too_large",
    "texts",
]

UNKNOWN, CLOSED, RESET, IDLE, CONTINUED = range(5)
HALF_CLOSED, REJECTED, UNANSWERED, UDP_ONE_WAY, UDP_ANSWERED, UDP_STREAMING, OPEN, UDP_ALONE = range(5, 13)
"""How a connection ended, as far as its record tells; `CONTINUED`: the record ended, the connection did not; `OPEN`:
it was open when nobody looked any more; `UDP_ALONE`: nothing was seen to come back, which says something where the file
tells of answers at all."""
ENDING_NAMES: Mapping[int, Ending] = {
    CLOSED: "closed", RESET: "reset", IDLE: "idle", HALF_CLOSED: "half_closed", REJECTED: "rejected",
    UNANSWERED: "unanswered", UDP_ONE_WAY: "udp_one_way", UDP_ANSWERED: "udp_answered", UDP_STREAMING: "udp_streaming",
}  # fmt: skip
"""Those that flows state, by their names there."""

STATES = (
    "syn sent", "syn received", "established", "fin wait", "close wait", "last ack", "time wait", "closed",
    "UDP one way", "UDP answered", "UDP streaming", "other",
)  # fmt: skip
"""What an entry of connection tracking may be."""

BREAKS_OFF = "a packed file that breaks off"
"""How the reason begins why the rest of a packed file was not read."""
BEYOND = "connections beyond those that there is memory for: those silent for longest ended"
LAST_S = 2.0**32 - 2
"""The last time that is kept: in the year 2106."""
MOST_BYTES = 2**56
"""The most of one connection that is believed: a line of 1 Tbit/s carries as much in a week."""
_FIN, _SYN, _RST, _ACK = 0x01, 0x02, 0x04, 0x10
FLAGGED = 0x100
"""Beside the flags of TCP: that they are known."""


@dataclass(frozen=True)
class Addresses:
    """A column of addresses: IPv4 as numbers; where a row is IPv6, its number apart and 0 in `v4`."""

    v4: NDArray[np.uint32]
    v6: tuple[tuple[int, int], ...] = ()
    """Row and number of each IPv6 address."""

    def __len__(self) -> int:
        return int(self.v4.size)


@dataclass(frozen=True)
class Listing:
    """What a table said of its entries at one moment; columns have shape (n_records,)."""

    state: NDArray[np.int64]
    """Place in `STATES`."""
    left_s: NDArray[np.int64]
    """Until the entry goes, if nothing comes."""


@dataclass(frozen=True)
class Batch:
    """Some thousands of records. All columns have the shape (n_records,); times are seconds since 1970 (UTC)."""

    start_s: NDArray[np.float64]
    end_s: NDArray[np.float64]
    source: Addresses
    target: Addresses
    source_port: NDArray[np.uint16]
    target_port: NDArray[np.uint16]
    protocol: NDArray[np.uint8]
    bytes_out: NDArray[np.int64]
    bytes_in: NDArray[np.int64]
    ending: NDArray[np.uint8]
    sampled: float = 1.0
    """How many packets stand for each that was looked at; samples show volumes alone."""
    is_new: NDArray[np.bool_] | None = None
    """Whether a connection began where its record does; None: all did. Others were open when somebody began to look."""
    listing: Listing | None = None
    """Where these are no connections with times, but entries of a table as it was at one moment."""
    records: int | None = None
    """How many records were read for these, pieces and other directions among them; None: one each."""
    tells_both: bool = False
    """Whether the file has told of what came back by now."""

    def __len__(self) -> int:
        return int(self.start_s.size)


@dataclass
class Unread:
    """What could not be read, by reason: how often, and where first (file and offset)."""

    reasons: dict[str, tuple[int, str]]

    def __iadd__(self, other: "Unread") -> "Unread":
        for reason, (number, where) in other.reasons.items():
            self.add(reason, where, number)
        return self

    @property
    def broken_off(self) -> int:
        """How many packed files ended before their content did."""
        return sum(number for why, (number, _) in self.reasons.items() if why.startswith(BREAKS_OFF))

    def told(self) -> tuple[str, ...]:
        """Each reason with its number and its first place."""
        return tuple(f"{why}: {number:,} (first: {where})" for why, (number, where) in self.reasons.items())

    def add(self, reason: str, where: str, number: int = 1) -> None:
        """Count records, or pieces of a file, that could not be read."""
        if number:
            known, first = self.reasons.get(reason, (0, where))
            self.reasons[reason] = (known + number, first)


def dotted(column: Any) -> tuple[Addresses, NDArray[np.bool_]]:
    """Addresses from cells of text (an Arrow column, or a sequence of bytes) or numbers, and which of them are some."""
    import pyarrow as arrow

    from fenrask.records.kernels.cells import dotted_cells

    if isinstance(column, arrow.DictionaryArray):
        dictionary, places = parts_of(column)
        if not len(dictionary):
            return Addresses(np.zeros(len(column), np.uint32)), np.zeros(len(column), dtype=np.bool_)
        different, fine = dotted(dictionary)
        fine, numbers = np.append(fine, False), dict(different.v6)
        six = np.flatnonzero(np.isin(places, [*numbers])).tolist() if numbers else []
        v6 = tuple((row, numbers[int(places[row])]) for row in six)
        return Addresses(np.append(different.v4, np.uint32(0))[places], v6), fine[places]
    cells = column if isinstance(column, arrow.Array) else arrow.array(column, arrow.binary())
    if arrow.types.is_integer(cells.type):
        numbers = cells.fill_null(-1).to_numpy(zero_copy_only=False)
        fits = (numbers >= 0) & (numbers < 2**32)
        return Addresses(np.where(fits, numbers, 0).astype(np.uint32)), fits
    v4, good = dotted_cells(*letters(cells))
    found = []
    for row in np.flatnonzero(~good):
        text = cells[int(row)].as_py() or ""
        try:
            address = parse_address((text if isinstance(text, str) else text.decode("ascii", errors="replace")).strip())
        except ValueError:
            continue
        good[row] = True
        if address.version == 4:
            v4[row] = int(address)
        else:
            found.append((int(row), int(address)))
    return Addresses(v4, tuple(found)), good


def parts_of(words: Any) -> tuple[Any, NDArray[np.int64]]:
    """The different cells of an Arrow dictionary column, and which of them each row has; one beyond for none."""
    places = words.indices.fill_null(len(words.dictionary)).to_numpy(zero_copy_only=False)
    return words.dictionary, places


def letters(column: Any) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """An Arrow column of text as one run of bytes, and where each cell begins in it; a missing cell is empty."""
    import pyarrow as arrow

    if column.type not in (arrow.large_binary(), arrow.large_string()):
        column = column.cast(arrow.large_string() if column.type != arrow.binary() else arrow.large_binary())
    if column.null_count:
        column = column.fill_null(b"" if column.type == arrow.large_binary() else "")
    _, begins, content = column.buffers()
    first = np.frombuffer(begins, dtype=np.int64)[column.offset : column.offset + len(column) + 1]
    run = np.frombuffer(content, dtype=np.uint8) if content is not None and content.size else np.zeros(1, np.uint8)
    return run, first


def texts(addresses: Addresses, rows: Sequence[int]) -> list[str]:
    """Some addresses of a column as text."""
    six = dict(addresses.v6)
    return [
        str(IPv6Address(six[row]))
        if row in six
        else ".".join(str(int(addresses.v4[row]) >> s & 255) for s in (24, 16, 8, 0))
        for row in rows
    ]


def ending_of_flags(flags: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """How connections ended by the TCP flags of who began them: a SYN alone had no answer; others may say nothing."""
    alone = np.where(flags & (_SYN | _ACK) == _SYN, UNANSWERED, UNKNOWN)
    return np.where(flags & _RST, RESET, np.where(flags & _FIN, CLOSED, alone)).astype(np.uint8)


def settled_batches(batches: Sequence[Batch]) -> list[Batch]:
    """All batches of one file: of UDP that nothing came back to, whether that says something (see `UDP_ALONE`)."""
    alone = UDP_ONE_WAY if any(one.tells_both for one in batches) else UNKNOWN
    return [
        replace(one, ending=np.where(one.ending == UDP_ALONE, alone, one.ending).astype(np.uint8)) for one in batches
    ]


def too_large(batch: Batch) -> NDArray[np.bool_]:
    """Whose volumes, with the packets that samples stand for, no line carries, and no sum would hold."""
    most = MOST_BYTES / batch.sampled
    found = np.zeros(len(batch), dtype=bool)
    for volume in (batch.bytes_out, batch.bytes_in):
        found |= (volume < 0) | (volume > most)
    return found


def taken(batch: Batch, rows: NDArray[np.bool_]) -> Batch:
    """Some rows of a batch."""
    kept = np.flatnonzero(rows)

    def some(addresses: Addresses) -> Addresses:
        place = {int(row): n for n, row in enumerate(kept)} if addresses.v6 else {}
        return Addresses(addresses.v4[kept], tuple((place[row], n) for row, n in addresses.v6 if row in place))

    return Batch(
        batch.start_s[kept],
        batch.end_s[kept],
        some(batch.source),
        some(batch.target),
        batch.source_port[kept],
        batch.target_port[kept],
        batch.protocol[kept],
        batch.bytes_out[kept],
        batch.bytes_in[kept],
        batch.ending[kept],
        batch.sampled,
        None if batch.is_new is None else batch.is_new[kept],
        None if batch.listing is None else Listing(batch.listing.state[kept], batch.listing.left_s[kept]),
        None if batch.records is None else batch.records - len(batch) + kept.size,
        batch.tells_both,
    )
