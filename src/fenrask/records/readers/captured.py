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

from fenrask.records.batch import BEYOND, FLAGGED, IDLE, OPEN, UDP_ONE_WAY, UNANSWERED, Batch
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.following import ACK, FIN, RST, SYN, UDP, Slots, by_time, ends_of

__all__ = ["CAPTURED", "datagrams_from"]

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
            length = None if is_wrong else _learned(waiting, at, known)
            if is_wrong or length == 0:
                source.unread.add("a block longer than any", source.name)
                return
            if length is None and not used:
                break
            at += length or 0
        waiting = waiting[at:]
        if not part:
            break
    if waiting:
        source.unread.add("a block cut short", source.name)


def _learned(content: bytes, at: int, known: _Interfaces) -> int | None:
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


def datagrams_from(source: Source, port: int) -> Iterator[bytes]:
    """What datagrams of UDP from a port carry, of those that were captured whole."""
    from fenrask.records.kernels.packets import decoded

    for piece in _pieces(source):
        keys, _, _, _, begins = decoded(piece.content, piece.places, piece.sizes, piece.links)
        ports = keys[:, 4]
        is_from = (ports >> np.uint64(32) & np.uint64(0xFF) == UDP) & (
            ports >> np.uint64(16) & np.uint64(0xFFFF) == port
        )
        for row in np.flatnonzero(is_from).tolist():
            begin, end = int(begins[row]), int(piece.places[row] + piece.sizes[row])
            [length] = struct.unpack(">H", piece.content[begin + 4 : begin + 6].tobytes().rjust(2, b"\0"))
            if 8 < length <= end - begin:
                yield piece.content[begin + 8 : begin + length].tobytes()


def _read(source: Source) -> Iterator[Batch]:
    from fenrask.records.kernels.packets import CONNECTION, decoded, quiet_s, tracked

    slots, quiet = Slots(CONNECTION, _MOST_FOLLOWED), np.array(astuple(source.quiet))
    since, now = None, 0.0
    for piece in _pieces(source):
        if not piece.times.size:
            continue
        since = float(piece.times[0]) if since is None else since
        now = max(now, float(piece.times.max()))
        keys, flags, octets, numbers, _ = decoded(piece.content, piece.places, piece.sizes, piece.links)
        others = int(np.count_nonzero(keys[:, 4] == 0))
        source.unread.add("frames that are no TCP or UDP over IP", source.name, others)
        done, at = np.empty(piece.times.size, dtype=CONNECTION), 0
        while at < piece.times.size:
            at, slots.free, number, strays = tracked(
                keys, flags, octets, numbers, piece.times, at, slots.array, slots.heads, slots.nexts, slots.free, done,
                since, quiet,
            )  # fmt: skip
            source.unread.add("packets with a RST of no connection that was seen", source.name, strays)
            yield from _batches(done[:number], None)
            if at < piece.times.size:
                beyond = slots.make_room("last")
                source.unread.add(BEYOND, source.name, beyond.size)
                yield from _batches(beyond, None)
        # What is silent for too long goes: memory stays bounded.
        yield from _batches(
            slots.take_out(slots.used & (now - slots.array["last"] > quiet_s(slots.array, quiet))), None
        )
    yield from _batches(slots.take_out(slots.used), now)


def _batches(found: NDArray[Any], now: float | None) -> Iterator[Batch]:
    """Connections as a batch; now: when the capture ended, of those that had not ended by then."""
    from fenrask.records.kernels import packets
    from fenrask.records.kernels.ends import tcp_endings, udp_endings

    if not found.size:
        return
    found = found[by_time(found["start"])]
    source, target, source_port, target_port, protocol = ends_of(found["key"])

    def has(bit: int) -> NDArray[np.bool_]:
        seen: NDArray[np.bool_] = found["seen"] & np.uint16(bit) != 0
        return seen

    def flags(seen: tuple[tuple[int, int], ...], known: NDArray[np.bool_]) -> NDArray[np.uint16]:
        whole = sum((has(bit) * np.uint16(flag) for bit, flag in seen), np.zeros(found.size, dtype=np.uint16))
        return np.where(known, whole | np.uint16(FLAGGED), 0).astype(np.uint16)

    answered, last = has(packets.ANSWERED), found["last"]
    seen_out = ((packets.SYN, SYN), (packets.ACKED, ACK), (packets.FIN_OUT, FIN), (packets.RST_OUT, RST))
    seen_back = ((packets.REPLIED, SYN), (packets.FIN_BACK, FIN), (packets.RST_BACK, RST))
    out = flags(seen_out, has(packets.SYN) | has(packets.ACKED) | has(packets.RST_OUT))
    rest = np.full(found.size, IDLE if now is None else OPEN)
    tcp = tcp_endings(out, flags(seen_back, answered), answered, rest)
    if now is not None:
        # A SYN so near to the end of the capture may be answered yet.
        tcp = np.where((tcp == UNANSWERED) & (now - last <= _ANSWER_S), OPEN, tcp)
    ending = np.where(protocol == UDP, udp_endings(last - found["start"], answered, UDP_ONE_WAY), tcp).astype(np.uint8)
    yield Batch(
        found["start"], np.where(ending == OPEN, now or 0.0, last), source, target, source_port, target_port, protocol,
        found["out"], found["back"], ending, is_new=has(packets.NEW),
    )  # fmt: skip


def _knows(head: bytes) -> bool:
    return head[:4] in _MAGIC or head[:4] == struct.pack("<I", _SECTION)


CAPTURED = Reader("packet capture", _knows, _read)
