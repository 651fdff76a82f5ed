"""Connections that are followed by their two ends: kept in slots, bounded, and given out as batches."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import (
    Addresses,
)

__all__ = [
    "ACK",
    "FIN",
    "RST",
    "SYN",
    "TCP",
    "UDP",
    "Slots",
    "by_time",
    "ends_of",
    "turned_keys",
]

FIN, SYN, RST, ACK = 1, 2, 4, 16
"""Flags of TCP (RFC 9293)."""
TCP, UDP = 6, 17
_ROOM = 1 << 14


class Slots:
    """Connections of one type, in buckets by their ends; no more of them than there is memory for."""

    def __init__(self, kind: np.dtype[Any], most: int, beside: np.dtype[Any] | None = None) -> None:
        """beside: of what is kept apart of each connection, and goes with it."""
        self.array: NDArray[Any] = np.zeros(_ROOM, dtype=kind)
        self.beside: NDArray[Any] = np.zeros(_ROOM if beside else 0, dtype=beside or np.uint8)
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
            self.array, self.beside = (np.concatenate([one, np.zeros_like(one)]) for one in (self.array, self.beside))
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


def by_time(start_s: NDArray[np.float64]) -> NDArray[np.int64]:
    """The order of times, to a microsecond, and of equal ones as they come: sorted with their rows as one number."""
    micros = np.round((start_s - start_s.min()) * 1e6)
    bits = int(start_s.size).bit_length()
    if micros.max() >= 2.0 ** (62 - bits):
        return np.argsort(start_s, kind="stable")
    both: NDArray[np.int64] = micros.astype(np.int64) << bits | np.arange(start_s.size)
    both.sort()
    return both & ((1 << bits) - 1)


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
