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
    UDP_ALONE,
    UNKNOWN,
    Addresses,
    Batch,
)
from fenrask.records.readers.contract import Source
from fenrask.records.readers.following import (
    Slots,
    by_time,
    ends_of,
    turned_keys,
)

__all__ = ["Gathering", "Raw", "keys_of"]

_MOST_FOLLOWED = 1 << 20
"""Connections at once; a third of a gigabyte."""
_BATCH = 1 << 16


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
    """Puts the records of one exporter together, as they come; what is done comes out in batches."""

    def __init__(self, source: Source) -> None:
        self._source, self._quiet = source, np.array(astuple(source.quiet))
        self._slots: Slots | None = None
        self._now, self._since_sweep, self._records = 0.0, 0, 0
        self._doubles, self._has_both = 0, False

    def take(self, raw: Raw) -> Iterator[Batch]:
        """Take records; those of samples are for volumes alone, and come out as they are.

        Of a share, both directions and all pieces of some connections; time, and who tells of both, is of all records.
        """
        self._now = max(self._now, float(raw.end_s.max(initial=0.0)), raw.now_s)
        self._has_both = self._has_both or bool(raw.back_flags.any() or raw.back.any())
        self._since_sweep += int(np.count_nonzero(raw.factor == 1.0))
        if (share := self._source.share).of > 1:
            from fenrask.records.kernels.ends import shares_of

            raw = raw.some(shares_of(raw.keys, share.of) == share.number)
        samples = raw.factor > 1.0
        if samples.any():
            yield from _samples(raw.some(samples))
            raw = raw.some(~samples)
        if raw.start_s.size:
            yield from self._gathered(raw)

    def _gathered(self, raw: Raw) -> Iterator[Batch]:
        from fenrask.records.kernels.pieces import CONNECTION, NEWEST, gathered, over

        slots = self._slots = self._slots or Slots(CONNECTION, _MOST_FOLLOWED, NEWEST)
        done, at, n = np.empty(raw.start_s.size, dtype=CONNECTION), 0, raw.start_s.size
        self._records += n
        while at < n:
            at, slots.free, number, others, doubles = gathered(
                raw.keys, raw.start_s, raw.end_s, raw.out, raw.back, raw.flags, raw.back_flags, raw.ending, at,
                slots.array, slots.beside, slots.heads, slots.nexts, slots.free, self._quiet, done,
            )  # fmt: skip
            self._doubles += doubles
            self._records -= doubles
            self._has_both = self._has_both or others > 0
            yield from self._batches(done[:number])
            if at < n:
                beyond = slots.make_room("end")
                self._source.unread.add(BEYOND, self._source.name, beyond.size)
                yield from self._batches(beyond)
        if self._since_sweep >= _BATCH:
            self._since_sweep = 0
            old = np.empty(slots.array.size, dtype=bool)
            over(slots.array, self._now, self._quiet, old)
            yield from self._batches(slots.take_out(old))

    def rest(self) -> Iterator[Batch]:
        """What is left at the end; doubled records are counted."""
        self._source.unread.add("records that are there twice, counted once", self._source.name, self._doubles)
        yield from self.so_far()

    def so_far(self) -> Iterator[Batch]:
        """What has not come out yet, as if nothing else came; it stays where it is."""
        if self._slots is not None:
            records = self._records
            yield from self._batches(self._slots.array[self._slots.used], at_the_end=True)
            self._records = records

    def _batches(self, done: NDArray[Any], at_the_end: bool = False) -> Iterator[Batch]:
        """Connections as a batch, from who opened them: of two records the one from the higher port."""
        if not done.size:
            return
        from fenrask.records.kernels.pieces import COLUMNS, put_out

        order = by_time(done["start"])
        columns: list[Any] = [np.empty(order.size, dtype=kind) for kind in COLUMNS]
        six = put_out(done, order, self._now, at_the_end, self._quiet[0], UDP_ALONE, *columns)
        start, end, source, target, source_port, target_port, protocol, out, back, ending, is_new = columns
        near, far = Addresses(source), Addresses(target)
        if six:
            keys = done["key"][order]
            is_turned = (done["both"][order] == 1) & (keys[:, 4] != _ports(source_port, target_port, keys))
            near, far, *_ = ends_of(turned_keys(keys, is_turned))
        records, self._records = self._records, 0
        yield Batch(
            start, end, near, far, source_port, target_port, protocol, out, back, ending, is_new=is_new,
            records=records, tells_both=self._has_both,
        )  # fmt: skip


def _ports(source: NDArray[np.uint16], target: NDArray[np.uint16], keys: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """The last part of keys with these ports."""
    both = source.astype(np.uint64) << np.uint64(16) | target.astype(np.uint64)
    found: NDArray[np.uint64] = keys[:, 4] >> np.uint64(32) << np.uint64(32) | both
    return found


def _samples(raw: Raw) -> Iterator[Batch]:
    """Records of samples, by how many packets stand for one."""
    for factor in np.unique(raw.factor).tolist():
        some = raw.some(raw.factor == factor)
        ending = np.full(some.start_s.size, UNKNOWN, dtype=np.uint8)
        yield Batch(some.start_s, some.end_s, *ends_of(some.keys), some.out, some.back, ending, sampled=factor)
