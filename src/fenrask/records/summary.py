"""What records come to, so that parts add up: counts by key, merged by addition (a commutative monoid).

Every count is a whole number under a whole key: the sum of parts is the same to the bit in any order and grouping.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, fields
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import CONTINUED, OPEN, REJECTED, UNANSWERED, UNKNOWN, Batch, texts
from fenrask.records.matching import NONE, Pairs

__all__ = [
    "BINS",
    "Counts",
    "Summary",
    "bin_of",
    "bounds",
    "key_parts",
    "moves_of",
    "pairs_in",
    "spanned",
    "summarised",
    "value_of",
]

Keys = NDArray[np.int64]
BINS, _DECADES, _LEAST_S = 1200, 10.0, 1e-3
"""Durations are counted in 120 bins a decade, from a millisecond on; bin 0 holds what is shorter."""
_BITS = 32
_SPAN = 1 << _BITS
"""Pair x span + second is one key; readers leave out later times."""
_SPAN_MS = 1 << (_BITS + 10)
"""The same with milliseconds."""
_SIGNED = 63
_MOST_UNMATCHED = 20_000
_SILENT_HOURS, _SILENT_IN_A_FILE_HOURS = 24, 168
"""How long no record may begin in a time that is looked at: between files, and within one."""
_NEVER = 1 << 62


def bin_of(seconds: NDArray[np.float64]) -> Keys:
    """The bin of each duration."""
    with np.errstate(divide="ignore"):
        place = np.floor(np.log10(np.maximum(seconds, 1e-12) / _LEAST_S) * (BINS / _DECADES)) + 1
    found: Keys = np.clip(place, 0, BINS).astype(np.int64)
    return found


def value_of(bins: Keys) -> NDArray[np.float64]:
    """The middle of each bin, s; 0 for the first."""
    middle = _LEAST_S * 10 ** ((bins - 0.5) * (_DECADES / BINS))
    found: NDArray[np.float64] = np.where(bins == 0, 0.0, middle)
    return found


@dataclass(frozen=True)
class Counts:
    """Whole numbers under whole keys, the keys in rising order; what is not there is 0."""

    keys: Keys = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    values: Keys = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @classmethod
    def of(cls, keys: Keys, values: Keys | None = None) -> "Counts":
        """The sums of values (default: 1 each) by key."""
        if not keys.size:
            return cls()
        if values is None:
            ordered = np.sort(keys)
            first = _firsts(ordered)
            return cls(ordered[first], np.diff(first, append=keys.size))
        ordered, moved = _sorted(keys, values)
        first = _firsts(ordered)
        summed = np.add.reduceat(moved, first)
        kept = summed != 0
        return cls(ordered[first][kept], summed[kept])

    @classmethod
    def total(cls, several: Sequence["Counts"]) -> "Counts":
        """The sum of all."""
        some = [one for one in several if one.keys.size]
        if len(some) < 2:
            return some[0] if some else cls()
        return cls.of(np.concatenate([one.keys for one in some]), np.concatenate([one.values for one in some]))

    def __add__(self, other: "Counts") -> "Counts":
        return Counts.total([self, other])

    def within(self, low: int, high: int) -> tuple[Keys, Keys]:
        """Keys and values from low up to, not including, high."""
        first, last = np.searchsorted(self.keys, [low, high])
        return self.keys[first:last], self.values[first:last]


def _firsts(ordered: Keys) -> Keys:
    """Where each different key begins."""
    found: Keys = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
    return found


def _sorted(keys: Keys, values: Keys) -> tuple[Keys, Keys]:
    """Keys in rising order with their values: sorted as one number where both fit, at a third of the time."""
    low, least = int(keys.min()), int(values.min())
    bits = (int(values.max()) - least).bit_length()
    if (int(keys.max()) - low).bit_length() + bits > _SIGNED:
        order = np.argsort(keys)
        return keys[order], values[order]
    both = (keys - low) << bits | (values - least)
    both.sort()
    return (both >> bits) + low, (both & ((1 << bits) - 1)) + least


@dataclass
class Summary:
    """Counts by pair of subnet and destination; keys are pair x span + second, bin, ending or address."""

    starts: Counts = field(default_factory=Counts)
    """New connections by second."""
    moves: Counts = field(default_factory=Counts)
    """How many more connections are open from a millisecond on; under keys of `moves_of`."""
    durations: Counts = field(default_factory=Counts)
    """By bin, of connections that came about and whose beginning was seen."""
    cut: Counts = field(default_factory=Counts)
    """Those of them that were open still when nobody looked any more: they lasted longer."""
    duration_ms: Counts = field(default_factory=Counts)
    """The sum of all durations, ms."""
    continuing: Counts = field(default_factory=Counts)
    """Connections whose beginning nobody saw: they are open, and new in no second."""
    endings: Counts = field(default_factory=Counts)
    bytes_out: Counts = field(default_factory=Counts)
    bytes_in: Counts = field(default_factory=Counts)
    addresses: Counts = field(default_factory=Counts)
    """Connections by the destination's address, its last 32 bits."""
    listed: Counts = field(default_factory=Counts)
    """Entries of tables at one moment, by state (`STATES`)."""
    listed_s: Counts = field(default_factory=Counts)
    """The sum of what they had left until they go, s, by state."""
    marks: Counts = field(default_factory=Counts)
    """How often some records are there, one in `MARKED` of them, under a mark of what they say."""
    samples: Counts = field(default_factory=Counts)
    """Records of samples, each of a packet at least."""
    squares: Counts = field(default_factory=Counts)
    """The sum of the squares of what each of these stands for, KiB^2: how sure the whole is (RFC 5476, section 2)."""
    unmatched: dict[tuple[str, str, int, int], int] = field(default_factory=dict)
    """What belongs to no pair: source and target (/24, /64), port, protocol."""
    records: int = 0
    together: int = 0
    """Of these, the pieces and the other directions of connections that other records are of, too."""
    replies: int = 0
    """Of these, what tells of the other direction alone: its volume counts."""
    sampled: int = 0
    hours: Counts = field(default_factory=Counts)
    """Records by hour since 1970, of whatever they are."""
    first_s: int = _NEVER
    last_s: int = -_NEVER
    """The first and the last second in which a record begins."""
    spans: dict[str, tuple[int, int]] = field(default_factory=dict)
    """The same of each file, where it is known."""

    @classmethod
    def total(cls, several: Sequence["Summary"]) -> "Summary":
        """The sum of all: the same whatever their order and grouping."""
        unmatched: dict[tuple[str, str, int, int], int] = {}
        for one in several:
            for key, number in one.unmatched.items():
                unmatched[key] = unmatched.get(key, 0) + number
        spans: dict[str, tuple[int, int]] = {}
        for file, (first, last) in (pair for one in several for pair in one.spans.items()):
            known = spans.get(file, (first, last))
            spans[file] = min(known[0], first), max(known[1], last)
        return cls(
            **{name: Counts.total([getattr(one, name) for one in several]) for name in _COUNTED},
            unmatched=unmatched,
            records=sum(one.records for one in several),
            together=sum(one.together for one in several),
            replies=sum(one.replies for one in several),
            sampled=sum(one.sampled for one in several),
            first_s=min((one.first_s for one in several), default=_NEVER),
            last_s=max((one.last_s for one in several), default=-_NEVER),
            spans=spans,
        )

    def __add__(self, other: "Summary") -> "Summary":
        return Summary.total([self, other])

    @cached_property
    def looked_at(self) -> tuple[Keys, Keys]:
        """The hours looked at, since 1970, and how many seconds of each: of the first and the last only a part.

        Where no record begins nothing came, for up to a day, or a week within one file; a longer time is not looked at.
        """
        hours = [*self._stretches]
        found = np.concatenate([np.arange(first, last + 1) for first, last in hours]) if hours else self.hours.keys
        begin = np.maximum(found * 3600, self.first_s)
        return found, np.minimum((found + 1) * 3600, self.last_s + 1) - begin

    @property
    def doubled(self) -> float:
        """About the share of the records that are there more than once; 0 where too few are marked to tell."""
        marked = int(self.marks.values.sum())
        return 1 - self.marks.keys.size / marked if marked >= _LEAST_MARKED else 0.0

    @property
    def silent_hours(self) -> int:
        """Hours looked at in which no record begins."""
        return int(self.looked_at[0].size - self.hours.keys.size)

    @property
    def gaps(self) -> list[tuple[int, int]]:
        """The times not looked at between the first and the last record: from an hour's end to the beginning of one."""
        some = [*self._stretches]
        return [((one[1] + 1) * 3600, other[0] * 3600) for one, other in pairwise(some)]

    @property
    def _stretches(self) -> Iterator[tuple[int, int]]:
        """The first and the last hour of each time that was looked at without a break."""
        keys = self.hours.keys.tolist()
        first = keys[0] if keys else 0
        for one, other in pairwise(keys):
            quiet = other - one - 1
            if quiet > _SILENT_HOURS and not (quiet <= _SILENT_IN_A_FILE_HOURS and self._in_a_file(one, other)):
                yield first, one
                first = other
        if keys:
            yield first, keys[-1]

    def _in_a_file(self, hour: int, later: int) -> bool:
        """Whether one file has records of both hours, or around them."""
        return any(first < (hour + 1) * 3600 and last >= later * 3600 for first, last in self.spans.values())


_COUNTED = tuple(one.name for one in fields(Summary) if one.type is Counts)


def key(pair: Keys, rest: Keys) -> Keys:
    """Pair and second (or bin, or address) as one number."""
    return pair * _SPAN + rest


def key_parts(number: int) -> tuple[int, int]:
    """The pair and the rest of a key."""
    return divmod(number, _SPAN)


def pairs_in(counts: Counts) -> Keys:
    """Every pair that has a key, in rising order."""
    pairs = counts.keys >> _BITS
    return pairs[_firsts(pairs)] if pairs.size else pairs


def bounds(pair: int) -> tuple[int, int]:
    """The first key of a pair, and the first of the next."""
    return pair * _SPAN, (pair + 1) * _SPAN


def spanned(batches: Iterable[Batch], file: str, spans: dict[str, tuple[int, int]]) -> Iterator[Batch]:
    """The same batches, of one file; from when to when its records begin is noted."""
    for batch in batches:
        if len(batch):
            first, last = int(np.floor(batch.start_s.min())), int(np.floor(batch.start_s.max()))
            known = spans.get(file, (first, last))
            spans[file] = min(known[0], first), max(known[1], last)
        yield batch


def moves_of(summary: Summary, pair: int) -> tuple[Keys, Keys]:
    """When the number of a pair's open connections changes, ms since 1970 in rising order, and by how many."""
    keys, moves = summary.moves.within(pair * _SPAN_MS, (pair + 1) * _SPAN_MS)
    return keys - pair * _SPAN_MS, moves


def summarised(batches: Iterable[Batch], pairs: Pairs) -> Summary:
    """The summary of batches: of one file, or one part of it."""
    # Sums of sums, each of about as many keys as those it is added to: a record is merged a logarithm of times.
    levels: list[list[Summary]] = [[]]
    for batch in batches:
        levels[0].append(_of_batch(batch, pairs))
        for n, level in enumerate(levels):
            if len(level) == _TOGETHER:
                if n + 1 == len(levels):
                    levels.append([])
                levels[n + 1].append(Summary.total(level))
                level.clear()
    return Summary.total([one for level in levels for one in level])


_TOGETHER = 8


def _of_batch(batch: Batch, pairs: Pairs) -> Summary:
    matched = pairs.match(batch)
    known = matched.pair != NONE
    if batch.listing is not None:
        # An entry that is of a reply, or of who comes in, is one as well.
        states = key(matched.pair[known], batch.listing.state[known])
        left = Counts.of(states, batch.listing.left_s[known])
        unmatched = _unmatched(batch, ~known)
        return Summary(listed=Counts.of(states), listed_s=left, unmatched=unmatched, records=len(batch))
    sent = known & ~matched.is_reply
    pair = matched.pair[sent]
    is_new = np.ones(pair.size, dtype=bool) if batch.is_new is None else batch.is_new[sent]
    begin_ms = np.round(batch.start_s[sent] * 1e3).astype(np.int64)
    end_ms = np.round(batch.end_s[sent] * 1e3).astype(np.int64)
    begin, length = begin_ms // 1000, batch.end_s[sent] - batch.start_s[sent]
    volumes = key(matched.pair[known], np.zeros(int(known.sum()), dtype=np.int64))
    out = np.where(matched.is_reply, batch.bytes_in, batch.bytes_out)[known]
    back = np.where(matched.is_reply, batch.bytes_out, batch.bytes_in)[known]
    seconds = np.floor(batch.start_s).astype(np.int64)
    hours = Counts.of(seconds // 3600)
    first, last = (int(seconds.min()), int(seconds.max())) if seconds.size else (_NEVER, -_NEVER)
    unmatched = _unmatched(batch, ~known)
    if batch.sampled > 1:
        # One packet in many: connections cannot be told from what was not looked at.
        out, back = (np.round(each * batch.sampled).astype(np.int64) for each in (out, back))
        return Summary(
            bytes_out=Counts.of(volumes, out), bytes_in=Counts.of(volumes, back), unmatched=unmatched,
            records=len(batch), sampled=len(batch), samples=Counts.of(volumes),
            squares=Counts.of(volumes, _squares(out + back)), hours=hours, first_s=first, last_s=last,
        )  # fmt: skip
    ending = batch.ending[sent]
    known_end = (ending != UNKNOWN) & (ending != CONTINUED) & is_new
    in_vain = (ending == UNANSWERED) | (ending == REJECTED)
    lived = is_new & ~in_vain
    address = batch.target.v4[sent].astype(np.int64)
    if batch.target.v6:
        low = {row: number & (_SPAN - 1) for row, number in batch.target.v6}
        address = np.array(
            [low.get(int(row), int(batch.target.v4[row])) for row in np.flatnonzero(sent)], dtype=np.int64
        )
    return Summary(
        starts=Counts.of(key(pair, begin)[is_new]),
        moves=_moves(pair, begin_ms, end_ms),
        durations=Counts.of(key(pair, bin_of(length))[lived]),
        cut=Counts.of(key(pair, bin_of(length))[lived & (ending == OPEN)]),
        duration_ms=Counts.of(key(pair, 0 * begin)[lived], (end_ms - begin_ms)[lived]),
        continuing=Counts.of(key(pair, 0 * begin)[~is_new]),
        endings=Counts.of(key(pair[known_end], ending[known_end].astype(np.int64))),
        bytes_out=Counts.of(volumes, out),
        bytes_in=Counts.of(volumes, back),
        addresses=Counts.of(key(pair, address)[is_new]),
        marks=_marks(batch),
        unmatched=unmatched,
        records=len(batch) if batch.records is None else batch.records,
        together=0 if batch.records is None else batch.records - len(batch),
        replies=int(np.count_nonzero(known & matched.is_reply)),
        hours=hours,
        first_s=first,
        last_s=last,
    )


_MOST_KIB = 1 << 27
"""Of one record of a sample, so that the sum of the squares is a whole number of 63 bits."""


def _squares(octets: Keys) -> Keys:
    kib = np.minimum((octets >> 10) + 1, _MOST_KIB)
    found: Keys = kib * kib
    return found


MARKED = 64
_MARKED_S, _LEAST_MARKED = 8.0, 20


def _marks(batch: Batch) -> Counts:
    """A number for one record in `MARKED`, of its ends, bytes, duration and about its time, where its ports are known.

    A doubled one has the same. Not the second, since another exporter's clock may differ; not the hour, since some
    services ask from one port a minute.
    """
    number = batch.source.v4.astype(np.uint64)
    lasted = np.round((batch.end_s - batch.start_s) * 1e3)
    parts = (batch.target.v4, batch.source_port, batch.target_port, batch.bytes_out, lasted, batch.start_s // _MARKED_S)
    for part in parts:
        number = (number ^ part.astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        number ^= number >> np.uint64(29)
    for row, address in (*batch.source.v6, *batch.target.v6):
        number[row] = (int(number[row]) * 31 + address) & (2**64 - 1)
    some = number[(number % MARKED == 0) & (batch.source_port > 0)] >> np.uint64(1)
    return Counts.of(some.astype(np.int64))


def _moves(pair: Keys, begin_ms: Keys, end_ms: Keys) -> Counts:
    """One more from the beginning of each connection on, one less from its end on."""
    place, one = pair * _SPAN_MS, np.ones(pair.size, dtype=np.int64)
    return Counts.of(np.concatenate([place + begin_ms, place + end_ms]), np.concatenate([one, -one]))


def _unmatched(batch: Batch, rows: NDArray[np.bool_]) -> dict[tuple[str, str, int, int], int]:
    """How many records belong to no pair, by neighbourhood of both ends, port and protocol."""
    found: dict[tuple[str, str, int, int], int] = {}
    some = np.flatnonzero(rows)
    if not some.size:
        return found
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
    return found
