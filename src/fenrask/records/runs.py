"""Counts that may be many: in runs, each in rising order, in memory or on disk, and put together where they are read.

Reading some keys of all runs gives the same whatever the runs are: they are sorted runs of an external merge (Knuth,
The Art of Computer Programming 3, 1998, section 5.4), merged part by part.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from tempfile import NamedTemporaryFile
from typing import Generic, TypeVar

import numpy as np

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.records.counts import Counts, Keys, Ordered

__all__ = ["Room", "Runs", "Waiting", "cuts"]

Kind = TypeVar("Kind", bound=Ordered)
_KEY_BYTES = 8
EVERY = 1 << 16
"""Of so many keys on disk one is in memory, too."""


@dataclass(frozen=True)
class Room:
    """How many bytes of runs may be in memory, and the folder where the others go."""

    folder: str
    memory_bytes: int


@dataclass(frozen=True)
class _OnDisk(Generic[Kind]):
    """A run in a file: all keys, then what there is beside them, as 64-bit numbers; and each `EVERY`th key."""

    kind: type[Kind]
    file: str
    size: int
    every: Keys

    @classmethod
    def of(cls, run: Kind, room: Room) -> "_OnDisk[Kind]":
        try:
            with NamedTemporaryFile(dir=room.folder, delete=False) as stream:
                for column in run.columns:
                    column.tofile(stream)
        except OSError as error:
            found = (error.strerror or str(error)).lower()
            remedy = "Give more --memory, or another folder for temporary files (TMPDIR)."
            raise UnusableInput([Problem(Place(room.folder), found, "room for what is counted", remedy)]) from None
        return cls(type(run), stream.name, run.keys.size, run.keys[::EVERY].copy())

    def within(self, low: int, high: int) -> Kind:
        before, after = np.searchsorted(self.every, [low, high]).tolist()
        first, last = max(0, before - 1) * EVERY, min(self.size, after * EVERY)
        if first >= last:
            return self.kind()
        columns = [
            np.fromfile(self.file, np.int64, last - first, offset=_KEY_BYTES * (number * self.size + first))
            for number in range(len(self.kind().columns))
        ]
        return self.kind(*columns).within(low, high)


@dataclass(frozen=True)
class Runs(Generic[Kind]):
    """Counts or times, in runs of one kind: what is under a key in several counts as their sum."""

    kind: type[Kind]
    held: tuple[Kind, ...] = ()
    """Those in memory, the longest first."""
    on_disk: tuple[_OnDisk[Kind], ...] = ()

    @classmethod
    def of(cls, run: Kind) -> "Runs[Kind]":
        """One run."""
        return cls(type(run), (run,) if run.keys.size else ())

    @classmethod
    def total(cls, several: Sequence["Runs[Kind]"]) -> "Runs[Kind]":
        """All of them; runs of about one length are put together, so that there are not many."""
        kind = several[0].kind
        held = sorted((run for one in several for run in one.held), key=lambda run: -run.keys.size)
        while len(held) > 1 and held[-2].keys.size < min(Waiting.room, 2 * held[-1].keys.size):
            held[-2:] = [kind.total(held[-2:])]
            held.sort(key=lambda run: -run.keys.size)
        return cls(kind, tuple(held), tuple(run for one in several for run in one.on_disk))

    @property
    def held_bytes(self) -> int:
        """What is in memory."""
        return sum(column.nbytes for run in self.held for column in run.columns)

    def put_away(self, room: Room) -> "Runs[Kind]":
        """The same, on disk: in few runs, since each is looked at whenever some keys are."""
        short = [run for run in self.held if run.keys.size < Waiting.room]
        long = [run for run in self.held if run.keys.size >= Waiting.room]
        written = [_OnDisk.of(run, room) for run in (*long, *([self.kind.total(short)] if short else ()))]
        return replace(self, held=(), on_disk=(*self.on_disk, *written))

    def within(self, low: int, high: int) -> Kind:
        """What is under keys from low up to, not including, high, as one run."""
        held = (run.within(low, high) for run in self.held)
        return self.kind.total([*held, *(run.within(low, high) for run in self.on_disk)])

    def whole(self) -> Kind:
        """All as one run."""
        return self.within(-(1 << 63), (1 << 63) - 1)

    def some_keys(self, low: int, high: int) -> Keys:
        """One of about `EVERY` keys of each run."""
        held = [run.within(low, high).keys[EVERY - 1 :: EVERY] for run in self.held]
        return np.concatenate([np.zeros(0, dtype=np.int64), *held, *(run.every for run in self.on_disk)])


def cuts(several: Sequence[Runs[Kind]], low: int, high: int, about: int) -> list[tuple[int, int]]:
    """Keys from low up to high in ranges, one after the other, each with about so many keys of all, or `EVERY`."""
    some = np.sort(np.concatenate([one.some_keys(low, high) for one in several]))
    step = max(1, about // EVERY)
    inner = np.unique(some[step::step])
    ends = inner[(inner > low) & (inner < high)].tolist()
    return [*pairwise([low, *ends, high])]


class Waiting(Generic[Kind]):
    """Keys as they come: put in order as runs, some millions at a time."""

    room = 1 << 22
    """Times that are put in order at once: so many that the system gets back at once what goes."""

    def __init__(self, kind: type[Kind]) -> None:
        self._kind, self._runs = kind, Runs(kind)
        self._waiting: list[Keys] = []
        self._size = 0
        # Of counts many are under the same keys.
        self._most = self.room >> 2 if issubclass(kind, Counts) else self.room

    def put(self, keys: Keys) -> None:
        """Take some more."""
        self._waiting.append(keys)
        self._size += keys.size
        if self._size >= self._most:
            self._order()

    def _order(self) -> None:
        if self._size:
            run = self._kind.of(np.concatenate(self._waiting))
            self._waiting, self._size = [], 0
            self._runs = Runs.total([self._runs, Runs.of(run)])

    @property
    def held_bytes(self) -> int:
        """What is in memory."""
        return _KEY_BYTES * self._size + self._runs.held_bytes

    def put_away(self, room: Room) -> None:
        """Put on disk what there is."""
        self._order()
        self._runs = self._runs.put_away(room)

    def runs(self) -> Runs[Kind]:
        """All that came."""
        self._order()
        return self._runs
