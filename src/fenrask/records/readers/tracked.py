"""Linux connection tracking: the listing (`conntrack -L`) and the event stream (`conntrack -E`, with timestamps).

A listing says what is open now: its entries have no beginning, and count as open at one moment. Events say when a
connection began and when its entry went; how long it waited in a timeout beforehand they do not say.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from fenrask.records.batch import CLOSED, IDLE, RESET, UNKNOWN, Batch, dotted
from fenrask.records.readers.contract import Reader, Source

__all__ = ["TRACKED", "Entry", "entries"]

_EVENT = re.compile(
    rb"^\s*(?:\[(?P<time>\d+(?:\.\d+)?)\s*\]\s*)?(?:\[(?P<event>NEW|UPDATE|DESTROY)\]\s+)?(?P<name>[a-z]+6?)\s+(?P<number>\d+)\s"
)
_PAIR = re.compile(rb"\b(src|dst|sport|dport|bytes|packets|start|stop)=(\S+)")
_STATE = re.compile(rb"\s(ESTABLISHED|TIME_WAIT|CLOSE|CLOSE_WAIT|FIN_WAIT|LAST_ACK|SYN_SENT|SYN_RECV)\s")
_LEFT = re.compile(rb"^\s*(?:\[[^\]]*\]\s*)*[a-z]+6?\s+\d+\s+(\d+)\s")
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

    @property
    def key(self) -> tuple[object, ...]:
        return (self.protocol, self.source, self.target, self.source_port, self.target_port)


def entries(source: Source) -> Iterator[Entry]:
    """The lines that are entries; those that are not go to what is not read."""
    for number, line in enumerate(source.stream, 1):
        if not line.strip() or line.startswith(b"conntrack v"):
            continue
        event, pairs = _EVENT.match(line), _PAIR.findall(line)
        said: dict[bytes, list[bytes]] = {}
        for key, value in pairs:
            said.setdefault(key, []).append(value)
        if event is None or len(said.get(b"src", ())) < 1 or len(said.get(b"dst", ())) < 1:
            source.unread.add("no entry of connection tracking", f"{source.name}, line {number}")
            continue
        ports = [int(one) for one in said.get(b"sport", [])], [int(one) for one in said.get(b"dport", [])]
        state, left = _STATE.search(line), _LEFT.match(line)
        octets = [int(one) for one in said.get(b"bytes", [])]
        yield Entry(
            float(event["time"]) if event["time"] else None,
            (event["event"] or b"").decode(),
            int(event["number"]),
            said[b"src"][0],
            said[b"dst"][0],
            ports[0][0] if ports[0] else 0,
            ports[1][0] if ports[1] else 0,
            said[b"dst"][1] if len(said[b"dst"]) > 1 else b"",
            ports[1][1] if len(ports[1]) > 1 else 0,
            state[1].decode() if state else "",
            int(left[1]) if left and not event["event"] else None,
            (octets[0] if octets else 0, octets[1] if len(octets) > 1 else 0),
        )


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


def _read(source: Source) -> Iterator[Batch]:
    live: dict[tuple[object, ...], _Open] = {}
    found = _Rows()
    for one in entries(source):
        if one.time_s is None:
            source.unread.add("an entry without a time: a listing says what is open, not when it began", source.name)
        elif one.event == "NEW":
            live[one.key] = _Open(one.time_s)
        elif one.event == "UPDATE" and one.key in live:
            live[one.key].state = one.state or live[one.key].state
        elif one.event == "DESTROY":
            begun = live.pop(one.key, None)
            if begun is None:
                source.unread.add("an end without a beginning", source.name)
                continue
            found.rows.append((begun.begun, one.time_s, one, _ENDED.get(begun.state, UNKNOWN)))
        if len(found.rows) >= _BATCH:
            yield found.batch(source)
            found = _Rows()
    if live:
        source.unread.add("still open at the end of the events", source.name, len(live))
    if found.rows:
        yield found.batch(source)


def _knows(head: bytes) -> bool:
    first = next((line for line in head.split(b"\n") if line.strip() and not line.startswith(b"conntrack v")), b"")
    return bool(_EVENT.match(first) and b"src=" in first)


TRACKED = Reader("Linux connection tracking", _knows, _read)
