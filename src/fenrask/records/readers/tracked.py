"""Linux connection tracking: tables as listed (`conntrack -L`, /proc/net/nf_conntrack), events (`conntrack -E`).

A listing says what is open at one moment, and no beginning. Events have their time (`-o timestamp`) and say when a
connection began, and when its entry went; it ended when the timer began that took it away.
"""

import re
from collections.abc import Iterator, Mapping

from fenrask.records.batch import Batch
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.entries import Entry, Pairing

__all__ = ["TRACKED", "entries"]

_EVENT = re.compile(
    rb"^\s*(?:\[(?P<time>\d+(?:\.\d+)?)\s*\]\s*)?(?:\[(?P<event>NEW|UPDATE|DESTROY)\]\s+)?(?:ipv[46]\s+\d+\s+)?(?P<name>[a-z]+6?)\s+(?P<number>\d+)\s"
)
_PAIR = re.compile(rb"\b(src|dst|sport|dport|bytes|packets|start|stop)=(\S+)")
_STATE = re.compile(rb"\s(ESTABLISHED|TIME_WAIT|CLOSE|CLOSE_WAIT|FIN_WAIT|LAST_ACK|SYN_SENT|SYN_RECV)\s")
_LEFT = re.compile(rb"^\s*(?:\[[^\]]*\]\s*)*(?:ipv[46]\s+\d+\s+)?[a-z]+6?\s+\d+\s+(\d+)\s")
_LASTED = re.compile(rb"\bdelta-time=(\d+)")


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
        try:
            yield _entry(line, event, said)
        except ValueError:
            source.unread.add("a number that cannot be read", f"{source.name}, line {number}")


def _entry(line: bytes, event: re.Match[bytes], said: Mapping[bytes, list[bytes]]) -> Entry:
    """One line, taken apart; ValueError for a number that is none."""
    ports = [int(one) for one in said.get(b"sport", [])], [int(one) for one in said.get(b"dport", [])]
    state, left = _STATE.search(line), _LEFT.match(line)
    octets = [int(one) for one in said.get(b"bytes", [])]
    return Entry(
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
        int(left[1]) if left else None,
        (octets[0] if octets else 0, octets[1] if len(octets) > 1 else 0),
        float(lasted[1]) if (lasted := _LASTED.search(line)) else None,
        b"[UNREPLIED]" not in line,
        b"[ASSURED]" in line,
    )


def _read(source: Source) -> Iterator[Batch]:
    pairing = Pairing(source)
    yield from pairing.batches(entries(source))
    yield from pairing.rest()


def _knows(head: bytes) -> bool:
    first = next((line for line in head.split(b"\n") if line.strip() and not line.startswith(b"conntrack v")), b"")
    return bool(_EVENT.match(first) and b"src=" in first)


TRACKED = Reader("Linux connection tracking", _knows, _read)
