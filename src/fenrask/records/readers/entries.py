"""What a translator says of one connection, line by line or event by event; begin and end put together as a record."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np

from fenrask.prefixes import parse_address
from fenrask.records.batch import (
    CLOSED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    STATES,
    UDP_ANSWERED,
    UDP_ONE_WAY,
    UDP_STREAMING,
    UNANSWERED,
    UNKNOWN,
    Batch,
    Listing,
    dotted,
)
from fenrask.records.readers.contract import Quiet, Source

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
    """Until the entry goes, if nothing comes: of an event, when it was."""
    octets: tuple[int, int]
    lasted_s: float | None = None
    """Since it began, where the end says so."""
    is_answered: bool | None = None
    """Whether packets went both ways; None where that is not said."""
    is_assured: bool = False
    """Whether they went to and fro for long."""

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
    for entry in found:
        if entry.is_sound:
            yield entry
        else:
            source.unread.add("an entry with no address, or a number that no packet has", source.name)


_ENDED = {
    "TIME_WAIT": CLOSED, "LAST_ACK": CLOSED, "CLOSE": RESET, "ESTABLISHED": IDLE, "FIN_WAIT": HALF_CLOSED,
    "CLOSE_WAIT": HALF_CLOSED, "SYN_SENT": UNANSWERED, "SYN_RECV": UNANSWERED,
}  # fmt: skip
_BEGINNING = ("SYN_SENT", "SYN_RECV")
_TIMED_OUT_S = 1.5
"""By how much an entry may go before its timer is over, whose seconds are whole, and be said to have run out."""
_UDP = 17


@dataclass
class _Open:
    """What is known of a connection that began: its last state and entry, and when that was."""

    begun: float
    last: Entry
    state: str = ""
    at: float = 0.0
    """When it changed last."""
    timer_s: float = 0.0
    """How long it was to last from then on, if nothing came; 0 where that is not known."""
    came_about: bool = True
    """Whether its handshake was finished; taken to be where nobody saw how it began."""

    def note(self, entry: Entry) -> None:
        """What an event says of it."""
        if entry.time_s is not None:
            self.at = max(self.at, entry.time_s)
        self.last = entry
        if entry.state in _BEGINNING and entry.event == "NEW":
            self.came_about = False
        elif entry.state not in (*_BEGINNING, "CLOSE", ""):
            self.came_about = True
        self.state = entry.state or self.state
        self.timer_s = self.timer_s if entry.seconds_left is None else float(entry.seconds_left)

    def ended(self, went: Entry, quiet: Quiet) -> tuple[float, int]:
        """When the timer began that took its entry away, which is when it ended; and how."""
        assert went.time_s is not None
        if went.is_answered is None:
            # A session of a translator (RFC 8158) goes with its port: it ended a mapping timeout before.
            waited = quiet.udp_answered_s if went.protocol == _UDP else quiet.closed_s
            return went.time_s - waited, UDP_ANSWERED if went.protocol == _UDP else CLOSED
        state, ran_out = went.state or self.state, self.timer_s and went.time_s - self.at >= self.timer_s - _TIMED_OUT_S
        end = max(self.at, went.time_s - self.timer_s) if ran_out else went.time_s
        if not self.timer_s and self.state in ("TIME_WAIT", "CLOSE", "LAST_ACK"):
            end = self.at
        if went.protocol == _UDP:
            return end, _of_udp(went.is_answered, self.last.is_assured or went.is_assured)
        if not self.came_about and (state == "CLOSE" or (self.timer_s and not ran_out)):
            # Linux lets the entry of what is rejected go at once.
            return end, REJECTED
        return end, _ENDED.get(state, UNKNOWN)


def _of_udp(answered: bool, assured: bool) -> int:
    return UDP_ONE_WAY if not answered else UDP_STREAMING if assured else UDP_ANSWERED


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

    def moment(self, source: Source) -> Batch:
        """Entries of a table, as they were when it was listed."""
        entries = [entry for _, _, entry, _ in self.rows]
        state = np.array([_state(one) for one in entries], dtype=np.int64)
        left = np.array([one.seconds_left or 0 for one in entries], dtype=np.int64)
        return replace(self.batch(source), listing=Listing(state, left))


def _state(entry: Entry) -> int:
    """What an entry is, as its place in `STATES`."""
    if entry.protocol == _UDP:
        return 8 if not entry.is_answered else 10 if entry.is_assured else 9
    return _TCP_STATES.get(entry.state, len(STATES) - 1)


_TCP_STATES = {
    name: number
    for number, name in enumerate(
        ("SYN_SENT", "SYN_RECV", "ESTABLISHED", "FIN_WAIT", "CLOSE_WAIT", "LAST_ACK", "TIME_WAIT", "CLOSE")
    )
}


@dataclass
class Pairing:
    """Events as records: what was seen to begin waits for its end."""

    source: Source
    live: dict[tuple[object, ...], _Open] = field(default_factory=dict)
    found: _Rows = field(default_factory=_Rows)
    listed: _Rows = field(default_factory=_Rows)
    now_s: float = 0.0

    def batches(self, entries: Iterable[Entry]) -> Iterator[Batch]:
        """Whole batches of what has ended; the rest waits for `rest`."""
        for entry in sound(entries, self.source):
            self._take(entry)
            if len(self.found.rows) >= _BATCH:
                yield self.found.batch(self.source)
                self.found = _Rows()
            if len(self.listed.rows) >= _BATCH:
                yield self.listed.moment(self.source)
                self.listed = _Rows()

    def so_far(self) -> Iterator[Batch]:
        """What would be left if it ended now; it goes on all the same."""
        found, listed = [*self.found.rows], [*self.listed.rows]
        yield from self.rest()
        self.found.rows, self.listed.rows = found, listed

    def rest(self) -> Iterator[Batch]:
        """The last batch, with what is open still."""
        for connection in self.live.values():
            self.found.rows.append((connection.begun, max(connection.begun, self.now_s), connection.last, OPEN))
        if self.found.rows:
            yield self.found.batch(self.source)
        if self.listed.rows:
            yield self.listed.moment(self.source)

    def _take(self, entry: Entry) -> None:
        unread, name = self.source.unread, self.source.name
        if not entry.event:
            self.listed.rows.append((0.0, 0.0, entry, UNKNOWN))
            return
        if entry.time_s is None:
            unread.add("an event without its time: ask for it (conntrack -E -o timestamp)", name)
            return
        self.now_s = max(self.now_s, entry.time_s)
        known = self.live.get(entry.key)
        if entry.event == "NEW":
            self.live[entry.key] = _Open(entry.time_s, entry)
            self.live[entry.key].note(entry)
        elif entry.event == "UPDATE" and known is not None:
            known.note(entry)
        elif entry.event == "DESTROY":
            if known is None and entry.lasted_s is not None:
                known = _Open(entry.time_s - entry.lasted_s, entry)
            if known is None:
                unread.add("an end without a beginning", name)
                return
            self.live.pop(entry.key, None)
            end, ending = known.ended(entry, self.source.quiet)
            self.found.rows.append((known.begun, max(known.begun, end), entry, ending))
