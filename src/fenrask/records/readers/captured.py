"""Packet captures (pcap, pcapng): connections rebuilt from SYN, FIN and RST, and from gaps of silence.

IPv4 and IPv6 over Ethernet, raw IP and Linux cooked frames; TCP and UDP. A connection is its two ends; it ends with a
RST, with a FIN of either side and the silence after it, or with a gap; a SYN on one that is there begins a new one.
Bytes are those of IP packets, out from who began it.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fenrask.records.batch import CLOSED, IDLE, RESET, UNKNOWN, Addresses, Batch
from fenrask.records.readers.contract import Reader, Source

__all__ = ["CAPTURED"]

_GAP_S = {6: 3600.0, 17: 60.0}
_FIN_S = 60.0
_MAGIC = {
    b"\xd4\xc3\xb2\xa1": ("<", 1e6),
    b"\xa1\xb2\xc3\xd4": (">", 1e6),
    b"\x4d\x3c\xb2\xa1": ("<", 1e9),
    b"\xa1\xb2\x3c\x4d": (">", 1e9),
}
_SECTION, _INTERFACE, _SIMPLE, _ENHANCED = 0x0A0D0D0A, 1, 3, 6
_MOST = 1 << 18
_BATCH = 20_000
_LOOKED_OVER = 100_000
_FIN, _SYN, _RST = 1, 2, 4

Frame = tuple[float, int, bytes]
"""Time, link type, bytes."""


def _frames(source: Source) -> Iterator[Frame]:
    stream = source.stream
    head = stream.read(4)
    if head in _MAGIC:
        yield from _classic(source, *_MAGIC[head])
    elif head == struct.pack("<I", _SECTION):
        yield from _blocks(source, head)


def _classic(source: Source, order: str, unit: float) -> Iterator[Frame]:
    stream = source.stream
    rest = stream.read(20)
    if len(rest) < 20:
        source.unread.add("a capture cut short", source.name)
        return
    link = struct.unpack(order + "HHiIII", rest)[5] & 0xFFFF
    while head := stream.read(16):
        if len(head) < 16:
            source.unread.add("a packet cut short", source.name)
            return
        seconds, part, kept, _ = struct.unpack(order + "IIII", head)
        if kept > _MOST:
            source.unread.add("a packet longer than any", source.name)
            return
        content = stream.read(kept)
        if len(content) < kept:
            source.unread.add("a packet cut short", source.name)
            return
        yield seconds + part / unit, link, content


def _blocks(source: Source, head: bytes) -> Iterator[Frame]:
    """pcapng: blocks, each with its length before and after; interfaces say their link and their unit of time."""
    stream, order = source.stream, "<"
    links: list[tuple[int, float]] = []
    while len(head) == 4:
        lengths = stream.read(4)
        if len(lengths) < 4:
            break
        kind = struct.unpack(order + "I", head)[0]
        body = b""
        if kind == _SECTION:
            magic = stream.read(4)
            order = "<" if magic == struct.pack("<I", 0x1A2B3C4D) else ">"
            links, body = [], magic
        length = struct.unpack(order + "I", lengths)[0]
        if not 12 <= length <= _MOST:
            source.unread.add("a block longer than any", source.name)
            return
        body += stream.read(length - 12 - len(body))
        if len(body) < length - 12 or len(stream.read(4)) < 4:
            source.unread.add("a block cut short", source.name)
            return
        if kind == _INTERFACE and len(body) >= 8:
            links.append((struct.unpack(order + "H", body[:2])[0], _unit(body[8:], order)))
        elif kind == _ENHANCED and len(body) >= 20:
            interface, high, low, kept, _ = struct.unpack(order + "IIIII", body[:20])
            if interface < len(links):
                link, unit = links[interface]
                yield ((high << 32) | low) * unit, link, body[20 : 20 + kept]
        head = stream.read(4)


def _unit(options: bytes, order: str) -> float:
    """An interface's unit of time, s: by its option 9, else microseconds."""
    at = 0
    while at + 4 <= len(options):
        code, size = struct.unpack(order + "HH", options[at : at + 4])
        if code == 9 and size:
            value = options[at + 4]
            return float(2.0 ** -(value & 0x7F) if value & 0x80 else 10.0**-value)
        if not code:
            break
        at += 4 + size + -size % 4
    return 1e-6


@dataclass
class _Connection:
    start: float
    last: float
    out: int = 0
    back: int = 0
    fins: int = 0
    reset: bool = False


Key = tuple[int, int, int, int, int, int]
"""IP version, protocol, and both ends of who began it."""


def _read(source: Source) -> Iterator[Batch]:
    live: dict[Key, _Connection] = {}
    done: list[tuple[Key, _Connection]] = []
    for number, (time, link, content) in enumerate(_frames(source)):
        if number % _LOOKED_OVER == _LOOKED_OVER - 1:
            # What has been silent for too long is over: memory stays bounded.
            old = [key for key, one in live.items() if time - one.last > (_FIN_S if one.fins else _GAP_S[key[1]])]
            done += [(key, live.pop(key)) for key in old]
        found = _packet(link, content)
        if found is None:
            source.unread.add("frames that are no TCP or UDP over IP", source.name)
            continue
        version, protocol, ends, flags, size = found
        key: Key = (version, protocol, *ends)
        back: Key = (version, protocol, ends[2], ends[3], ends[0], ends[1])
        forward = back not in live
        one = live.get(key if forward else back)
        over = one is not None and (time - one.last > (_FIN_S if one.fins else _GAP_S[protocol]))
        begins = one is not None and flags & _SYN and not flags & 16 and time - one.start > 1.0
        if one is not None and (over or begins):
            done.append((key if forward else back, one))
            del live[key if forward else back]
            one, forward = None, True
        if one is None:
            # A capture that begins in the middle: who sends from the higher port is taken to have begun it.
            forward = bool(flags & _SYN and not flags & 16) or (not flags & _SYN and ends[1] >= ends[3])
            one = live[key if forward else back] = _Connection(time, time)
        one.last = time
        one.fins += bool(flags & _FIN)
        if forward:
            one.out += size
        else:
            one.back += size
        if flags & _RST:
            one.reset = True
            done.append((key if forward else back, live.pop(key if forward else back)))
        if len(done) >= _BATCH:
            yield _batch(done)
            done = []
    if rest := [*done, *live.items()]:
        yield _batch(rest)


def _packet(link: int, content: bytes) -> tuple[int, int, tuple[int, int, int, int], int, int] | None:
    """Version, protocol, both ends, TCP flags and length of an IP packet; None for anything else."""
    at = {1: 14, 101: 0, 12: 0, 113: 16, 228: 0, 229: 0}.get(link)
    if at is None or len(content) < at + 20:
        return None
    if link == 1 and content[12:14] == b"\x81\x00":
        at += 4
    version = content[at] >> 4
    if version == 4:
        size, protocol = struct.unpack(">H", content[at + 2 : at + 4])[0], content[at + 9]
        inner = at + (content[at] & 15) * 4
        source, target = (int.from_bytes(content[at + n : at + n + 4], "big") for n in (12, 16))
        if struct.unpack(">H", content[at + 6 : at + 8])[0] & 0x1FFF:
            return None
    elif version == 6 and len(content) >= at + 40:
        size, protocol = 40 + struct.unpack(">H", content[at + 4 : at + 6])[0], content[at + 6]
        inner = at + 40
        source, target = (int.from_bytes(content[at + n : at + n + 16], "big") for n in (8, 24))
    else:
        return None
    if protocol not in _GAP_S or len(content) < inner + (14 if protocol == 6 else 4):
        return None
    sport, dport = struct.unpack(">HH", content[inner : inner + 4])
    flags = content[inner + 13] if protocol == 6 else 0
    return version, protocol, (source, sport, target, dport), flags, size


def _batch(found: list[tuple[Key, _Connection]]) -> Batch:
    n = len(found)
    ends = [key[2:] for key, _ in found]

    def addresses(place: int) -> Addresses:
        four = np.array(
            [end[place] if key[0] == 4 else 0 for (key, _), end in zip(found, ends, strict=True)], dtype=np.uint32
        )
        six = tuple((row, ends[row][place]) for row, (key, _) in enumerate(found) if key[0] == 6)
        return Addresses(four, six)

    ending = [RESET if one.reset else CLOSED if one.fins else IDLE if key[1] == 6 else UNKNOWN for key, one in found]
    return Batch(
        np.array([one.start for _, one in found]).reshape(n), np.array([one.last for _, one in found]).reshape(n),
        addresses(0), addresses(2),
        np.array([end[1] for end in ends], dtype=np.uint16),
        np.array([end[3] for end in ends], dtype=np.uint16),
        np.array([key[1] for key, _ in found], dtype=np.uint8),
        np.array([one.out for _, one in found], dtype=np.int64),
        np.array([one.back for _, one in found], dtype=np.int64),
        np.array(ending, dtype=np.uint8),
    )  # fmt: skip


def _knows(head: bytes) -> bool:
    return head[:4] in _MAGIC or head[:4] == struct.pack("<I", _SECTION)


CAPTURED = Reader("packet capture", _knows, _read)
