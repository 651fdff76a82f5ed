"""Packet captures (pcap, pcapng): connections rebuilt from SYN, FIN and RST, and from gaps of silence.

IPv4 and IPv6 over Ethernet (with tags of VLANs, be they stacked), raw IP and Linux cooked frames of both versions; TCP
and UDP. A connection is its two ends; it ends with its last packet. The same SYN again is a try again, no connection
more; one after a FIN of both sides, or a RST, begins a new one. Bytes are those of IP packets, out from who began it.
"""

import struct
from collections.abc import Iterator
from dataclasses import astuple, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import (
    BEYOND,
    CLOSED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    UDP_ANSWERED,
    UDP_ONE_WAY,
    UDP_STREAMING,
    UNANSWERED,
    Addresses,
    Batch,
)
from fenrask.records.readers.contract import Quiet, Reader, Source

__all__ = ["CAPTURED"]

_MAGIC = {
    b"\xd4\xc3\xb2\xa1": (False, 1e6),
    b"\xa1\xb2\xc3\xd4": (True, 1e6),
    b"\x4d\x3c\xb2\xa1": (False, 1e9),
    b"\xa1\xb2\x3c\x4d": (True, 1e9),
}
_SECTION, _INTERFACE = 0x0A0D0D0A, 1
_MOST = 1 << 18
_PIECE = 1 << 22
"""Bytes that are read at once."""
_ANSWER_S = 3.0
"""Within which a SYN is answered, if it is: one so near to the end of a capture may still be."""
_ROOM = 1 << 14
_MOST_FOLLOWED = 1 << 22
"""Connections at once; a third of a gigabyte."""


@dataclass
class _Interfaces:
    """What pcapng says of where packets were seen."""

    big: bool = False
    links: list[int] = field(default_factory=list)
    units: list[float] = field(default_factory=list)

    def learn(self, kind: int, body: bytes) -> None:
        """A block that tells of a section or an interface."""
        order = ">" if self.big else "<"
        if kind == _SECTION:
            self.links, self.units = [], []
        elif kind == _INTERFACE and len(body) >= 8:
            self.links.append(struct.unpack(order + "H", body[:2])[0])
            self.units.append(_unit(body[8:], order))


@dataclass
class _Piece:
    """Some packets of a file: the bytes that hold them, and where each is, when it was seen, and over what link."""

    content: NDArray[np.uint8]
    places: NDArray[np.int64]
    sizes: NDArray[np.int64]
    times: NDArray[np.float64]
    links: NDArray[np.int64]


def _pieces(source: Source) -> Iterator[_Piece]:
    head = source.stream.read(4)
    if head in _MAGIC:
        yield from _classic(source, *_MAGIC[head])
    elif head == struct.pack("<I", _SECTION):
        yield from _blocks(source, head)


def _classic(source: Source, big: bool, unit: float) -> Iterator[_Piece]:
    from fenrask.records.kernels.packets import classic

    rest = source.stream.read(20)
    if len(rest) < 20:
        source.unread.add("a capture cut short", source.name)
        return
    link = struct.unpack((">" if big else "<") + "HHiIII", rest)[5] & 0xFFFF
    waiting = b""
    while part := source.stream.read(_PIECE):
        content = np.frombuffer(waiting + part, dtype=np.uint8)
        places, sizes, times, at, is_wrong = classic(content, big, unit, _MOST)
        yield _Piece(content, places, sizes, times, np.full(places.size, link, dtype=np.int64))
        waiting = content[at:].tobytes()
        if is_wrong:
            source.unread.add("a packet longer than any", source.name)
            return
    if waiting:
        source.unread.add("a packet cut short", source.name)


def _blocks(source: Source, head: bytes) -> Iterator[_Piece]:
    """pcapng: blocks, each with its length before and after; interfaces say their link and their unit of time."""
    from fenrask.records.kernels.packets import enhanced

    known, waiting = _Interfaces(), head
    while True:
        part = source.stream.read(_PIECE)
        waiting += part
        at = 0
        while at + 12 <= len(waiting):
            content = np.frombuffer(waiting, dtype=np.uint8)[at:]
            links, units = np.array(known.links, dtype=np.int64), np.array(known.units, dtype=np.float64)
            places, sizes, times, kinds, used, is_wrong = enhanced(content, known.big, links, units, _MOST)
            if places.size:
                yield _Piece(content, places, sizes, times, kinds)
            at += used
            told = None if is_wrong else _told(waiting, at, known)
            if is_wrong or told == 0:
                source.unread.add("a block longer than any", source.name)
                return
            if told is None and not used:
                break
            at += told or 0
        waiting = waiting[at:]
        if not part:
            break
    if waiting:
        source.unread.add("a block cut short", source.name)


def _told(content: bytes, at: int, known: _Interfaces) -> int | None:
    """Learn from the block there, of a section or an interface: its length, 0 for none; None: it is not all there."""
    head = content[at : at + 12]
    if len(head) < 12:
        return None
    if head[:4] == struct.pack("<I", _SECTION):
        known.big = head[8:12] != struct.pack("<I", 0x1A2B3C4D)
    kind, length = struct.unpack((">" if known.big else "<") + "II", head[:8])
    if kind not in (_SECTION, _INTERFACE):
        return None
    if not 12 <= length <= _MOST:
        return 0
    if len(content) < at + length:
        return None
    known.learn(kind, content[at + 8 : at + length - 4])
    return int(length)


def _unit(options: bytes, order: str) -> float:
    """An interface's unit of time, s: by its option 9, else microseconds."""
    at = 0
    while at + 4 <= len(options):
        code, size = struct.unpack(order + "HH", options[at : at + 4])
        if code == 9 and size and at + 4 < len(options):
            value = options[at + 4]
            return float(2.0 ** -(value & 0x7F) if value & 0x80 else 10.0**-value)
        if not code:
            break
        at += 4 + size + -size % 4
    return 1e-6


class _Followed:
    """The connections that are followed, packet after packet."""

    def __init__(self, quiet: Quiet) -> None:
        from fenrask.records.kernels.packets import CONNECTION

        self.quiet, self.left = np.array(astuple(quiet)), 0
        self.slots = np.zeros(_ROOM, dtype=CONNECTION)
        self._relink()

    def _relink(self) -> None:
        from fenrask.records.kernels.ends import linked

        self.heads, self.nexts = np.empty(2 * self.slots.size, np.int64), np.empty(self.slots.size, np.int64)
        self.free = linked(self.slots, self.heads, self.nexts)

    def take(self, piece: _Piece, begun_s: float) -> Iterator[NDArray[Any]]:
        """Follow some packets: the connections that are over, and how many packets are none of TCP or UDP."""
        from fenrask.records.kernels.packets import decoded, tracked

        keys, flags, octets, numbers = decoded(piece.content, piece.places, piece.sizes, piece.links)
        self.others = int(np.count_nonzero(keys[:, 4] == 0))
        done, at = np.empty(piece.times.size, dtype=self.slots.dtype), 0
        while at < piece.times.size:
            at, self.free, number, strays = tracked(
                keys, flags, octets, numbers, piece.times, at, self.slots, self.heads, self.nexts, self.free, done,
                begun_s, self.quiet,
            )  # fmt: skip
            self.strays = strays
            yield done[:number].copy()
            if at < piece.times.size and self.slots.size < _MOST_FOLLOWED:
                self.slots = np.concatenate([self.slots, np.zeros_like(self.slots)])
                self._relink()
            elif at < piece.times.size:
                # No memory for more: the half that is silent for longest ends.
                old = self.slots["last"] <= np.median(self.slots["last"])
                self.left += int(np.count_nonzero(old))
                yield self.slots[old]
                self.slots["used"][old] = 0
                self._relink()

    def swept(self, now: float) -> NDArray[Any]:
        """Those that have been silent for too long: memory stays bounded."""
        from fenrask.records.kernels.packets import quiet_s

        old = (self.slots["used"] == 1) & (now - self.slots["last"] > quiet_s(self.slots, self.quiet))
        found: NDArray[Any] = self.slots[old]
        self.slots["used"][old] = 0
        self._relink()
        return found

    def rest(self) -> NDArray[Any]:
        """Those that are followed still."""
        found: NDArray[Any] = self.slots[self.slots["used"] == 1]
        return found


def _read(source: Source) -> Iterator[Batch]:
    followed, begun, now = _Followed(source.quiet), None, 0.0
    for piece in _pieces(source):
        if not piece.times.size:
            continue
        begun = float(piece.times[0]) if begun is None else begun
        now = max(now, float(piece.times.max()))
        for done in followed.take(piece, begun):
            yield from _batches(done, None)
            source.unread.add("packets with a RST of no connection that was seen", source.name, followed.strays)
        source.unread.add("frames that are no TCP or UDP over IP", source.name, followed.others)
        yield from _batches(followed.swept(now), None)
    source.unread.add(BEYOND, source.name, followed.left)
    yield from _batches(followed.swept(now), None)
    yield from _batches(followed.rest(), now)


def _batches(found: NDArray[Any], now: float | None) -> Iterator[Batch]:
    """Connections as a batch; now: when the capture ended, of those that were not over then."""
    if not found.size:
        return
    found = found[np.argsort(found["start"], kind="stable")]
    key = found["key"]
    version, protocol = key[:, 4] >> np.uint64(40), key[:, 4] >> np.uint64(32) & np.uint64(0xFF)
    six = np.flatnonzero(version == 6).tolist()

    def addresses(place: int) -> Addresses:
        four = np.where(version == 4, key[:, place + 1], 0).astype(np.uint32)
        return Addresses(four, tuple((row, int(key[row, place]) << 64 | int(key[row, place + 1])) for row in six))

    ports, seen, is_udp = key[:, 4], found["seen"], protocol == 17
    ending = _endings(found, is_udp, now)
    end = np.where((ending == OPEN) & (now is not None), now or 0.0, found["last"])
    yield Batch(
        found["start"].copy(), end, addresses(0), addresses(2),
        (ports >> np.uint64(16) & np.uint64(0xFFFF)).astype(np.uint16),
        (ports & np.uint64(0xFFFF)).astype(np.uint16),
        protocol.astype(np.uint8), found["out"].copy(), found["back"].copy(),
        ending, begun=_has(seen, "BEGUN"),
    )  # fmt: skip


def _has(seen: NDArray[np.uint16], *names: str) -> NDArray[np.bool_]:
    """Of which connections any of these was seen."""
    from fenrask.records.kernels import packets

    bits = sum(int(getattr(packets, name)) for name in names)
    found: NDArray[np.bool_] = seen & np.uint16(bits) != 0
    return found


def _endings(found: NDArray[Any], is_udp: NDArray[np.bool_], now: float | None) -> NDArray[np.uint8]:
    """How connections ended; of one direction alone nothing is said of the other's silence."""
    from fenrask.records.kernels.packets import STREAM_S

    seen, last = found["seen"], found["last"]
    out, back = _has(seen, "FIN_OUT"), _has(seen, "FIN_BACK")
    answered, replied, acked = (_has(seen, one) for one in ("ANSWERED", "REPLIED", "ACKED"))
    quiet = np.inf if now is None else now - last
    # What was over before the capture ended was silent for long, or another one began at the same ends.
    rest = np.full(last.size, IDLE if now is None else OPEN)
    syn_alone = _has(seen, "SYN") & ~acked
    tcp = np.select(
        [
            _has(seen, "RST_BACK") & syn_alone & ~replied,
            _has(seen, "RST_OUT", "RST_BACK"),
            out & back | (out & ~answered) | (back & ~acked),
            out | back,
            syn_alone & ~answered & (quiet > _ANSWER_S),
        ],
        [REJECTED, RESET, CLOSED, HALF_CLOSED, UNANSWERED],
        rest,
    )
    streams = last - found["start"] > STREAM_S
    udp = np.where(answered, np.where(streams, UDP_STREAMING, UDP_ANSWERED), UDP_ONE_WAY)
    chosen: NDArray[np.uint8] = np.where(is_udp, udp, tcp).astype(np.uint8)
    return chosen


def _knows(head: bytes) -> bool:
    return head[:4] in _MAGIC or head[:4] == struct.pack("<I", _SECTION)


CAPTURED = Reader("packet capture", _knows, _read)
