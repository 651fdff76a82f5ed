"""What a translator says of one connection, line by line or event by event; begin and end put together as a record."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from fenrask.prefixes import parse_address
from fenrask.records.batch import CLOSED, IDLE, RESET, UNKNOWN, Batch, dotted
from fenrask.records.readers.contract import Source

__all__ = ["Entry", "Pairing", "sound"]

_BATCH = 50_000


@dataclass(frozen=True)
class Entry:
    """One line: what it says of a connection, and of its way outside."""

    time_s: float | None
    event: str
    protocol: int
    source: bytes
    target: bytes
    source_port: int
    target_port: int
    outside: bytes
    """The address that replies go to: the translated source."""
    outside_port: int
    state: str
    seconds_left: int | None
    """Until the entry goes, if nothing comes."""
    octets: tuple[int, int]
    lasted_s: float | None = None
    """Since it began, where the end says so."""

    @property
    def is_sound(self) -> bool:
        """Whether its addresses are addresses, and its numbers such as may stand in a packet."""
        ports = (self.source_port, self.target_port, self.outside_port)
        return (
            all(0 <= port <= 0xFFFF for port in ports)
            and 0 <= self.protocol <= 0xFF
            and all(0 <= one < 1 << 63 for one in self.octets)
            and all(map(_is_address, filter(None, (self.source, self.target, self.outside))))
            and bool(self.source and self.target)
        )

    @property
    def key(self) -> tuple[object, ...]:
        return (self.protocol, self.source, self.target, self.source_port, self.target_port)


@lru_cache(maxsize=65_536)
def _is_address(text: bytes) -> bool:
    try:
        parse_address(text.decode("ascii"))
    except ValueError:
        return False
    return True


def sound(found: Iterable[Entry], source: Source) -> Iterator[Entry]:
    """The entries that can be; the others go to what is not read."""
    for one in found:
        if one.is_sound:
            yield one
        else:
            source.unread.add("an entry with no address, or a number that no packet has", source.name)


_ENDED = {"TIME_WAIT": CLOSED, "LAST_ACK": CLOSED, "CLOSE": RESET, "ESTABLISHED": IDLE}


@dataclass
class _Open:
    begun: float
    state: str = ""


@dataclass
class _Rows:
    rows: list[tuple[float, float, Entry, int]] = field(default_factory=list)

    def batch(self, source: Source) -> Batch:
        start, end, entry, ending = zip(*self.rows, strict=True)
        n = len(self.rows)
        inner, good = dotted([one.source for one in entry])
        outer, fine = dotted([one.target for one in entry])
        if not (good & fine).all():
            source.unread.add("no address", source.name, int((~(good & fine)).sum()))
        return Batch(
            np.array(start), np.array(end), inner, outer,
            np.array([one.source_port for one in entry], dtype=np.uint16),
            np.array([one.target_port for one in entry], dtype=np.uint16),
            np.array([one.protocol for one in entry], dtype=np.uint8),
            np.array([one.octets[0] for one in entry], dtype=np.int64).reshape(n),
            np.array([one.octets[1] for one in entry], dtype=np.int64),
            np.array(ending, dtype=np.uint8),
        )  # fmt: skip


@dataclass
class Pairing:
    """Events as records: what was seen to begin waits for its end."""

    source: Source
    live: dict[tuple[object, ...], _Open] = field(default_factory=dict)
    found: _Rows = field(default_factory=_Rows)

    def batches(self, entries: Iterable[Entry]) -> Iterator[Batch]:
        """Whole batches of what has ended; the rest waits for `rest`."""
        for one in sound(entries, self.source):
            self._take(one)
            if len(self.found.rows) >= _BATCH:
                yield self.found.batch(self.source)
                self.found = _Rows()

    def rest(self) -> Iterator[Batch]:
        """The last batch; what is still open is counted."""
        if self.live:
            self.source.unread.add("still open at the end of the events", self.source.name, len(self.live))
        if self.found.rows:
            yield self.found.batch(self.source)

    def _take(self, one: Entry) -> None:
        unread, name = self.source.unread, self.source.name
        if one.time_s is None:
            unread.add("an entry without a time: a listing says what is open, not when it began", name)
        elif one.event == "NEW":
            self.live[one.key] = _Open(one.time_s)
        elif one.event == "UPDATE" and one.key in self.live:
            self.live[one.key].state = one.state or self.live[one.key].state
        elif one.event == "DESTROY":
            begun = self.live.pop(one.key, None)
            if begun is None and one.lasted_s is not None:
                begun = _Open(one.time_s - one.lasted_s)
            if begun is None:
                unread.add("an end without a beginning", name)
                return
            ending = _ENDED.get(one.state or begun.state, UNKNOWN)
            self.found.rows.append((begun.begun, one.time_s, one, ending))
