"""What records come to, so that parts add up: counts by key, merged by addition (a commutative monoid).

Every count is a whole number under a whole key: the sum of parts is the same to the bit in any order and grouping.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from heapq import heapify, heappop, heappush
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import UDP_ALONE, UDP_ONE_WAY, Batch
from fenrask.records.matching import Pairs

__all__ = [
    "MARKED",
    "NEVER",
    "PAIR_BITS",
    "Counts",
    "Instants",
    "Summary",
    "key",
    "key_parts",
    "moves_of",
    "pairs_in",
    "settled",
    "spanned",
]

Keys = NDArray[np.int64]
PAIR_BITS = 32
_SPAN = 1 << PAIR_BITS
"""Pair x span + second is one key; readers leave out later times."""
_SIGNED = 63
_SILENT_HOURS, _SILENT_IN_A_FILE_HOURS = 24, 168
"""How long no record may begin in a time that is looked at: between files, and within one."""
NEVER = 1 << 62
MARKED = 64
"""One record in this many has a mark."""
_LEAST_MARKED = 20


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
            from fenrask.records.kernels.tallying import run_lengths

            return cls(*run_lengths(np.sort(keys)))
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
        from fenrask.records.kernels.tallying import added

        # The two shortest first, so that a key is moved a logarithm of times.
        waiting = [(one.keys.size, place, one) for place, one in enumerate(some)]
        heapify(waiting)
        while len(waiting) > 1:
            (_, place, one), (_, _, other) = heappop(waiting), heappop(waiting)
            both = cls(*added(one.keys, one.values, other.keys, other.values))
            heappush(waiting, (both.keys.size, place, both))
        return waiting[0][2]

    def __add__(self, other: "Counts") -> "Counts":
        return Counts.total([self, other])

    def within(self, low: int, high: int) -> tuple[Keys, Keys]:
        """Keys and values from low up to, not including, high."""
        first, last = np.searchsorted(self.keys, [low, high])
        return self.keys[first:last], self.values[first:last]


@dataclass(frozen=True)
class Instants:
    """Keys in rising order, each as often as it is there: of what seldom is there twice."""

    keys: Keys = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @classmethod
    def total(cls, several: Sequence["Instants"]) -> "Instants":
        """All of them."""
        some = [one for one in several if one.keys.size]
        if len(some) < 2:
            return some[0] if some else cls()
        keys = np.concatenate([one.keys for one in some])
        keys.sort()
        return cls(keys)

    def within(self, low: int, high: int) -> Keys:
        """Keys from low up to, not including, high."""
        first, last = np.searchsorted(self.keys, [low, high])
        return self.keys[first:last]


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
    opened: Instants = field(default_factory=Instants)
    """When connections began, or were first seen, under pair x 2^`time_bits` + the time (see `Pairs`)."""
    ended: Instants = field(default_factory=Instants)
    """When they ended, under the same keys."""
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
    tells_both: bool = False
    """Whether the records tell of what came back, so that what nothing came back to is known."""
    hours: Counts = field(default_factory=Counts)
    """Records by hour since 1970, of whatever they are."""
    first_s: int = NEVER
    last_s: int = -NEVER
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
            opened=Instants.total([one.opened for one in several]),
            ended=Instants.total([one.ended for one in several]),
            unmatched=unmatched,
            records=sum(one.records for one in several),
            together=sum(one.together for one in several),
            replies=sum(one.replies for one in several),
            sampled=sum(one.sampled for one in several),
            tells_both=any(one.tells_both for one in several),
            first_s=min((one.first_s for one in several), default=NEVER),
            last_s=max((one.last_s for one in several), default=-NEVER),
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
    pairs = counts.keys >> PAIR_BITS
    return pairs[_firsts(pairs)] if pairs.size else pairs


def settled(summary: Summary) -> Summary:
    """All of one file: of UDP that nothing came back to, whether that says something."""
    rest = summary.endings.keys & (_SPAN - 1)
    alone = rest == UDP_ALONE
    if not alone.any():
        return summary
    kept = Counts(summary.endings.keys[~alone], summary.endings.values[~alone])
    one_way = Counts(summary.endings.keys[alone] - UDP_ALONE + UDP_ONE_WAY, summary.endings.values[alone])
    return replace(summary, endings=kept + one_way if summary.tells_both else kept)


def spanned(batches: Iterable[Batch], file: str, spans: dict[str, tuple[int, int]]) -> Iterator[Batch]:
    """The same batches, of one file; from when to when its records begin is noted."""
    for batch in batches:
        if len(batch):
            first, last = int(np.floor(batch.start_s.min())), int(np.floor(batch.start_s.max()))
            known = spans.get(file, (first, last))
            spans[file] = min(known[0], first), max(known[1], last)
        yield batch


def moves_of(summary: Summary, pairs: Pairs, pair: int) -> tuple[Keys, Keys]:
    """When the number of a pair's open connections changes, ms since 1970 in rising order, and by how many."""
    first = pair << pairs.time_bits
    opened, ended = (one.within(first, first + (1 << pairs.time_bits)) for one in (summary.opened, summary.ended))
    closed = Counts.of(ended)
    moves = Counts.total([Counts.of(opened), Counts(closed.keys, -closed.values)])
    return (moves.keys - first) << pairs.coarse, moves.values
