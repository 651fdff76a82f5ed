"""What records come to, so that parts add up: counts by key, merged by addition (a commutative monoid).

Every count is a whole number under a whole key: the sum of parts is the same to the bit in any order and grouping.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from itertools import pairwise

import numpy as np

from fenrask.records.batch import UDP_ALONE, UDP_ONE_WAY, Batch
from fenrask.records.counts import Counts, Instants, Keys, firsts_of
from fenrask.records.matching import Pairs
from fenrask.records.runs import Room, Runs

__all__ = [
    "MARKED",
    "NEVER",
    "PAIR_BITS",
    "STOP",
    "Summary",
    "key",
    "key_parts",
    "moves_of",
    "pairs_in",
    "settled",
    "spanned",
]

Neighbours = dict[tuple[str, str, int, int], int]
PAIR_BITS = 32
_SPAN = 1 << PAIR_BITS
"""Pair x span + second is one key; readers leave out later times."""
_SILENT_HOURS, _SILENT_IN_A_FILE_HOURS = 24, 168
"""How long no record may begin in a time that is looked at: between files, and within one."""
NEVER = 1 << 62
MARKED = 64
"""One record in this many has a mark."""
STOP = 1 << 32
_LEAST_MARKED = 20


@dataclass
class Summary:
    """Counts by pair of subnet and destination; keys are pair x span + second, bin, ending or address."""

    begun: Counts = field(default_factory=Counts)
    """New connections."""
    starts: Runs[Counts] = field(default_factory=lambda: Runs(Counts))
    """The same by second."""
    opened: Runs[Instants] = field(default_factory=lambda: Runs(Instants))
    """When connections began, or were first seen, under pair x 2^`time_bits` + the time (see `Pairs`)."""
    ended: Runs[Instants] = field(default_factory=lambda: Runs(Instants))
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
    addresses: Runs[Counts] = field(default_factory=lambda: Runs(Counts))
    """Connections by the destination's address, its last 32 bits."""
    listed: Counts = field(default_factory=Counts)
    """Entries of tables at one moment, by state (`STATES`)."""
    listed_s: Counts = field(default_factory=Counts)
    """The sum of what they had left until they go, s, by state."""
    marks: Counts = field(default_factory=Counts)
    """How often some records are there, one in `MARKED` of them, under a mark of what they say."""
    marks_below: int = (1 << 63) - 1
    """Marks from here on are left out: where there are many, fewer tell as well (adaptive sampling, Flajolet 1990)."""
    joints: Counts = field(default_factory=Counts)
    """Under a mark of some records' ends and a second: how many begin then, and `STOP` times how many stop."""
    joints_below: int = (1 << 63) - 1
    samples: Counts = field(default_factory=Counts)
    """Records of samples, each of a packet at least."""
    squares: Counts = field(default_factory=Counts)
    """The sum of the squares of what each of these stands for, KiB^2: how sure the whole is (RFC 5476, section 2)."""
    unmatched: Neighbours = field(default_factory=dict)
    """What belongs to no pair: source and target (/24, /64), port, protocol; those with the most records."""
    of_others: int = 0
    """Records that belong to no pair, of others than these."""
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
        several = several or [cls()]
        unmatched, others = _most([one.unmatched for one in several])
        marks, below = _fewer([(one.marks, one.marks_below) for one in several])
        joints, joints_below = _fewer([(one.joints, one.joints_below) for one in several])
        spans: dict[str, tuple[int, int]] = {}
        for file, (first, last) in (pair for one in several for pair in one.spans.items()):
            known = spans.get(file, (first, last))
            spans[file] = min(known[0], first), max(known[1], last)
        return cls(
            **{name: Counts.total([getattr(one, name) for one in several]) for name in _COUNTED},
            marks=marks,
            marks_below=below,
            joints=joints,
            joints_below=joints_below,
            starts=Runs.total([one.starts for one in several]),
            addresses=Runs.total([one.addresses for one in several]),
            opened=Runs.total([one.opened for one in several]),
            ended=Runs.total([one.ended for one in several]),
            unmatched=unmatched,
            of_others=others + sum(one.of_others for one in several),
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

    def kept_in(self, room: Room | None) -> "Summary":
        """The same, with what is more than memory should hold on disk."""
        several = (self.starts, self.addresses, self.opened, self.ended)
        if room is None or sum(one.held_bytes for one in several) <= room.memory_bytes:
            return self
        starts, addresses = (one.put_away(room) for one in several[:2])
        opened, ended = (one.put_away(room) for one in several[2:])
        return replace(self, starts=starts, addresses=addresses, opened=opened, ended=ended)

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
    def lost(self) -> int:
        """Records that belong to no pair."""
        return sum(self.unmatched.values()) + self.of_others

    @property
    def doubled(self) -> float:
        """About the share of the records that are there more than once; 0 where too few are marked to tell."""
        marked = int(self.marks.values.sum())
        return 1 - self.marks.keys.size / marked if marked >= _LEAST_MARKED else 0.0

    @property
    def pieces(self) -> float:
        """About the share of the records that begin where another one at the same ends stops; 0 of too few to tell."""
        begins, stops = self.joints.values % STOP, self.joints.values // STOP
        marked = int(begins.sum())
        return float(np.minimum(begins, stops).sum()) / marked if marked >= _LEAST_MARKED else 0.0

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
        for hour, later in pairwise(keys):
            quiet = later - hour - 1
            if quiet > _SILENT_HOURS and not (quiet <= _SILENT_IN_A_FILE_HOURS and self._in_a_file(hour, later)):
                yield first, hour
                first = later
        if keys:
            yield first, keys[-1]

    def _in_a_file(self, hour: int, later: int) -> bool:
        """Whether one file has records of both hours, or around them."""
        return any(first < (hour + 1) * 3600 and last >= later * 3600 for first, last in self.spans.values())


_COUNTED = tuple(one.name for one in fields(Summary) if one.type is Counts and one.name not in ("marks", "joints"))
_MOST_NEIGHBOURS, _MOST_MARKS = 100_000, 1 << 20
"""So many are held, whatever is sent."""


def _most(several: Sequence[Neighbours]) -> tuple[Neighbours, int]:
    """The sum of all by key, of those with the most records; and the records of the others."""
    found: Neighbours = {}
    for some in several:
        for key, number in some.items():
            found[key] = found.get(key, 0) + number
    if len(found) <= _MOST_NEIGHBOURS:
        return found, 0
    kept = dict(sorted(found.items(), key=lambda item: (-item[1], item[0]))[: _MOST_NEIGHBOURS // 2])
    return kept, sum(found.values()) - sum(kept.values())


def _fewer(several: Sequence[tuple[Counts, int]]) -> tuple[Counts, int]:
    """Not too many marks: those below a number that is halved until they are not, which whoever sums them comes to."""
    below = min(below for _, below in several)
    marks = Counts.total([one for one, _ in several]).within(0, below)
    while marks.keys.size > _MOST_MARKS:
        below //= 2
        marks = marks.within(0, below)
    return marks, below


def key(pair: Keys, rest: Keys) -> Keys:
    """Pair and second (or bin, or address) as one number."""
    return pair * _SPAN + rest


def key_parts(number: int) -> tuple[int, int]:
    """The pair and the rest of a key."""
    return divmod(number, _SPAN)


def pairs_in(counts: Counts) -> Keys:
    """Every pair that has a key, in rising order."""
    pairs = counts.keys >> PAIR_BITS
    return pairs[firsts_of(pairs)] if pairs.size else pairs


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
    closed = Counts.of(ended.keys)
    moves = Counts.total([Counts.of(opened.keys), Counts(closed.keys, -closed.values)])
    return (moves.keys - first) << pairs.coarse, moves.values
