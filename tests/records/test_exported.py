"""What exporters say of connections: times and volumes in every way, samples, pieces, both directions, doubled ones."""

import random
import struct
from dataclasses import dataclass
from typing import Any
from unittest.mock import patch

import numpy as np

from fenrask.records.batch import (
    BEYOND,
    CLOSED,
    HALF_CLOSED,
    REJECTED,
    RESET,
    UDP_ALONE,
    UDP_ANSWERED,
    UDP_ONE_WAY,
    UDP_STREAMING,
    UNANSWERED,
    Batch,
    Unread,
)
from fenrask.records.matching import Pairs
from fenrask.records.readers import Quiet, gathering, read_records
from fenrask.records.summary import Summary
from fenrask.records.tallying import summarised
from tests.support import InFolder

DAY = 1_793_491_200
NEAR, FAR = 0x0A000109, 0xC6336407
ENDS = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1)]
SYN, ACK, FIN, RST = 2, 16, 1, 4
REVERSE = 29305


def message(sets: bytes, sequence: int = 0, domain: int = 3, at: int = DAY + 9000) -> bytes:
    return struct.pack(">HHIII", 10, 16 + len(sets), at, sequence, domain) + sets


def template(fields: list[tuple[int, ...]], number: int = 256, scopes: int = 0) -> bytes:
    """A template set, or (scopes) one of options; a third number of a field is its enterprise."""
    each = b"".join(
        struct.pack(">HH", *one) if len(one) == 2 else struct.pack(">HHI", one[0] | 0x8000, one[1], one[2])
        for one in fields
    )
    head = struct.pack(">HH", number, len(fields)) + (struct.pack(">H", scopes) if scopes else b"")
    return struct.pack(">HH", 3 if scopes else 2, 4 + len(head) + len(each)) + head + each


def data(rows: list[bytes], number: int = 256) -> bytes:
    return struct.pack(">HH", number, 4 + sum(map(len, rows))) + b"".join(rows)


def ends(outward: bool = True, port: int = 5000, protocol: int = 6) -> bytes:
    sides = (NEAR, FAR, port, 443) if outward else (FAR, NEAR, 443, port)
    return struct.pack(">IIHHB", *sides, protocol)


def ntp(seconds: float) -> int:
    """A time with a fraction of 2^32 parts, from 1900 (RFC 5905)."""
    return int(seconds) + 2_208_988_800 << 32 | round(seconds % 1 * 2**32)


@dataclass
class Truth:
    """A connection as it was: when, what each side sent, and how it ended."""

    start: float
    end: float
    port: int
    protocol: int
    out: int
    back: int
    flags: tuple[int, int]
    ending: int


class Exported(InFolder):
    def read(self, content: bytes) -> tuple[list[Batch], Unread]:
        (self.folder / "x.ipfix").write_bytes(content)
        unread = Unread({})
        _, _, found = read_records(str(self.folder / "x.ipfix"), unread, quiet=Quiet(350.0, 100.0, 30.0, 60.0, 120.0))
        return list(found), unread

    def one(self, fields: list[tuple[int, ...]], row: bytes, at: int = DAY + 9000) -> tuple[Batch, Unread]:
        batches, unread = self.read(message(template(fields) + data([row]), at=at))
        [batch] = batches
        return batch, unread

    def test_every_way_to_say_when(self) -> None:
        start, end = DAY + 100.25, DAY + 107.75
        ago = [round((DAY + 9000 - one) * 1e6) for one in (start, end)]
        cases: dict[str, tuple[list[tuple[int, int]], bytes]] = {
            "seconds": ([(150, 4), (151, 4)], struct.pack(">II", int(start), int(end))),
            "milliseconds": ([(152, 8), (153, 8)], struct.pack(">QQ", round(start * 1e3), round(end * 1e3))),
            "microseconds": ([(154, 8), (155, 8)], struct.pack(">QQ", ntp(start), ntp(end))),
            "nanoseconds": ([(156, 8), (157, 8)], struct.pack(">QQ", ntp(start), ntp(end))),
            "before the export": ([(158, 4), (159, 4)], struct.pack(">II", *(one & 0xFFFFFFFF for one in ago))),
            "how long, ms": ([(152, 8), (161, 4)], struct.pack(">QI", round(start * 1e3), 7500)),
            "how long, us": ([(162, 4), (153, 8)], struct.pack(">IQ", 7_500_000, round(end * 1e3))),
            "since it began": ([(160, 8), (22, 4), (21, 4)], struct.pack(">QII", DAY * 1000, 100_250, 107_750)),
        }
        for name, (fields, times) in cases.items():
            if name == "before the export":
                start, end = DAY + 8000.25, DAY + 8007.75
                times = struct.pack(">II", *(round((DAY + 9000 - one) * 1e6) for one in (start, end)))
            batch, _ = self.one([*ENDS, *fields], ends() + times)
            with self.subTest(name):
                exact = 1.0 if name == "seconds" else 1e-3
                self.assertAlmostEqual(float(batch.start_s[0]), start, delta=exact)
                self.assertAlmostEqual(float(batch.end_s[0]), end, delta=exact)
            start, end = DAY + 100.25, DAY + 107.75

    def test_both_directions_in_one_record(self) -> None:
        times = struct.pack(">QQ", DAY * 1000, DAY * 1000 + 500)
        reverse: list[tuple[int, ...]] = [(1, 8), (1, 8, REVERSE), (6, 1), (6, 1, REVERSE)]
        for out, back, sent, answered, ending in (
            (900, 4000, SYN | ACK | FIN, SYN | ACK | FIN, CLOSED),
            (900, 4000, SYN | ACK | FIN, SYN | ACK, HALF_CLOSED),
            (900, 4000, SYN | ACK, SYN | ACK | RST, RESET),
            (60, 40, SYN, RST | ACK, REJECTED),
            (180, 0, SYN, 0, UNANSWERED),
        ):
            row = ends() + times + struct.pack(">QQBB", out, back, sent, answered)
            batch, _ = self.one([*ENDS, (152, 8), (153, 8), *reverse], row)
            with self.subTest(ending=ending):
                self.assertEqual((int(batch.bytes_out[0]), int(batch.bytes_in[0])), (out, back))
                self.assertEqual(int(batch.ending[0]), ending)
        asked = [*ENDS, (152, 8), (153, 8), (231, 8), (232, 8)]
        batch, _ = self.one(asked, ends() + times + struct.pack(">QQ", 77, 88))
        self.assertEqual((int(batch.bytes_out[0]), int(batch.bytes_in[0])), (77, 88))

    def test_what_has_no_time_or_no_addresses_is_counted(self) -> None:
        for fields, row in (([*ENDS, (1, 8)], ends() + bytes(8)), ([(8, 4), (152, 8), (153, 8)], bytes(20))):
            batches, unread = self.read(message(template(fields) + data([row] * 2000)))
            self.assertEqual(batches, [])
            self.assertEqual(sum(number for number, _ in unread.reasons.values()), 2000)

    def summary(self, content: bytes) -> Summary:
        described = self.estate()
        batches, _ = self.read(content)
        return summarised(batches, Pairs(described.estate))

    def test_samples_are_scaled_and_one_in_one_is_everything(self) -> None:
        rows = [ends(port=5000 + n) + struct.pack(">QQQ", DAY * 1000, DAY * 1000 + 10, 1000) for n in range(400)]
        fields: list[tuple[int, ...]] = [*ENDS, (152, 8), (153, 8), (1, 8)]
        told: dict[str, tuple[list[tuple[int, ...]], bytes, float]] = {
            "one of a hundred": ([(34, 4)], struct.pack(">I", 100), 100),
            "at random": ([(50, 4)], struct.pack(">I", 64), 64),
            "ten, then ninety not": ([(305, 4), (306, 4)], struct.pack(">II", 10, 90), 10),
            "every one": ([(305, 4), (306, 4)], struct.pack(">II", 1, 0), 1),
            "three of twelve": ([(309, 4), (310, 4)], struct.pack(">II", 3, 12), 4),
            "one of one": ([(34, 4)], struct.pack(">I", 1), 1),
        }
        for name, (options, content, factor) in told.items():
            scope: list[tuple[int, ...]] = [(149, 4), *options]
            said = template(scope, 300, scopes=1) + data([struct.pack(">I", 3) + content], 300)
            found = self.summary(message(said + template(fields) + data(rows)))
            with self.subTest(name):
                self.assertEqual(int(found.bytes_out.values.sum()), 400_000 * factor)
                self.assertEqual((found.sampled, int(found.begun.values.sum())), (400, 0) if factor > 1 else (0, 400))
        (self.folder / "s.ipfix").write_bytes(message(said + template(fields) + data(rows)))
        self.assertNotIn("sampled", self.json("measure", "s.ipfix"))
        scope = [(149, 4), (34, 4)]
        said = template(scope, 300, scopes=1) + data([struct.pack(">II", 3, 100)], 300)
        (self.folder / "s.ipfix").write_bytes(message(said + template(fields) + data(rows)))
        [shown] = self.json("measure", "s.ipfix")["sampled"]
        self.assertEqual((shown["bytes_out"], shown["records"]), (40_000_000, 400))
        # Of 100,000 bytes each, in KiB: one in twenty by their number.
        self.assertAlmostEqual(shown["within"], 1.96 / 20 * 98 * 1024 / 100_000, places=9)
        # By sampler: records say which.
        scope = [(302, 4), (34, 4)]
        said = template(scope, 300, scopes=1) + data([struct.pack(">II", 7, 10), struct.pack(">II", 8, 1000)], 300)
        each = [row + struct.pack(">I", 7 if n < 100 else 8) for n, row in enumerate(rows[:101])]
        found = self.summary(message(said + template([*fields, (302, 4)]) + data(each)))
        self.assertEqual(int(found.bytes_out.values.sum()), 100 * 10_000 + 1_000_000)

    def test_records_are_put_together_as_they_were(self) -> None:
        """Connections cut into pieces, of both directions, some exported twice, in any order within a minute."""
        for seed in range(6):
            dice = random.Random(seed)
            truth = [self.drawn(dice, 20_000 + n) for n in range(300)]
            rows = [row for one in truth for row in self.records(dice, one)]
            doubled = [row for row in rows if dice.random() < 0.1]
            rows += doubled
            rows.sort(key=lambda row: row[0] + dice.random() * 20)
            fields: list[tuple[int, ...]] = [*ENDS, (152, 8), (153, 8), (1, 8), (6, 1), (136, 1)]
            sets = [data([row for _, row in rows[at : at + 1000]]) for at in range(0, len(rows), 1000)]
            sets[0] = template(fields) + sets[0]
            content = b"".join(message(one, 1000 * n) for n, one in enumerate(sets))
            batches, unread = self.read(content)
            found = sorted(
                (int(port), int(ending), int(out), int(back), round(float(start) - DAY, 3), round(float(end) - DAY, 3))
                for b in batches
                for port, ending, out, back, start, end in zip(
                    b.source_port, b.ending, b.bytes_out, b.bytes_in, b.start_s, b.end_s, strict=True
                )
            )
            # That other records tell of answers is known at the end of the file.
            self.assertTrue(batches[-1].tells_both)
            alone = {UDP_ONE_WAY: UDP_ALONE}
            expected = sorted(
                (one.port, alone.get(one.ending, one.ending), one.out, one.back, round(one.start, 3), round(one.end, 3))
                for one in truth
            )
            pairs = Pairs(self.estate({"destinations": {"partner": {"port": None}}}).estate)
            whole = summarised(batches, pairs)
            with self.subTest(seed=seed):
                self.assertEqual(found, expected)
                # Each record read is one that counts, or a piece, or of no pair (datagrams), or doubled.
                self.assertEqual(whole.records + len(doubled), len(rows))
                counted = int(whole.begun.values.sum()) + whole.together + sum(whole.unmatched.values())
                self.assertEqual(counted, whole.records)
                twice = {why: number for why, (number, _) in unread.reasons.items()}
                self.assertEqual(twice, {"records that are there twice, counted once": len(doubled)})

    def drawn(self, dice: random.Random, port: int) -> Truth:
        start = round(dice.random() * 3000, 3)
        length = dice.choice([0.5, 4.0, 50.0, 400.0, 2000.0])
        kind = dice.choice(["closed", "closed", "reset", "rejected", "unanswered", "datagrams"])
        if kind == "unanswered":
            return Truth(start, start + 3, port, 6, 180, 0, (SYN, 0), UNANSWERED)
        if kind == "rejected":
            return Truth(start, start + 0.1, port, 6, 60, 40, (SYN, RST | ACK), REJECTED)
        out, back = dice.randrange(1000, 10**6), dice.randrange(1000, 10**6)
        if kind == "datagrams":
            answered = dice.random() < 0.7
            ending = UDP_ONE_WAY if not answered else UDP_STREAMING if length > 2 else UDP_ANSWERED
            return Truth(start, start + length, port, 17, out, back if answered else 0, (0, 0), ending)
        last = RST if kind == "reset" else FIN
        flags = (SYN | ACK | last, SYN | ACK | (FIN if last == FIN else 0))
        return Truth(start, start + length, port, 6, out, back, flags, RESET if last == RST else CLOSED)

    def records(self, dice: random.Random, one: Truth) -> list[tuple[float, bytes]]:
        """As an exporter cuts it every 60 s: when each is exported, and the record."""
        found: list[tuple[float, bytes]] = []
        for outward in (True, False):
            octets, flags = (one.out, one.flags[0]) if outward else (one.back, one.flags[1])
            if not octets:
                continue
            cuts = [*np.arange(one.start, one.end, 60.0)[1:], one.end]
            begins = [one.start, *(cut + 0.5 for cut in cuts[:-1])]
            parts = len(cuts)
            for n, (begin, end) in enumerate(zip(begins, cuts, strict=True)):
                begin = min(begin, end)
                first, last = n == 0, n == parts - 1
                ends_here = flags & (FIN | RST) if last else 0
                own = (flags & SYN if first else 0) | flags & ACK | ends_here
                reason = 3 if ends_here else 1 if last else 2
                size = octets // parts + (octets % parts if last else 0)
                times = struct.pack(">QQQ", *(round((DAY + at) * 1000) for at in (begin, end)), size)
                row = ends(outward, one.port, one.protocol) + times + struct.pack(">BB", own, reason)
                found.append((end, row))
        return found

    def test_messages_that_overtake_others_are_not_missing(self) -> None:
        fields: list[tuple[int, ...]] = [*ENDS, (152, 8), (153, 8)]
        rows = [ends(port=5000 + n) + struct.pack(">QQ", (DAY + n) * 1000, (DAY + n) * 1000 + 10) for n in range(40)]
        first = message(template(fields) + data(rows[:10]), 0)
        others = [message(data(rows[at : at + 10]), at) for at in (10, 20, 30)]
        for order, missing in (((0, 1, 2), 0), ((1, 0, 2), 0), ((2, 1, 0), 0), ((0, 2), 10), ((2, 0), 10)):
            batches, unread = self.read(first + b"".join(others[n] for n in order))
            with self.subTest(order=order):
                told = {why: number for why, (number, _) in unread.reasons.items()}
                self.assertEqual(told, {"records missing by their sequence": missing} if missing else {})
                self.assertEqual(sum(map(len, batches)), 10 + 10 * len(order))

    def test_what_was_open_before_the_export_is_not_new(self) -> None:
        fields: list[tuple[int, ...]] = [*ENDS, (152, 8), (153, 8), (1, 8), (6, 1)]
        rows = [
            ends(port=5000) + struct.pack(">QQQB", DAY * 1000, DAY * 1000 + 900, 5, ACK | FIN),
            ends(port=5001) + struct.pack(">QQQB", DAY * 1000, DAY * 1000 + 900, 5, SYN | ACK | FIN),
        ]
        batches, _ = self.read(message(template(fields) + data(rows)))
        is_new = {
            int(p): bool(is_new) for b in batches for p, is_new in zip(b.source_port, self.is_new(b), strict=True)
        }
        self.assertEqual(is_new, {5000: False, 5001: True})

    @staticmethod
    def is_new(batch: Batch) -> Any:
        return np.ones(len(batch), dtype=bool) if batch.is_new is None else batch.is_new

    def test_no_more_is_followed_than_there_is_memory_for(self) -> None:
        fields: list[tuple[int, ...]] = [*ENDS, (152, 8), (153, 8)]
        rows = [ends(port=1024 + n) + struct.pack(">QQ", (DAY + n) * 1000, (DAY + n) * 1000) for n in range(40_000)]
        content = [message(template(fields))]
        content += [message(data(rows[at : at + 1000]), at, at=DAY) for at in range(0, len(rows), 1000)]
        with patch.object(gathering, "_MOST_FOLLOWED", 1 << 14):
            batches, unread = self.read(b"".join(content))
        self.assertEqual(sum(map(len, batches)), 40_000)
        self.assertGreater(unread.reasons[BEYOND][0], 10_000)
