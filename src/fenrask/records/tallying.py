"""Batches of records counted: what each counts for under its pair, put together in large runs of keys."""

from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrask.progress import tell
from fenrask.records.batch import Addresses, Batch, texts
from fenrask.records.counts import Counts, Instants, Keys
from fenrask.records.matching import NONE, Matched, Pairs
from fenrask.records.runs import Room, Waiting
from fenrask.records.summary import MARKED, STOP, Summary, key, settled

__all__ = ["summarised"]

_SLOTS = 1 << 10
_TOGETHER = 64
"""Batches whose rest is added up at once."""
_MOST_UNMATCHED = 20_000


def summarised(batches: Iterable[Batch], pairs: Pairs, is_share: bool = False, room: Room | None = None) -> Summary:
    """The summary of the batches of one file, or of a share of it. One is counted while the next is read.

    room: what of it memory may hold, and where the rest goes; all of it where there is none.
    """
    tally = _Tally(pairs, room)
    with ThreadPoolExecutor(1) as beside:
        counted: Future[None] | None = None
        read = 0
        for batch in batches:
            read += len(batch)
            tell("records:", read)
            if counted is not None:
                counted.result()
            counted = beside.submit(tally.take, batch)
        if counted is not None:
            counted.result()
    return tally.summary() if is_share else settled(tally.summary())


@dataclass
class _Slots:
    """Sums of each pair that was seen."""

    keys: Keys = field(default_factory=lambda: np.zeros(_SLOTS, dtype=np.int64))
    places: Keys = field(default_factory=lambda: np.full(4 * _SLOTS, NONE, dtype=np.int64))
    sums: Keys = field(default_factory=lambda: _no_sums(_SLOTS))
    used: int = 0

    def grow(self) -> None:
        """Room for twice as many."""
        from fenrask.records.kernels.tallying import slots_of

        self.keys = np.concatenate([self.keys, np.zeros_like(self.keys)])
        self.sums = np.concatenate([self.sums, np.zeros_like(self.sums)])
        self.places = np.full(4 * self.keys.size, NONE, dtype=np.int64)
        slots_of(self.keys[: self.used], self.places)

    def counts(self, column: int) -> Counts:
        """A column by pair."""
        values, keys = self.sums[: self.used, column], self.keys[: self.used]
        kept = np.flatnonzero(values)
        kept = kept[np.argsort(keys[kept])]
        return Counts(key(keys[kept], 0 * kept), values[kept])


def _no_sums(slots: int) -> Keys:
    from fenrask.records.kernels.tallying import SUMS

    return np.zeros((slots, SUMS), dtype=np.int64)


class _Tally:
    """Connections counted as they come."""

    def __init__(self, pairs: Pairs, room: Room | None) -> None:
        self._pairs, self._room, self._slots, self._beside = pairs, room, _Slots(), [Summary()]
        self._opened, self._ended = Waiting(Instants), Waiting(Instants)
        self._started, self._addresses, self._durations, self._cut = (Waiting(Counts) for _ in range(4))

    def take(self, batch: Batch) -> None:
        """Count the records of a batch."""
        matched = self._pairs.match(batch)
        self._beside.append(_beside(batch, matched))
        if batch.listing is None and batch.sampled <= 1:
            self._take_connections(batch, matched)
            self._put_away()
        if len(self._beside) >= _TOGETHER:
            self._beside = [Summary.total(self._beside)]

    def _put_away(self) -> None:
        """Put on disk what is more than memory should hold."""
        many = (self._opened, self._ended, self._started, self._addresses)
        if self._room is not None and sum(one.held_bytes for one in many) > self._room.memory_bytes:
            for counts in many:
                counts.put_away(self._room)

    def _take_connections(self, batch: Batch, matched: Matched) -> None:
        from fenrask.records.kernels.tallying import tallied

        n, slots = len(batch), self._slots
        rows = [np.empty(n, dtype=np.int64) for _ in range(6)]
        is_new = np.ones(n, dtype=bool) if batch.is_new is None else batch.is_new
        address = _low(batch.target)
        at = 0
        while at < n:
            at, slots.used, *sizes = tallied(
                at, matched.pair, matched.is_reply, batch.start_s, batch.end_s, batch.ending, is_new, address,
                batch.bytes_out, batch.bytes_in, self._pairs.coarse, self._pairs.time_bits,
                slots.keys, slots.used, slots.places, slots.sums, *rows,
            )  # fmt: skip
            opened, started, durations, cut = sizes
            for runs, keys, size in (
                (self._opened, rows[0], opened), (self._ended, rows[1], opened), (self._started, rows[2], started),
                (self._addresses, rows[3], started), (self._durations, rows[4], durations), (self._cut, rows[5], cut),
            ):  # fmt: skip
                if size:
                    runs.put(keys[:size].copy())
            if at < n:
                slots.grow()

    def summary(self) -> Summary:
        """What they come to."""
        from fenrask.records.kernels.tallying import CODES, SUMS

        slots = self._slots
        sums = [slots.counts(column) for column in range(SUMS)]
        by_ending = [Counts(one.keys + code, one.values) for code, one in enumerate(sums[SUMS - CODES :])]
        whole = Summary(
            starts=self._started.runs(), opened=self._opened.runs(), ended=self._ended.runs(),
            durations=self._durations.runs().whole(), cut=self._cut.runs().whole(), addresses=self._addresses.runs(),
            endings=Counts.total(by_ending), duration_ms=sums[0], bytes_out=sums[1], bytes_in=sums[2],
            continuing=sums[3], begun=sums[4],
        )  # fmt: skip
        return Summary.total([*self._beside, whole])


def _low(addresses: Addresses) -> NDArray[np.uint32]:
    """The last 32 bits of addresses."""
    if not addresses.v6:
        return addresses.v4
    found = addresses.v4.copy()
    for row, number in addresses.v6:
        found[row] = number & 0xFFFFFFFF
    return found


def _beside(batch: Batch, matched: Matched) -> Summary:
    """What there is to count beside connections: records, hours, samples, listings, what belongs to no pair."""
    known = matched.pair != NONE
    unmatched, others = _unmatched(batch, ~known)
    if batch.listing is not None:
        # An entry that is of a reply, or of who comes in, is one as well.
        states = key(matched.pair[known], batch.listing.state[known])
        left = Counts.of(states, batch.listing.left_s[known])
        return Summary(
            listed=Counts.of(states), listed_s=left, unmatched=unmatched, of_others=others, records=len(batch)
        )
    found = _times(batch)
    found.unmatched, found.of_others = unmatched, others
    if batch.sampled > 1:
        # One packet in many: connections cannot be told from what was not looked at.
        volumes = key(matched.pair[known], np.zeros(int(known.sum()), dtype=np.int64))
        out, back = (
            np.round(np.where(matched.is_reply, one, other)[known] * batch.sampled).astype(np.int64)
            for one, other in ((batch.bytes_in, batch.bytes_out), (batch.bytes_out, batch.bytes_in))
        )
        found.bytes_out, found.bytes_in = Counts.of(volumes, out), Counts.of(volumes, back)
        found.samples, found.squares = Counts.of(volumes), Counts.of(volumes, _squares(out + back))
        found.records = found.sampled = len(batch)
        return found
    found.marks, found.joints = _marked(batch)
    found.tells_both = batch.tells_both
    found.records = len(batch) if batch.records is None else batch.records
    found.together = 0 if batch.records is None else batch.records - len(batch)
    found.replies = int(np.count_nonzero(matched.is_reply))
    return found


def _times(batch: Batch) -> Summary:
    """In which hours records begin, and the first and the last second."""
    if not len(batch):
        return Summary()
    seconds = np.floor(batch.start_s).astype(np.int64)
    first, last = int(seconds.min()), int(seconds.max())
    if last // 3600 - first // 3600 > _MOST_HOURS:
        return Summary(hours=Counts.of(seconds // 3600), first_s=first, last_s=last)
    numbers = np.bincount(seconds // 3600 - first // 3600)
    hours = np.flatnonzero(numbers)
    return Summary(hours=Counts(hours + first // 3600, numbers[hours]), first_s=first, last_s=last)


_MOST_HOURS = 1 << 16
_MOST_KIB = 1 << 27
"""Of one record of a sample, so that the sum of the squares is a whole number of 63 bits."""


def _squares(octets: Keys) -> Keys:
    kib = np.minimum((octets >> 10) + 1, _MOST_KIB)
    found: Keys = kib * kib
    return found


def _marked(batch: Batch) -> tuple[Counts, Counts]:
    """A number for one record in `MARKED`, which a doubled one has as well; and when some begin and stop."""
    from fenrask.records.kernels.tallying import marks_of

    source, target = (_whole(one) if one.v6 else one.v4 for one in (batch.source, batch.target))
    is_new = np.ones(len(batch), dtype=bool) if batch.is_new is None else batch.is_new
    marks, begins, stops = marks_of(
        source, target, batch.source_port, batch.target_port, batch.protocol, batch.bytes_out, batch.start_s,
        batch.end_s, batch.ending, is_new, MARKED, _LONG_S,
    )  # fmt: skip
    ended = Counts.of(stops)
    return Counts.of(marks), Counts.of(begins) + Counts(ended.keys, ended.values * STOP)


_LONG_S = 5.0
"""From which on a record may be a piece: exporters cut none sooner."""


def _whole(addresses: Addresses) -> NDArray[np.uint64]:
    """A number of 64 bits for each address."""
    found = addresses.v4.astype(np.uint64)
    for row, number in addresses.v6:
        found[row] = (number * 31 ^ number >> 64) & (2**64 - 1)
    return found


def _unmatched(batch: Batch, rows: NDArray[np.bool_]) -> tuple[dict[tuple[str, str, int, int], int], int]:
    """How many records belong to no pair, by neighbourhood of both ends, port and protocol; and those of others."""
    found: dict[tuple[str, str, int, int], int] = {}
    some = np.flatnonzero(rows)
    if not some.size:
        return found, 0
    inner, outer = batch.source.v4[some] >> 8, batch.target.v4[some] >> 8
    six = {row for row, _ in (*batch.source.v6, *batch.target.v6)}
    port, protocol = batch.target_port[some].astype(np.int64), batch.protocol[some].astype(np.int64)
    stacked = np.stack([inner.astype(np.int64), outer.astype(np.int64), port, protocol], axis=1)
    unique, first, numbers = np.unique(stacked, axis=0, return_index=True, return_counts=True)
    for row, at, number in zip(unique, first, numbers, strict=True):
        if int(some[at]) in six:
            ends = [*texts(batch.source, [int(some[at])]), *texts(batch.target, [int(some[at])])]
        else:
            ends = [".".join(str(int(value) >> shift & 255) for shift in (16, 8, 0)) + ".0/24" for value in row[:2]]
        if len(found) < _MOST_UNMATCHED:
            found[ends[0], ends[1], int(row[2]), int(row[3])] = int(number)
    return found, some.size - sum(found.values())
