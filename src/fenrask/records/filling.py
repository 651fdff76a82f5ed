"""An outage that is running: an exit's ports looked at again and again, how fast they fill, and when they are full."""

from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from threading import Lock, Thread

from fenrask.evaluation import Evaluation
from fenrask.records.readers.entries import Entry
from fenrask.records.relief import Relief, Use, relief_of, use_of

__all__ = ["Filled", "Filling", "Stream"]

_OVER_S = 60.0
"""The rate is that of the last minute."""
_MOST_ENTRIES = 4_000_000
"""Entries of a stream that are kept; the oldest go."""
_ENDS = frozenset({"DESTROY"})


@dataclass(frozen=True)
class Filled:
    """An exit's ports at one look, against the looks before it."""

    use: Use
    relief: Relief
    """What relieves it: worked out when another pool is the fullest, or twice as full."""
    per_s: float | None
    """Ports more in a second, over the last minute; None at the first look."""
    by_pair: dict[tuple[str, str], float]
    """The same of each subnet and destination."""

    @property
    def full_in_s(self) -> float | None:
        """When no port is left, if it goes on so; 0 when it is full, None where it does not fill."""
        left = self.use.full.size - self.use.full.in_use
        if left <= 0:
            return 0.0
        return left / self.per_s if self.per_s is not None and self.per_s > 0 else None


class Filling:
    """Looks at one exit's table; each is held against those of the minute before."""

    def __init__(self, evaluation: Evaluation, exit_name: str) -> None:
        self._evaluation, self._exit = evaluation, exit_name
        self._looks: deque[tuple[float, Use]] = deque()
        self._relief: Relief | None = None
        self._worked_out: tuple[str, int] = ("", 0)

    def look(self, entries: Sequence[Entry], at_s: float) -> Filled:
        """The table as it is at a moment, s of any clock that does not go back."""
        use = use_of(self._evaluation, self._exit, entries)
        while len(self._looks) > 1 and at_s - self._looks[0][0] > _OVER_S:
            self._looks.popleft()
        self._looks.append((at_s, use))
        pool, number = self._worked_out
        if self._relief is None or use.busiest != pool or use.full.in_use >= 2 * number:
            self._relief = relief_of(self._evaluation, self._exit, use)
            self._worked_out = (use.busiest, max(use.full.in_use, 1))
        # Another pool's ports are no earlier state of these.
        same = [(at, one) for at, one in self._looks if one.busiest == use.busiest]
        per_s = _slope([(at, float(one.full.in_use)) for at, one in same])
        first_s, first = self._looks[0]
        before = {(one.subnet, one.destination): one.ports for one in first.taken}
        apart = at_s - first_s
        pairs = {(one.subnet, one.destination): one.ports for one in use.taken} if apart else {}
        by_pair = {pair: (number - before.get(pair, 0)) / apart for pair, number in pairs.items()}
        return Filled(use, self._relief, per_s, by_pair)


def _slope(points: Sequence[tuple[float, float]]) -> float | None:
    """How steep a line through points is, by least squares; None for fewer than two moments."""
    n = len(points)
    mean_x, mean_y = sum(x for x, _ in points) / n, sum(y for _, y in points) / n
    spread = sum((x - mean_x) ** 2 for x, _ in points)
    return sum((x - mean_x) * (y - mean_y) for x, y in points) / spread if spread else None


class Stream:
    """The table that a stream of events keeps up to date: a listing first, if any, then what begins and ends."""

    def __init__(self, entries: Iterable[Entry]) -> None:
        self._entries: dict[tuple[object, ...], Entry] = {}
        self._lock, self.has_ended = Lock(), False
        self._fault: Exception | None = None
        self._thread = Thread(target=self._read, args=(entries,), daemon=True)
        self._thread.start()

    def _read(self, entries: Iterable[Entry]) -> None:
        try:
            for entry in entries:
                with self._lock:
                    self._take(entry)
        except Exception as error:  # noqa: BLE001 - whatever it is, whoever looks is to hear of it
            self._fault = error
        self.has_ended = True

    def _take(self, entry: Entry) -> None:
        # The newest last: what goes beyond the limit is what nothing was heard of for longest.
        self._entries.pop(entry.key, None)
        if entry.event not in _ENDS:
            self._entries[entry.key] = entry
            if len(self._entries) > _MOST_ENTRIES:
                self._entries.pop(next(iter(self._entries)))

    def now(self) -> list[Entry]:
        """The entries that there are; what was wrong with the stream is raised here."""
        with self._lock:
            if self._fault is not None:
                raise self._fault
            return [*self._entries.values()]
