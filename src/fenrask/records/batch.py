"""Connection records as columns: what every reader yields and every measure takes."""

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv6Address

import numpy as np
from numpy.typing import NDArray

from fenrask.prefixes import parse_address

__all__ = [
    "CLOSED",
    "CONTINUED",
    "IDLE",
    "RESET",
    "UNKNOWN",
    "Addresses",
    "Batch",
    "Unread",
    "dotted",
    "ending_of_flags",
    "taken",
    "texts",
]

UNKNOWN, CLOSED, RESET, IDLE, CONTINUED = range(5)
"""How a connection ended, as far as its record tells; `CONTINUED`: the record ended, the connection did not."""

_FIN, _RST = 0x01, 0x04


@dataclass(frozen=True)
class Addresses:
    """A column of addresses: IPv4 as numbers; where a row is IPv6, its number apart and 0 in `v4`."""

    v4: NDArray[np.uint32]
    v6: tuple[tuple[int, int], ...] = ()
    """Row and number of each IPv6 address."""

    def __len__(self) -> int:
        return int(self.v4.size)


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
    sampled: bool = False
    """Whether only some packets were looked at: fit for volumes alone."""

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

    def add(self, reason: str, where: str, number: int = 1) -> None:
        """Count records, or pieces of a file, that could not be read."""
        if number:
            known, first = self.reasons.get(reason, (0, where))
            self.reasons[reason] = (known + number, first)


def dotted(column: Sequence[bytes] | NDArray[np.bytes_]) -> tuple[Addresses, NDArray[np.bool_]]:
    """Addresses from text, and which of them are addresses: dotted ones all at once, IPv6 one by one."""
    text = np.asarray(column, dtype="S45")
    n = text.size
    v4, good = np.zeros(n, dtype=np.uint64), np.ones(n, dtype=bool)
    letters = text.view(np.uint8).reshape(n, 45) if n else np.zeros((0, 45), dtype=np.uint8)
    part = np.zeros(n, dtype=np.uint64)
    digits, dots = np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64)
    six = (letters == ord(":")).any(axis=1)
    for place in range(16):
        sign = letters[:, place]
        is_digit, is_dot, is_end = (sign >= 48) & (sign <= 57), sign == 46, sign == 0
        good &= is_digit | is_dot | is_end
        part = np.where(is_digit, part * 10 + (sign.astype(np.uint64) - 48), part)
        digits += is_digit
        good &= ~(is_dot & (digits == 0)) & (digits <= 3) & (part <= 255)
        v4 = np.where(is_dot, v4 << np.uint64(8) | part, v4)
        part, digits = np.where(is_dot, 0, part).astype(np.uint64), np.where(is_dot, 0, digits)
        dots += is_dot
    v4 = v4 << np.uint64(8) | part
    good &= (dots == 3) & (digits > 0) & (letters[:, 15:] == 0).all(axis=1)
    found = []
    for row in np.flatnonzero(six):
        try:
            address = parse_address(text[row].decode("ascii", errors="replace"))
        except ValueError:
            good[row] = False
            continue
        good[row] = True
        found.append((int(row), int(address)))
    return Addresses(np.where(good & ~six, v4, 0).astype(np.uint32), tuple(found)), good


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
    """How connections ended by the TCP flags of their record: reset before closed; neither says nothing."""
    return np.where(flags & _RST, RESET, np.where(flags & _FIN, CLOSED, UNKNOWN)).astype(np.uint8)


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
    )
