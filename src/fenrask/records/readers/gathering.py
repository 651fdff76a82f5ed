"""Exported records put together as connections, as a translator sees them: pieces, both directions, doubled ones once.

A record that goes on where another one at the same ends left off is a piece of the same connection: the one before was
cut at the active timeout, or neither ended nor was silent for longer than a port is kept, and this one has no SYN.
"""

from collections.abc import Iterator, Mapping
from dataclasses import astuple, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import (
    BEYOND,
    CLOSED,
    CONTINUED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    UDP_ANSWERED,
    UDP_ONE_WAY,
    UDP_STREAMING,
    UNANSWERED,
    UNKNOWN,
    Addresses,
    Batch,
)
from fenrask.records.readers.contract import Source

__all__ = ["FLAGGED", "Gathering", "Raw", "keys_of"]

_FIN, _SYN, _RST, _ACK = 1, 2, 4, 16
FLAGGED = 0x100
"""Beside the flags of TCP: that the record tells them."""
_STREAM_S = 2.0
_ROOM = 1 << 14
_MOST_FOLLOWED = 1 << 20
"""Connections at once; a third of a gigabyte."""
_BATCH = 1 << 16
_UDP = 17


@dataclass(frozen=True)
class Raw:
    """Records as they were exported; columns have shape (n_records,), keys (n_records, 5), as `kernels.ends` has them.

    flags, back_flags: of TCP, in either direction, with `FLAGGED`; factor: how many packets stand for one.
    """

    keys: NDArray[np.uint64]
    start_s: NDArray[np.float64]
    end_s: NDArray[np.float64]
    out: NDArray[np.int64]
    back: NDArray[np.int64]
    flags: NDArray[np.uint16]
    back_flags: NDArray[np.uint16]
    ending: NDArray[np.uint8]
    factor: NDArray[np.float64]
    now_s: float = 0.0
    """When the newest of them was exported: what it does not tell of had not come."""

    def some(self, rows: NDArray[np.bool_]) -> "Raw":
        """Some of them."""
        columns = {name: one[rows] for name, one in self.__dict__.items() if name != "now_s"}
        return Raw(**columns, now_s=self.now_s)


def keys_of(columns: Mapping[str, NDArray[Any]], n: int) -> NDArray[np.uint64] | None:
    """The keys of records, from columns of numbers and of IPv6 addresses as bytes; None where an address is lacking."""
    keys = np.zeros((n, 5), dtype=np.uint64)
    version = 4
    for place, name in ((0, "source"), (2, "target")):
        if name in columns:
            keys[:, place + 1] = columns[name]
        elif f"{name}6" in columns:
            halves = np.ascontiguousarray(columns[f"{name}6"]).view(">u8")
            keys[:, place : place + 2] = halves
            version = 6
        else:
            return None
    nothing = np.zeros(n, dtype=np.uint64)
    protocol, source, target = (columns.get(name, nothing).astype(np.uint64) for name in ("protocol", "sport", "dport"))
    low = (source & np.uint64(0xFFFF)) << np.uint64(16) | target & np.uint64(0xFFFF)
    keys[:, 4] = np.uint64(version << 40) | (protocol & np.uint64(0xFF)) << np.uint64(32) | low
    return keys


class Gathering:
    """Puts the records of one file together, as they come; what is done comes out in batches."""

    def __init__(self, source: Source) -> None:
        self._source, self._quiet = source, np.array(astuple(source.quiet))
        self._slots: NDArray[Any] | None = None
        self._now, self._free, self._taken, self._told = 0.0, -1, 0, 0
        self._doubles, self._tells_both = 0, False

    def take(self, raw: Raw) -> Iterator[Batch]:
        """Take records; those of samples are for volumes alone, and come out as they are."""
        samples = raw.factor > 1.0
        if samples.any():
            yield from _samples(raw.some(samples))
            raw = raw.some(~samples)
        if raw.start_s.size:
            yield from self._gathered(raw)

    def _gathered(self, raw: Raw) -> Iterator[Batch]:
        from fenrask.records.kernels.pieces import CONNECTION, gathered, over

        if self._slots is None:
            self._slots = np.zeros(_ROOM, dtype=CONNECTION)
            self._relink()
        self._now = max(self._now, float(raw.end_s.max()), raw.now_s)
        self._tells_both = self._tells_both or bool(raw.back_flags.any() or raw.back.any())
        done, at, n = np.empty(raw.start_s.size, dtype=CONNECTION), 0, raw.start_s.size
        self._told += n
        while at < n:
            at, self._free, number, _, others, doubles = gathered(
                raw.keys, raw.start_s, raw.end_s, raw.out, raw.back, raw.flags, raw.back_flags, raw.ending, at,
                self._slots, self._heads, self._nexts, self._free, self._quiet, done,
            )  # fmt: skip
            self._doubles += doubles
            self._told -= doubles
            self._tells_both = self._tells_both or others > 0
            if number:
                yield self._batch(done[:number].copy())
            if at < n and self._slots.size < _MOST_FOLLOWED:
                self._slots = np.concatenate([self._slots, np.zeros_like(self._slots)])
                self._relink()
            elif at < n:
                # No memory for more: the half that is silent for longest ends.
                old = self._slots["end"] <= np.median(self._slots["end"])
                self._source.unread.add(BEYOND, self._source.name, int(np.count_nonzero(old)))
                yield self._batch(self._slots[old])
                self._slots["used"][old] = 0
                self._relink()
        self._taken += n
        if self._taken >= _BATCH:
            self._taken = 0
            old = np.empty(self._slots.size, dtype=bool)
            over(self._slots, self._now, self._quiet, old)
            if old.any():
                yield self._batch(self._slots[old])
                self._slots["used"][old] = 0
                self._relink()

    def _relink(self) -> None:
        from fenrask.records.kernels.ends import linked

        assert self._slots is not None
        self._heads, self._nexts = np.empty(2 * self._slots.size, np.int64), np.empty(self._slots.size, np.int64)
        self._free = linked(self._slots, self._heads, self._nexts)

    def rest(self) -> Iterator[Batch]:
        """What is left at the end; what was put together is told."""
        unread, name = self._source.unread, self._source.name
        unread.add("records that are there twice, counted once", name, self._doubles)
        if self._slots is not None and (self._slots["used"] == 1).any():
            yield self._batch(self._slots[self._slots["used"] == 1], at_the_end=True)

    def so_far(self) -> Iterator[Batch]:
        """What is not done yet, as if it ended now; it goes on all the same."""
        if self._slots is not None and (self._slots["used"] == 1).any():
            told = self._told
            yield self._batch(self._slots[self._slots["used"] == 1], at_the_end=True)
            self._told = told

    def _batch(self, done: NDArray[Any], at_the_end: bool = False) -> Batch:
        """Connections as a batch, from who began them: who sent first, or else from the higher port."""
        order = np.argsort(done["start"], kind="stable")
        found = {name: done[name][order] for name in _TOLD}
        key, ports = found["key"], found["key"][:, 4]
        version = ports >> np.uint64(40)
        protocol = (ports >> np.uint64(32) & np.uint64(0xFF)).astype(np.uint8)
        source, target = (ports >> np.uint64(16) & np.uint64(0xFFFF)), ports & np.uint64(0xFFFF)
        turned = (found["both"] == 1) & (source < target)
        six = np.flatnonzero(version == 6).tolist()

        def addresses(place: int) -> Addresses:
            other = 2 - place
            low = np.where(turned, key[:, other + 1], key[:, place + 1])
            high = np.where(turned, key[:, other], key[:, place])
            rows = tuple((row, int(high[row]) << 64 | int(low[row])) for row in six)
            return Addresses(np.where(version == 4, low, 0).astype(np.uint32), rows)

        out, back = np.where(turned, found["back"], found["out"]), np.where(turned, found["out"], found["back"])
        flags = np.where(turned, found["back_flags"], found["flags"])
        back_flags = np.where(turned, found["flags"], found["back_flags"])
        quiet = self._now - found["end"] if at_the_end else np.full(order.size, np.inf)
        ending = _endings(found, flags, back_flags, protocol, back, quiet > self._quiet[0], self._tells_both)
        is_tcp, told, self._told = protocol == 6, self._told, 0
        seen = (flags | back_flags) & FLAGGED != 0
        begun = ~(is_tcp & seen & ((flags | back_flags) & _SYN == 0))
        return Batch(
            found["start"], np.where(ending == OPEN, np.maximum(self._now, found["end"]), found["end"]),
            addresses(0), addresses(2),
            np.where(turned, target, source).astype(np.uint16), np.where(turned, source, target).astype(np.uint16),
            protocol, out.astype(np.int64), back.astype(np.int64), ending, begun=begun, records=told,
        )  # fmt: skip


_TOLD = ("key", "start", "end", "out", "back", "flags", "back_flags", "ending", "both")


def _endings(
    found: Mapping[str, NDArray[Any]],
    flags: NDArray[np.uint16],
    back_flags: NDArray[np.uint16],
    protocol: NDArray[np.uint8],
    back: NDArray[np.int64],
    is_quiet: NDArray[np.bool_],
    tells_both: bool,
) -> NDArray[np.uint8]:
    """How connections ended: by their flags, else by why their last record was exported.

    tells_both: whether there are records of both directions, so that silence is one.
    """
    both, reason = (found["both"] > 0) | (back > 0), found["ending"].astype(np.int64)
    told = (flags | back_flags) & FLAGGED != 0
    alone = told & (flags & (_SYN | _ACK | _FIN | _RST) == _SYN)
    fin, fin_back = flags & _FIN != 0, back_flags & _FIN != 0
    said = np.isin(reason, (CLOSED, RESET, HALF_CLOSED, REJECTED, UNANSWERED))
    tcp = np.select(
        [
            alone & both & (back_flags & (_SYN | _FIN) == 0),
            (flags | back_flags) & _RST != 0,
            (fin & fin_back) | (fin & (back_flags == 0)) | (fin_back & (flags == 0)),
            fin | fin_back,
            alone & ~both,
            said,
            (reason == IDLE) | (told & is_quiet & (reason == UNKNOWN)),
            (reason == OPEN) | (reason == CONTINUED) | told,
        ],
        [REJECTED, RESET, CLOSED, HALF_CLOSED, UNANSWERED, reason, IDLE, OPEN],
        UNKNOWN,
    )
    streams = found["end"] - found["start"] > _STREAM_S
    udp = np.where(both, np.where(streams, UDP_STREAMING, UDP_ANSWERED), UDP_ONE_WAY if tells_both else UNKNOWN)
    chosen: NDArray[np.uint8] = np.where(protocol == _UDP, udp, tcp).astype(np.uint8)
    return chosen


def _samples(raw: Raw) -> Iterator[Batch]:
    """Records of samples, by how many packets stand for one."""
    for factor in np.unique(raw.factor).tolist():
        some = raw.some(raw.factor == factor)
        n, key = some.start_s.size, some.keys
        ports = key[:, 4]
        version = ports >> np.uint64(40)
        six = np.flatnonzero(version == 6).tolist()
        source, target = (
            Addresses(
                np.where(version == 4, key[:, place + 1], 0).astype(np.uint32),
                tuple((row, int(key[row, place]) << 64 | int(key[row, place + 1])) for row in six),
            )
            for place in (0, 2)
        )
        yield Batch(
            some.start_s, some.end_s, source, target,
            (ports >> np.uint64(16) & np.uint64(0xFFFF)).astype(np.uint16),
            (ports & np.uint64(0xFFFF)).astype(np.uint16),
            (ports >> np.uint64(32) & np.uint64(0xFF)).astype(np.uint8),
            some.out, some.back, np.full(n, UNKNOWN, dtype=np.uint8), sampled=factor,
        )  # fmt: skip
