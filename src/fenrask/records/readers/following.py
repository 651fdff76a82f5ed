"""Connections that are followed by their two ends: kept in slots, bounded, and given out as batches."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import (
    CLOSED,
    HALF_CLOSED,
    REJECTED,
    RESET,
    UDP_ANSWERED,
    UDP_ONE_WAY,
    UDP_STREAMING,
    UNANSWERED,
    Addresses,
)

__all__ = [
    "ACK",
    "FIN",
    "FLAGGED",
    "RST",
    "SYN",
    "TCP",
    "UDP",
    "Slots",
    "ends_of",
    "tcp_endings",
    "turned_keys",
    "udp_endings",
]

FIN, SYN, RST, ACK = 1, 2, 4, 16
"""Flags of TCP (RFC 9293)."""
FLAGGED = 0x100
"""Beside the flags of TCP: that they are known."""
TCP, UDP = 6, 17
_ROOM = 1 << 14


class Slots:
    """Connections of one type, in buckets by their ends; no more of them than there is memory for."""

    def __init__(self, kind: np.dtype[Any], most: int) -> None:
        self.array: NDArray[Any] = np.zeros(_ROOM, dtype=kind)
        self._most = most
        self._link()

    def _link(self) -> None:
        from fenrask.records.kernels.ends import linked

        self.heads, self.nexts = np.empty(2 * self.array.size, np.int64), np.empty(self.array.size, np.int64)
        self.free: int = linked(self.array, self.heads, self.nexts)

    def make_room(self, last: str) -> NDArray[Any]:
        """Room for more, twice as much; where that is too much, the half that is silent for longest, which goes.

        last: the field with the time of the newest packet or record.
        """
        if self.array.size < self._most:
            self.array = np.concatenate([self.array, np.zeros_like(self.array)])
            self._link()
            return self.array[:0]
        return self.take_out(self.array[last] <= np.median(self.array[last]))

    def take_out(self, rows: NDArray[np.bool_]) -> NDArray[Any]:
        """Some connections, which are followed no longer."""
        found = self.array[rows]
        if found.size:
            self.array["used"][rows] = 0
            self._link()
        return found

    @property
    def used(self) -> NDArray[np.bool_]:
        """Which slots hold a connection."""
        found: NDArray[np.bool_] = self.array["used"] == 1
        return found


Ends = tuple[Addresses, Addresses, NDArray[np.uint16], NDArray[np.uint16], NDArray[np.uint8]]


def ends_of(keys: NDArray[np.uint64]) -> Ends:
    """Source, target, their ports, and the protocol, of keys of shape (n_connections, 5): see `kernels.ends`."""
    ports = keys[:, 4]
    version = ports >> np.uint64(40)
    six = np.flatnonzero(version == 6).tolist()
    source, target = (
        Addresses(
            np.where(version == 4, keys[:, low], 0).astype(np.uint32),
            tuple((row, int(keys[row, low - 1]) << 64 | int(keys[row, low])) for row in six),
        )
        for low in (1, 3)
    )
    first, second = ((ports >> np.uint64(shift) & np.uint64(0xFFFF)).astype(np.uint16) for shift in (16, 0))
    return source, target, first, second, (ports >> np.uint64(32) & np.uint64(0xFF)).astype(np.uint8)


def turned_keys(keys: NDArray[np.uint64], rows: NDArray[np.bool_]) -> NDArray[np.uint64]:
    """The keys with the two ends of some exchanged."""
    ports = keys[:, 4]
    first, second = ports >> np.uint64(16) & np.uint64(0xFFFF), ports & np.uint64(0xFFFF)
    back = ports >> np.uint64(32) << np.uint64(32) | second << np.uint64(16) | first
    turned = np.column_stack([keys[:, 2], keys[:, 3], keys[:, 0], keys[:, 1], back])
    found: NDArray[np.uint64] = np.where(rows[:, None], turned, keys)
    return found


def tcp_endings(
    out: NDArray[np.uint16], back: NDArray[np.uint16], answered: NDArray[np.bool_], rest: NDArray[np.int64]
) -> NDArray[np.int64]:
    """How connections of TCP ended, by the flags of both directions; `rest` where these do not say.

    out, back: with `FLAGGED`; 0 for a direction of which nothing was seen, whose silence says nothing. answered:
    whether anything came back. rest: the ending of what has neither FIN nor RST, and is no SYN without an answer.
    """
    alone = (out & FLAGGED != 0) & (out & (SYN | ACK | FIN | RST) == SYN)
    fin, fin_back = out & FIN != 0, back & FIN != 0
    found: NDArray[np.int64] = np.select(
        [
            alone & answered & (back & (SYN | FIN) == 0),
            (out | back) & RST != 0,
            (fin & fin_back) | (fin & (back == 0)) | (fin_back & (out == 0)),
            fin | fin_back,
            alone & ~answered,
        ],
        [REJECTED, RESET, CLOSED, HALF_CLOSED, UNANSWERED],
        rest,
    )
    return found


def udp_endings(
    lasted_s: NDArray[np.float64], answered: NDArray[np.bool_], otherwise: int = UDP_ONE_WAY
) -> NDArray[np.int64]:
    """How exchanges of UDP ended; otherwise: what those are of which nothing was seen to come back."""
    from fenrask.records.kernels.ends import STREAM_S

    streams = lasted_s > STREAM_S
    return np.where(answered, np.where(streams, UDP_STREAMING, UDP_ANSWERED), otherwise)
