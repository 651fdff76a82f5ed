"""Captures packet by packet: each link, tag and header that leads to TCP or UDP; each way in which connections go."""

import socket
import struct
from typing import Any
from unittest.mock import patch

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
    Batch,
    Unread,
)
from fenrask.records.readers import Quiet, captured, read_records
from tests.support import InFolder

DAY = 1_793_491_200.0
NEAR, FAR = "10.0.1.9", "198.51.100.7"
SYN, SYN_ACK, ACK, FIN, RST, RST_ACK = 2, 18, 16, 17, 4, 20
QUIET = Quiet(350.0, 100.0, 30.0, 40.0, 120.0)
Seen = tuple[float, bool, int, int]
"""When, whether outward, from which port inside, flags of TCP (-1: a datagram)."""


def tcp(outward: bool, port: int, flags: int, number: int = 1) -> bytes:
    """A segment (RFC 9293), or a datagram (RFC 768) where there are no flags."""
    ports = (port, 443) if outward else (443, port)
    if flags < 0:
        return struct.pack(">HHHH", *ports, 8, 0)
    return struct.pack(">HHIIBBHHH", *ports, number, 0, 5 << 4, flags, 65535, 0, 0)


def four(outward: bool, inner: bytes, protocol: int, fragment: int = 0) -> bytes:
    """IPv4 (RFC 791)."""
    ends = [socket.inet_aton(one) for one in ((NEAR, FAR) if outward else (FAR, NEAR))]
    return struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(inner), 0, fragment, 64, protocol, 0) + b"".join(ends) + inner


def six(outward: bool, inner: bytes, protocol: int, extensions: tuple[tuple[int, bytes], ...] = ()) -> bytes:
    """IPv6 (RFC 8200), with extension headers: kind and content without its first byte."""
    ends = [socket.inet_pton(socket.AF_INET6, one) for one in ("2001:db8::9", "2001:db8:f::7")]
    kinds = [kind for kind, _ in extensions] + [protocol]
    chain = b"".join(bytes([after]) + content for (_, content), after in zip(extensions, kinds[1:], strict=True))
    whole = chain + inner
    head = struct.pack(">IHBB", 6 << 28, len(whole), kinds[0], 64)
    return head + b"".join(ends if outward else ends[::-1]) + whole


def pcap(frames: list[tuple[float, bytes]], link: int = 1, order: str = "<", nanoseconds: bool = False) -> bytes:
    unit = 1e9 if nanoseconds else 1e6
    whole = [struct.pack(order + "IHHiIII", 0xA1B23C4D if nanoseconds else 0xA1B2C3D4, 2, 4, 0, 0, 65535, link)]
    for at, frame in frames:
        whole.append(struct.pack(order + "IIII", int(at), round(at % 1 * unit), len(frame), len(frame)) + frame)
    return b"".join(whole)


def ethernet(packet: bytes, *tags: int) -> bytes:
    kind = 0x0800 if packet[0] >> 4 == 4 else 0x86DD
    return b"\2" * 12 + b"".join(struct.pack(">HH", tag, 7) for tag in tags) + struct.pack(">H", kind) + packet


def cooked(packet: bytes) -> bytes:
    """Linux cooked frames, version 1: type, address type, length, address, protocol."""
    return struct.pack(">HHH8sH", 0, 1, 6, b"\2" * 8, 0x0800) + packet


def cooked_2(packet: bytes) -> bytes:
    """Version 2: protocol, reserved, interface, address type, type, length, address."""
    return struct.pack(">HHIHBB8s", 0x0800, 0, 3, 1, 0, 6, b"\2" * 8) + packet


def newness(batch: Batch) -> list[bool]:
    return [True] * len(batch) if batch.is_new is None else batch.is_new.tolist()


class Captures(InFolder):
    def connections(self, content: bytes) -> tuple[list[tuple[int, int, float, float, bool]], Unread]:
        """Inner port, ending, seconds from the first packet's to the last, and whether its beginning was seen."""
        (self.folder / "c.pcap").write_bytes(content)
        unread = Unread({})
        _, _, batches = read_records(str(self.folder / "c.pcap"), unread, quiet=QUIET)
        found = [
            (int(port), int(ending), round(float(start) - DAY, 3), round(float(end) - DAY, 3), is_new)
            for b in batches
            for port, ending, start, end, is_new in zip(
                b.source_port, b.ending, b.start_s, b.end_s, newness(b), strict=True
            )
        ]
        return sorted(found), unread

    def test_every_link_tag_and_header(self) -> None:
        def frames(wrap: Any, packet: Any = four, *more: Any) -> list[tuple[float, bytes]]:
            seen = [(0.0, True, SYN), (0.1, False, SYN_ACK), (0.2, True, FIN), (0.3, False, FIN)]
            return [(DAY + at, wrap(packet(out, tcp(out, 5000, flags), 6, *more))) for at, out, flags in seen]

        hop, fragment = (0, bytes([0]) + b"\0" * 6), (44, b"\0" * 7)
        routing = (43, bytes([1]) + b"\0" * 14)
        cases = {
            "ethernet": pcap(frames(ethernet)),
            "a tag": pcap(frames(lambda one: ethernet(one, 0x8100))),
            "stacked tags": pcap(frames(lambda one: ethernet(one, 0x88A8, 0x8100))),
            "three tags": pcap(frames(lambda one: ethernet(one, 0x9100, 0x8100, 0x8100))),
            "cooked": pcap(frames(cooked), 113),
            "cooked 2": pcap(frames(cooked_2), 276),
            "raw": pcap(frames(bytes), 101),
            "loopback": pcap(frames(lambda one: b"\2\0\0\0" + one), 0),
            "big end first": pcap(frames(ethernet), order=">"),
            "nanoseconds": pcap(frames(ethernet), nanoseconds=True),
            "six": pcap(frames(ethernet, six)),
            "six with headers": pcap(frames(ethernet, six, (hop, routing, fragment))),
        }
        for name, content in cases.items():
            with self.subTest(name):
                found, unread = self.connections(content)
                self.assertEqual(found, [(5000, CLOSED, 0.0, 0.3, True)])
                self.assertEqual(unread.reasons, {})
        others = [
            ethernet(b"\x45" + b"\0" * 30),
            b"\2" * 12 + b"\x08\x06" + b"\0" * 40,
            b"short",
            ethernet(four(True, tcp(True, 1, SYN), 6, 3)),
        ]
        found, unread = self.connections(pcap([(DAY, one) for one in others]))
        self.assertEqual((found, [n for n, _ in unread.reasons.values()]), ([], [4]))

    def test_every_ending(self) -> None:
        cases: dict[str, tuple[list[tuple[float, bool, int]], list[tuple[int, float, float, bool]]]] = {
            "closed, with its last answer": (
                [(0, True, SYN), (0.1, False, SYN_ACK), (1, True, FIN), (1.1, False, FIN), (1.2, True, ACK)],
                [(CLOSED, 0, 1.2, True)],
            ),
            "a SYN sent again is no connection": (
                [(0, True, SYN), (1, True, SYN), (3, True, SYN), (3, False, SYN_ACK), (4, False, FIN), (5, True, FIN)],
                [(CLOSED, 0, 5, True)],
            ),
            "never answered": ([(0, True, SYN), (1, True, SYN), (3, True, SYN)], [(UNANSWERED, 0, 3, True)]),
            "rejected": ([(0, True, SYN), (0.1, False, RST_ACK)], [(REJECTED, 0, 0.1, True)]),
            "reset by this end": ([(0, True, SYN), (0.1, False, SYN_ACK), (2, True, RST)], [(RESET, 0, 2, True)]),
            "reset by the other, and what comes after": (
                [(0, True, SYN), (0.1, False, SYN_ACK), (2, False, RST), (2.1, True, ACK), (2.2, False, RST)],
                [(RESET, 0, 2, True)],
            ),
            "closed by one end": (
                [(0, True, SYN), (0.1, False, SYN_ACK), (2, False, FIN), (2.1, True, ACK)],
                [(HALF_CLOSED, 0, 2.1, True)],
            ),
            "its ports again": (
                [(0, True, SYN), (0, False, SYN_ACK), (1, True, FIN), (1, False, FIN), (2, True, SYN), (2, False, RST)],
                [(CLOSED, 0, 1, True), (REJECTED, 2, 2, True)],
            ),
            "silent for longer than a port is kept": (
                [(0, True, SYN), (0.1, False, SYN_ACK), (400, True, ACK)],
                [(IDLE, 0, 0.1, True), (OPEN, 400, 500, True)],
            ),
            "open at the end": (
                [(300, True, SYN), (300.1, False, SYN_ACK), (301, True, ACK)], [(OPEN, 300, 500, True)]
            ),
            "open before": (
                [(1, True, ACK), (1.1, False, ACK), (2, True, FIN), (2.1, False, FIN)], [(CLOSED, 1, 2.1, False)]
            ),
            "open before, by an answer first": ([(1, False, ACK), (1.1, False, FIN)], [(CLOSED, 1, 1.1, False)]),
            "one direction alone": ([(0, True, SYN), (0.2, True, ACK), (3, True, FIN)], [(CLOSED, 0, 3, True)]),
            "a datagram": ([(5, True, -1)], [(UDP_ONE_WAY, 5, 5, True)]),
            "one answered": ([(5, True, -1), (5.2, False, -1)], [(UDP_ANSWERED, 5, 5.2, True)]),
            "a stream, and one more": (
                [*((at, at % 2 == 0, -1) for at in range(6)), (200, True, -1)],
                [(UDP_STREAMING, 0, 5, True), (UDP_ONE_WAY, 200, 200, True)],
            ),
            "two with nobody there, since a port is not kept": (
                [(0, True, -1), (31, True, -1)], [(UDP_ONE_WAY, 0, 0, True), (UDP_ONE_WAY, 31, 31, True)]
            ),
        }  # fmt: skip
        for name, (seen, expected) in cases.items():
            packets = [
                (DAY + at, ethernet(four(out, tcp(out, 5000, flags, 9), 17 if flags < 0 else 6)))
                for at, out, flags in seen
            ]
            # Something else ends the capture.
            last = (DAY + 500, ethernet(four(True, tcp(True, 6000, -1), 17)))
            found, _ = self.connections(pcap([*packets, last]))
            with self.subTest(name):
                self.assertEqual(sorted(one[1:] for one in found if one[0] == 5000), sorted(expected))

    def test_a_new_connection_on_the_ports_of_one_that_was_not_seen_to_end(self) -> None:
        """Its SYN has another number; the same one again would be sent again."""
        seen = [(0, True, SYN, 9), (1, False, SYN_ACK, 5), (9, True, SYN, 77), (9.1, False, SYN_ACK, 6)]
        for number, expected in ((77, 2), (9, 1)):
            packets = [
                (DAY + at, ethernet(four(out, tcp(out, 5000, flags, number if at == 9 else first), 6)))
                for at, out, flags, first in seen
            ]
            self.assertEqual(len(self.connections(pcap(packets))[0]), expected)

    def test_more_connections_at_once_than_there_was_room_for(self) -> None:
        """And pieces of the file that end within a packet."""
        packets = [
            (DAY + n * 1e-4, ethernet(four(True, tcp(True, 1024 + n % 60_000, SYN if n < 60_000 else ACK), 6)))
            for n in range(90_000)
        ]
        packets.append((DAY + 20, ethernet(four(True, tcp(True, 99, -1), 17))))
        found, unread = self.connections(pcap(packets))
        self.assertEqual((len(found), unread.reasons), (60_001, {}))
        # Thirty thousand were heard of again.
        self.assertEqual([sum(one[1] == end for one in found) for end in (OPEN, UNANSWERED)], [30_000, 30_000])

    def test_no_more_is_followed_than_there_is_memory_for(self) -> None:
        """Each connection counts once all the same, and what was ended for it is told."""
        packets = [(DAY + n * 1e-4, ethernet(four(True, tcp(True, 1024 + n, SYN), 6))) for n in range(40_000)]
        with patch.object(captured, "_MOST_FOLLOWED", 1 << 14):
            found, unread = self.connections(pcap(packets))
        self.assertEqual(len(found), 40_000)
        self.assertGreater(unread.reasons[BEYOND][0], 10_000)

    def test_interfaces_between_many_packets(self) -> None:
        """More packets than are looked at before the next interface is looked for; two units of time."""

        def block(kind: int, body: bytes) -> bytes:
            body += b"\0" * (-len(body) % 4)
            return struct.pack("<II", kind, 12 + len(body)) + body + struct.pack("<I", 12 + len(body))

        whole = [block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))]
        for number, unit in enumerate((6, 9)):
            whole.append(block(1, struct.pack("<HHI", 1, 0, 0) + struct.pack("<HHB3xHH", 9, 1, unit, 0, 0)))
            for n in range(70_000):
                frame = ethernet(four(True, tcp(True, 1024 + n % 60_000, -1), 17))
                ticks = round((DAY + 1000 * number + n * 1e-3) * 10**unit)
                head = struct.pack("<IIIII", number, ticks >> 32, ticks & 0xFFFFFFFF, len(frame), len(frame))
                whole.append(block(6, head + frame))
        found, unread = self.connections(b"".join(whole))
        self.assertEqual(unread.reasons, {})
        # 60,000 ports, of which 10,000 are there again within 60 s: two ways of which none is kept for so long.
        self.assertEqual(sum(one[2] >= 1000 for one in found), 70_000)
        self.assertEqual(len(found), 140_000)
