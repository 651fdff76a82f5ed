"""Records measured against brute force; every reader against records written here; parts against the whole."""

import bz2
import gzip
import io
import json
import lzma
import random
import struct
import sys
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest.mock import patch

import numpy as np
import pyarrow as arrow
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.prefixes import parse_prefix
from fenrask.records.batch import (
    CLOSED,
    CONTINUED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    UNANSWERED,
    UNKNOWN,
    Addresses,
    Batch,
    Unread,
    dotted,
)
from fenrask.records.matching import Matcher, Pairs
from fenrask.records.measuring import Measured, measured, open_by_minute
from fenrask.records.readers import Quiet, read_entries, read_records
from fenrask.records.stitching import stitched
from fenrask.records.summary import Summary
from fenrask.records.tallying import summarised
from tests.records.test_exporters import capture, connections, packet
from tests.support import ESTATE, InFolder, merged

DAY = 1_793_491_200  # a midnight, UTC
Row = tuple[float, float, str, str, int, int, int, int, int]
"""Start, end, source, target, ports, protocol, bytes, flags."""
HEAD = "start,end,src,dst,sport,dport,proto,bytes,flags\n"


def rows_of(seed: int, n: int = 400) -> list[Row]:
    dice = random.Random(seed)
    rows: list[Row] = []
    for _ in range(n):
        start = DAY + round(dice.random() * 7200, 3)
        length = dice.choice([0.0, 0.001, 1.0, 60.0, round(dice.expovariate(0.1), 3)])
        target = dice.choice(["198.51.100.7", "198.51.100.9", "192.0.2.5", "203.0.113.77"])
        source = f"10.0.1.{dice.randint(1, 9)}"
        rows.append(
            (
                start,
                round(start + length, 3),
                source,
                target,
                dice.randint(1024, 65535),
                443,
                6,
                100,
                dice.choice([19, 27, 22]),
            )
        )
    return rows


def as_csv(rows: list[Row]) -> str:
    return HEAD + "".join(",".join(map(str, row)) + "\n" for row in rows)


class Records(InFolder):
    def batches(self, name: str, content: bytes, **columns: str) -> tuple[list[Batch], Unread]:
        (self.folder / name).write_bytes(content)
        unread = Unread({})
        _, _, found = read_records(str(self.folder / name), unread, columns)
        return list(found), unread

    def loads(self, name: str, content: bytes) -> list[Measured]:
        described = self.estate({"destinations": {"store": {"service": False, "port": 443}}})
        batches, _ = self.batches(name, content)
        return measured(summarised(batches, Pairs(described.estate)), Pairs(described.estate))


class Reading(Records):
    def test_against_brute_force_instant_by_instant(self) -> None:
        for seed in range(6):
            rows = rows_of(seed)
            loads = {one.destination: one for one in self.loads("r.csv", as_csv(rows).encode())}
            for name, prefix in (("partner", "198.51.100."), ("store", "192.0.2.")):
                own = [row for row in rows if row[3].startswith(prefix)]
                one = loads[name]
                with self.subTest(seed=seed, name=name):
                    self.assertEqual(one.connections, len(own))
                    self.assertAlmostEqual(one.duration_s, sum(r[1] - r[0] for r in own) / len(own), places=6)
                    self.assertEqual(one.bytes_out, 100 * len(own))
                    self.assertEqual(one.addresses, len({row[3] for row in own}))
                    self.assertAlmostEqual(
                        one.endings["reset"], sum(r[8] & 4 > 0 for r in own) / sum(r[8] & 5 > 0 for r in own)
                    )
                    # How many are open where one begins, from every connection anew.
                    spans = [(round(r[0] * 1000), round(r[1] * 1000)) for r in own]
                    open_at = {at: sum(first <= at < last for first, last in spans) for at, _ in spans}
                    self.assertEqual(one.concurrent_peak, max(open_at.values()))
                    first = min(at for at, number in open_at.items() if number == one.concurrent_peak)
                    self.assertEqual(one.concurrent_peak_s, first // 1000)
                    minutes = [sum(DAY + 60 * m <= r[0] < DAY + 60 * (m + 1) for r in own) for m in range(120)]
                    self.assertAlmostEqual(one.busiest_minute_per_s, max(minutes) / 60, places=9)

    def test_packed_files_whole_and_cut_and_tables_with_other_separators(self) -> None:
        rows = rows_of(3)
        whole = as_csv(rows).encode()
        [known] = [one for one in self.loads("r.csv", whole) if one.destination == "partner"]
        packed = {"bz2": bz2.compress(whole), "xz": lzma.compress(whole), "gz": gzip.compress(whole)}
        packed["zst"] = arrow.compress(whole, codec="zstd", asbytes=True)
        for name, content in (
            *packed.items(),
            *((one, whole.replace(b",", one.encode())) for one in ("\t", ";", " ", "   ")),
        ):
            [found] = [one for one in self.loads("packed", content) if one.destination == "partner"]
            self.assertEqual((found.connections, found.bytes_out), (known.connections, known.bytes_out), name)
        self.write("r.csv", as_csv(rows))
        (self.folder / "empty").write_bytes(b"")
        done = self.program("measure", "r.csv", "empty", "--all")
        self.assertEqual((done.returncode, "an empty file: 1" in done.stdout + done.stderr), (0, True), done)
        for words in (
            ("measure", "empty"), ("simulate", "--records", "empty"),
            *(("measure", "r.csv", "--memory", one) for one in ("inf", "nan", "1e300", "none", "0")),
        ):  # fmt: skip
            self.assertEqual(self.program(*words).returncode, 2, words)
        self.write(
            "quick.csv", as_csv([(DAY + n, DAY + n, *rows[0][2:3], "198.51.100.7", *rows[0][4:]) for n in range(3)])
        )
        self.assertEqual(self.program("measure", "quick.csv", "--figure", "quick.png").returncode, 0)
        for name, content in packed.items():
            (self.folder / "cut").write_bytes(content[: len(content) // 2])
            done = self.program("measure", "cut", "--all")
            with self.subTest(name):
                self.assertEqual(done.returncode, 2, done)
                self.assertIn("a packed file that breaks off", done.stdout + done.stderr)

    def test_records_from_beyond_a_translation_are_told(self) -> None:
        self.estate()
        head, row = "start,end,source,target,source_port,target_port,protocol\n", "{},{},{},198.51.100.7,{},443,6\n"
        for source, told in (("203.0.113.1", True), ("203.0.112.1", False)):
            rows = "".join(row.format(DAY + n, DAY + n + 2, source, 5000 + n) for n in range(20))
            self.write("seen.csv", head + rows)
            said = " ".join(self.json("measure", "seen.csv", status=1)["summary"])
            self.assertEqual("20 records come from 203.0.113.0/24, where gate has public addresses" in said, told, said)

    def test_headings_of_other_exports_are_known(self) -> None:
        ours = "start,end,source,target,source_port,target_port,protocol,bytes_out"
        row = f"{DAY},{DAY + 9},10.0.1.5,198.51.100.7,5000,443,6,2048"
        [wanted], _ = self.batches("ours.csv", f"{ours}\n{row}\n".encode())
        for heading in (
            "First Seen,Last Seen,Source IP,Destination IP,Source Port,Destination Port,IP Protocol,Bytes",
            "datetime,stop,client_ip,server_ip,client_port,server_port,proto,octets",
            "flowStartSeconds,flowEndSeconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"
            "destinationTransportPort,protocolIdentifier,octetDeltaCount",
        ):
            with self.subTest(heading):
                [found], unread = self.batches("other.csv", f"{heading}\n{row}\n".encode())
                self.assertEqual(unread.reasons, {})
                for key in ("start_s", "end_s", "source_port", "target_port", "protocol", "bytes_out"):
                    self.assertEqual(getattr(found, key).tolist(), getattr(wanted, key).tolist())

    def test_units_are_read_from_the_names_of_columns(self) -> None:
        """The same connection of 1.5 s and 3 KiB, as tables say it."""
        ends = "10.0.1.5,198.51.100.7,5000,443,tcp"
        cases = {
            "duration,bytes": "1.5,3072", "duration_ms,bytes_kib": "1500,3", "Duration (us),Bytes": "1500000,3072",
            "duration_seconds,octets": "1.5,3072", "seconds,out bytes": "1.5,3072",
            "duration_ns,bytes_bits": "1.5e9,24576",
        }  # fmt: skip
        for heading, values in cases.items():
            content = f"start,src,dst,sport,dport,proto,{heading}\n{DAY},{ends},{values}\n"
            [one] = self.loads("u.csv", content.encode())
            with self.subTest(heading):
                self.assertEqual((one.duration_s, one.bytes_out), (1.5, 3072))

    def test_how_records_say_that_they_ended(self) -> None:
        heading, row = "start,end,src,dst,sport,dport,proto,ending\n", "{0},{0},10.0.1.5,198.51.100.7,{1},443,6,{2}\n"
        words = ("closed", "RST", "idle", "2", "half closed", "rejected", "unanswered", "open", "who knows")
        content = heading + "".join(row.format(DAY, 5000 + n, word) for n, word in enumerate(words))
        [batch], _ = self.batches("e.csv", content.encode())
        expected = [CLOSED, RESET, IDLE, CONTINUED, HALF_CLOSED, REJECTED, UNANSWERED, OPEN, UNKNOWN]
        self.assertEqual(batch.ending.tolist(), expected)

    def test_a_listing_says_what_is_open_at_one_moment(self) -> None:
        """As `conntrack -L` prints it, and with the family before, as -o extended and /proc do."""
        entries = [
            ("tcp 6 431999 ESTABLISHED", 4000, ""), ("tcp 6 1 ESTABLISHED", 4001, ""), ("tcp 6 90 TIME_WAIT", 4002, ""),
            ("udp 17 29", 4003, "[UNREPLIED] "),
        ]  # fmt: skip
        lines = [
            f"{what} src=10.0.1.9 dst=198.51.100.7 sport={port} dport=443 {mark}src=198.51.100.7 dst=203.0.113.1 "
            f"sport=443 dport={port} mark=0 use=1"
            for what, port, mark in entries
        ]
        self.estate({"destinations": {"store": {"service": False, "port": 443}}})
        for name, before in (("listing", ""), ("proc", "ipv4     2 ")):
            (self.folder / name).write_text("".join(f"{before}{line}\n" for line in lines), encoding="utf-8")
            done = self.json("measure", name)
            with self.subTest(name):
                self.assertEqual(
                    [(one["state"], one["entries"], one["left_s"]) for one in done["listed"]],
                    [("established", 2, 216_000.0), ("time wait", 1, 90.0)],
                )
                self.assertEqual((done["records"], done["unmatched_records"], done["loads"]), (4, 1, []))

    def test_the_same_records_in_two_files_are_told(self) -> None:
        """As they are, or as another exporter saw them, whose clock is a second ahead."""
        rows = rows_of(5, 4000)
        ahead = [(one[0] + 1, one[1] + 1, *one[2:]) for one in rows]
        self.estate()
        for name, other, told in (
            ("the same", rows, True),
            ("ahead", ahead, True),
            ("others", rows_of(6, 4000), False),
        ):
            self.write("a.csv", as_csv(rows))
            self.write("b.csv", as_csv(other))  # type: ignore[arg-type]
            lines = self.json("measure", "a.csv", "b.csv")["summary"]
            with self.subTest(name):
                self.assertEqual(any("are there twice" in line for line in lines), told, lines)

    def test_what_looks_the_same_for_want_of_columns_is_not_there_twice(self) -> None:
        """No ports, or one port that asks each minute (NTP), or few records: none of these are doubled."""
        self.estate()
        ends = "10.0.1.5,198.51.100.7"
        bare = "start,src,dst,dport\n" + "".join(f"{DAY + n},{ends},443\n" for n in range(5000))
        polls = HEAD + "".join(f"{DAY + 64 * n},{DAY + 64 * n},{ends},123,443,6,76,19\n" for n in range(5000))
        few = as_csv(rows_of(5, 50))
        for name, content in (("bare", bare), ("polls", polls), ("few", few)):
            self.write("a.csv", content)
            lines = self.json("measure", "a.csv")["summary"]
            with self.subTest(name):
                self.assertFalse([line for line in lines if "there twice" in line])

    def test_pieces_that_come_in_tables_or_in_several_files_are_seen(self) -> None:
        """Connections cut each minute, in a table or in exports of five minutes each; whole ones come again as well."""
        self.estate()
        dice, whole, cut = random.Random(4), [], []
        for n in range(3000):
            begin, lasts = DAY + dice.random() * 7000, dice.choice([0.2, 3.0, 20.0, 150.0, 400.0])
            ends = (f"10.0.1.{n % 250 + 1}", "198.51.100.7", 1024 + n, 443, 17)
            whole.append((begin, begin + lasts, *ends, 100, 19))
            at = begin
            while at < begin + lasts:
                cut.append((at, min(at + 60, begin + lasts), *ends, 100, 19))
                at += 60
            # From the same port again, a minute later.
            whole.append((begin + lasts + 60, begin + lasts + 60.2, *ends, 100, 19))
        for rows in (whole, cut):
            rows.sort(key=lambda row: row[1])
        self.write("whole.csv", as_csv(whole))
        self.write("cut.csv", as_csv(cut))
        exports = [f"{number}.ipfix" for number in range(25)]
        for number, name in enumerate(exports):
            (self.folder / name).write_bytes(ipfix([row for row in cut if (row[1] - DAY) // 300 == number]))
        # In whatever order they are given.
        dice.shuffle(exports)
        udp = {"destinations": {"names": {"prefixes": ["198.51.100.0/24"], "port": 443, "protocol": "udp"}}}
        self.estate(udp)
        for files, told in (
            (["whole.csv"], False), (["cut.csv"], True), (["cut.csv", "--active-timeout", "60"], False),
            (exports, True), ([*exports, "--active-timeout", "60"], False),
        ):  # fmt: skip
            page = self.json("measure", *files)
            lines = [line for line in page["summary"] if "pieces of longer ones" in line]
            with self.subTest(files=files):
                self.assertEqual(bool(lines), told, page["summary"])
                if not told and "whole.csv" not in files:
                    self.assertEqual(page["loads"][0]["connections"], 3000)

    def test_both_commands_that_replay_take_the_same_connections(self) -> None:
        """Silence that ends a connection is that of the estate's timers, whoever reads the capture."""
        packets = [(0.0, 50001, 2), (200.0, 50001, 24), (700.0, 50001, 24), (900.0, 50002, 2), (901.0, 50002, 1)]
        seen = [(DAY + at, packet("10.0.1.9", "198.51.100.7", port, 443, flags, 0)) for at, port, flags in packets]
        (self.folder / "c.pcap").write_bytes(capture(seen))
        self.estate()
        first = self.json("simulate", "--records", "c.pcap", status=None)
        other = self.json("measure", "c.pcap", "--replay", status=None)
        # One of them is silent for longer than the 300 s for which its port is kept.
        self.assertEqual([one["connections"] for one in first["days"]], [3])
        for key in ("through", "days"):
            self.assertEqual([one["connections"] for one in first[key]], [one["connections"] for one in other[key]])

    def test_a_destination_without_a_port_counts_its_protocol_alone(self) -> None:
        rows = [
            (DAY + n, DAY + n + 1, "10.0.1.5", "198.51.100.7", n, 80, proto, 1, 19)
            for n, proto in enumerate((6, 17, 1))
        ]
        pairs = Pairs(self.estate({"destinations": {"partner": {"port": None}}}).estate)
        batches, _ = self.batches("r.csv", as_csv(rows).encode())
        [one] = measured(summarised(batches, pairs), pairs)
        self.assertEqual((one.destination, one.connections), ("partner", 1))

    def test_ipv4_addresses_written_as_ipv6_are_these(self) -> None:
        rows = [(DAY + n, DAY + n + 1, "::ffff:10.0.1.5", "::ffff:198.51.100.7", n, 443, 6, 1, 19) for n in range(3)]
        [one] = self.loads("r.csv", as_csv(rows).encode())
        self.assertEqual((one.subnet, one.destination, one.connections), ("app", "partner", 3))

    def test_volumes_beyond_the_exact_floating_numbers(self) -> None:
        from pyarrow import parquet

        big = 2**53 + 1
        rows = [(DAY + n, DAY + n + 1, "10.0.1.5", "198.51.100.7", n, 443, 6, big + n, 19) for n in range(3)]
        names = HEAD.strip().split(",")
        table = arrow.table({name: [row[n] for row in rows] for n, name in enumerate(names)})
        parquet.write_table(table, self.folder / "r.parquet")
        for name, content in (
            ("r.csv", as_csv(rows).encode()), ("r.parquet", (self.folder / "r.parquet").read_bytes())
        ):  # fmt: skip
            [one] = self.loads(name, content)
            self.assertEqual(one.bytes_out, 3 * big + 3, name)

    def test_a_port_that_is_none_is_no_other_port(self) -> None:
        rows = [(DAY + n, DAY + n + 1, "10.0.1.5", "198.51.100.7", n, 443 + 65536 * n, 6, 1, 19) for n in range(3)]
        batches, unread = self.batches("r.csv", as_csv(rows).encode())
        self.assertEqual((sum(map(len, batches)), unread.reasons["no port"][0]), (1, 2))

    def test_letters_of_any_encoding_cost_their_own_row_alone(self) -> None:
        rows = [(DAY + n, DAY + n + 1, "10.0.1.5", "198.51.100.7", n, 443, 6, 1, 19) for n in range(5)]
        lines = as_csv(rows).encode().splitlines()
        lines[2] = lines[2].replace(b"10.0.1.5", b"10.0.1.\xfc")
        lines[4] += b",\xff\xfe"
        for parted in (b",", b" "):
            lost: list[Any] = []
            with self.subTest(parted=parted), patch.object(sys, "unraisablehook", lost.append):
                batches, unread = self.batches("r.csv", b"\n".join(lines).replace(b",", parted))
                counts = [sum(map(len, batches)), sum(count for count, _ in unread.reasons.values()), len(lost)]
                self.assertEqual(counts, [3, 2, 0])

    def test_volumes_that_no_line_carries_are_counted_as_such(self) -> None:
        rows = [(DAY + n, DAY + n + 1, "10.0.1.5", "198.51.100.7", n, 443, 6, 2**56 + n * 2**40, 19) for n in range(3)]
        pairs = Pairs(self.estate().estate)
        batches, unread = self.batches("r.csv", as_csv(rows).encode())
        [one] = measured(summarised(batches, pairs), pairs)
        self.assertEqual((one.connections, one.bytes_out), (1, 2**56))
        self.assertEqual(list(unread.reasons.values())[0][0], 2)

    def test_every_format_says_the_same(self) -> None:
        import pyarrow as arrow
        import pyarrow.parquet as parquet

        rows = [row for row in rows_of(9) if row[6] == 6]
        expected = self.loads("r.csv", as_csv(rows).encode())
        names = HEAD.strip().split(",")
        table = arrow.table({name: [row[n] for row in rows] for n, name in enumerate(names)})
        buffer = io.BytesIO()
        parquet.write_table(table, buffer, row_group_size=50)
        kinds: dict[str, bytes] = {
            "r.csv.gz": gzip.compress(as_csv(rows).encode()),
            "r.parquet": buffer.getvalue(),
            "r.v5": v5(rows),
            "r.v9": v9(rows),
            "r.ipfix": ipfix(rows),
            "varying.ipfix": ipfix(rows, varying=True),
        }
        _, unread = self.batches("r.gz", gzip.compress(b"".join([as_csv(rows).encode()])) + gzip.compress(b""))
        self.assertEqual(unread.reasons, {})
        zstd = arrow.BufferOutputStream()
        with arrow.CompressedOutputStream(zstd, "zstd") as packed:
            packed.write(as_csv(rows).encode())
        kinds["r.csv.zst"] = zstd.getvalue().to_pybytes()
        for name, content in kinds.items():
            with self.subTest(name):
                self.assertEqual(self.loads(name, content), expected)

    def test_columns_are_guessed_shown_and_corrected(self) -> None:
        rows = rows_of(3, 50)
        odd = as_csv(rows).replace("start,end,src", "When,Until,Whose", 1)
        self.estate()
        self.write("odd.csv", odd)
        done = self.program("measure", "odd.csv")
        self.assertEqual(done.returncode, 2)
        self.assertIn("--map start=COLUMN", done.stderr)
        stated = ("--map", "start=When", "--map", "end=Until", "--map", "source=Whose")
        found = self.json("measure", "odd.csv", *stated)
        self.assertEqual(found["records"], 50)
        self.assertIn({"file": "odd.csv", "field": "target", "column": "dst"}, found["columns"])
        self.write("map.yaml", "start: When\nend: Never\nsource: Whose\n")
        self.assertEqual(self.json("measure", "odd.csv", "--map", "map.yaml", "--map", "end=Until"), found)
        self.assertEqual(self.program("measure", "odd.csv", "--map", "start=When", "--map", "begin=x").returncode, 2)
        for wrong in ("- 1\n", "begin: x\n", "{"):
            self.write("map.yaml", wrong)
            self.assertEqual(self.program("measure", "odd.csv", "--map", "map.yaml").returncode, 2, wrong)
        for text in ("2026-11-01T00:00:01Z", str(DAY + 1), str((DAY + 1) * 1000), str((DAY + 1) * 10**6)):
            [batch], _ = self.batches("t.csv", f"time,src,dst\n{text},10.0.1.1,198.51.100.1\n".encode())
            self.assertEqual(batch.start_s[0], DAY + 1 if text[0] == "1" else 1_793_491_201)

    def test_what_cannot_be_read_is_counted_and_the_rest_stays(self) -> None:
        text = as_csv(rows_of(1, 20))
        for more, number in (
            ("x,y\n", 1),
            ("now,,10.0.1.1,198.51.100.1,1,2,6,1,2\n", 1),
            (f"{DAY},{DAY},10.0.1.999,198.51.100.1,1,2,6,1,2\n", 1),
            (f"{DAY + 9},{DAY},10.0.1.9,198.51.100.1,1,2,6,1,2\n" * 3, 3),
        ):
            with self.subTest(more):
                batches, unread = self.batches("r.csv", (text + more).encode())
                self.assertEqual(sum(map(len, batches)), 20)
                self.assertEqual(sum(n for n, _ in unread.reasons.values()), number)
        whole = gzip.compress(text.encode())
        batches, unread = self.batches("cut.gz", whole[: len(whole) - 20])
        self.assertTrue(any("breaks off" in why for why in unread.reasons))

    def test_damaged_messages_are_counted_and_never_fatal(self) -> None:
        rows = rows_of(2, 60)
        for name, whole in (("v5", v5(rows)), ("v9", v9(rows)), ("ipfix", ipfix(rows, varying=True))):
            dice = random.Random(7)
            for _ in range(150):
                content = bytearray(whole)
                for _ in range(dice.randint(1, 6)):
                    content[dice.randrange(4, len(content))] = dice.randrange(256)
                cut = bytes(content[: dice.randint(20, len(content))])
                with self.subTest(name):
                    batches, _ = self.batches("r.bin", cut)
                    self.assertLessEqual(sum(map(len, batches)), 4 * len(rows))

    def test_templates_change_are_withdrawn_and_gaps_are_counted(self) -> None:
        rows = rows_of(4, 20)
        first, second = ipfix(rows[:10], per_message=10), ipfix(rows[10:], per_message=10, sequence=25)
        batches, unread = self.batches("gap", first + second)
        self.assertEqual(sum(map(len, batches)), 20)
        self.assertEqual(unread.reasons["records missing by their sequence"][0], 15)
        withdrawn = _ipfix_message(struct.pack(">HHHH", 2, 8, 256, 0), 10)
        data = _ipfix_message(_data_set(rows[:3], varying=False), 10)
        batches, unread = self.batches("gone", first + withdrawn + data)
        self.assertEqual((sum(map(len, batches)), "records before their template" in unread.reasons), (10, True))

    def test_events_of_connection_tracking(self) -> None:
        ends = (
            "src=10.0.1.9 dst=198.51.100.7 sport=40000 dport=443 src=198.51.100.7 dst=203.0.113.1 sport=443 dport=40000"
        )
        lines = [
            f"[{DAY}.250000]\t    [NEW] tcp      6 120 SYN_SENT {ends}",
            f"[{DAY + 2}.0]\t [UPDATE] tcp      6 10 CLOSE {ends}",
            f"[{DAY + 12}.250000]\t[DESTROY] tcp      6 {ends}",
            f"[{DAY + 13}.0]\t[DESTROY] udp      17 {ends.replace('40000', '40001')}",
            "rubbish",
        ]
        [batch], unread = self.batches("events", "\n".join(lines).encode())
        # Rejected: it ends where the timer of ten seconds began.
        self.assertEqual((batch.start_s[0], batch.end_s[0], int(batch.ending[0])), (DAY + 0.25, DAY + 2.25, REJECTED))
        self.assertEqual(sum(n for n, _ in unread.reasons.values()), 2)

    def test_the_same_events_as_xml_and_an_end_that_says_how_long_it_lasted(self) -> None:
        """As conntrack 1.4.7 writes them (`-E -o xml,timestamp`); the DAY is 0:00 UTC."""
        day = datetime.fromtimestamp(DAY, UTC)

        def flow(kind: str, second: int, port: int, more: str = "") -> str:
            ends = [("10.0.1.9", "198.51.100.7", port, 443), ("198.51.100.7", "203.0.113.1", 443, 40_000)]
            metas = "".join(
                f'<meta direction="{way}"><layer3 protonum="2" protoname="ipv4"><src>{a}</src><dst>{b}</dst></layer3>'
                f'<layer4 protonum="6" protoname="tcp"><sport>{p}</sport><dport>{q}</dport></layer4>'
                f"<counters><packets>1</packets><bytes>{p}</bytes></counters></meta>"
                for way, (a, b, p, q) in zip(("original", "reply"), ends, strict=True)
            )
            at = day + timedelta(seconds=second)
            when = f"<hour>{at.hour}</hour><min>{at.minute}</min><sec>{at.second}</sec><wday>1</wday>"
            when += f"<day>{at.day}</day><month>{at.month}</month><year>{at.year}</year>"
            return f'<flow type="{kind}">{metas}<meta direction="independent">{more}</meta><when>{when}</when></flow>'

        whole = [
            flow("new", 3, 1111), flow("update", 5, 1111, "<state>TIME_WAIT</state>"), flow("destroy", 9, 1111),
            flow("destroy", 99, 1112, "<state>CLOSE</state><deltatime>40</deltatime>"), flow("destroy", 9, 1113),
        ]  # fmt: skip
        content = '<?xml version="1.0" encoding="utf-8"?>\n<conntrack>\n' + "\n".join(whole) + "<flow><meta>"
        [batch], unread = self.batches("events.xml", content.encode())
        found = list(zip(batch.start_s - DAY, batch.end_s - DAY, batch.ending, batch.bytes_out, strict=True))
        self.assertEqual(found, [(3, 5, CLOSED, 1111), (59, 99, RESET, 1112)])
        self.assertEqual(sorted(unread.reasons), ["an element cut short", "an end without a beginning"])

    def test_nat_sessions_are_put_together_and_say_whose_an_address_was(self) -> None:
        """RFC 8158: session create (4) and delete (5), ports exhausted (12), in IPFIX."""
        fields = [(323, 8), (230, 1), (8, 4), (225, 4), (12, 4), (7, 2), (227, 2), (11, 2), (4, 1)]
        body = struct.pack(">HH", 256, len(fields)) + b"".join(struct.pack(">HH", *one) for one in fields)
        sets = struct.pack(">HH", 2, 4 + len(body)) + body
        events = [(1, 4, "10.0.1.9", 7), (2, 4, "10.0.1.8", 8), (6, 5, "10.0.1.9", 7), (7, 12, "10.0.1.9", 9)]
        data = b"".join(
            struct.pack(">QBIIIHHHB", (DAY + second) * 1000, event, _number(inner), _number("203.0.113.1"),
                        _number("198.51.100.7"), 5000 + port, 40_000 + port, 443, 6)
            for second, event, inner, port in events
        )  # fmt: skip
        content = _ipfix_message(sets + struct.pack(">HH", 256, 4 + len(data)) + data, 0)
        [batch], unread = self.batches("nat.ipfix", content)
        self.assertEqual((batch.start_s[0] - DAY, batch.end_s[0] - DAY, int(batch.source_port[0])), (1, 6, 5007))
        self.assertEqual((batch.start_s[1] - DAY, batch.end_s[1] - DAY, int(batch.ending[1])), (2, 6, OPEN))
        self.assertEqual(sorted(unread.reasons), ["the translator says that ports ran out"])
        # A session goes with its port: where that is kept for two seconds after a close, it ended before.
        kept = Quiet(closed_s=2.0)
        [batch] = read_records(str(self.folder / "nat.ipfix"), Unread({}), quiet=kept)[2]
        self.assertEqual((float(batch.end_s[0]) - DAY, int(batch.ending[0])), (4, CLOSED))
        file = self.folder / "nat.ipfix"
        file.write_bytes(content)
        entries = list(read_entries(str(file), Unread({})))
        self.assertEqual([(one.event, one.outside, one.outside_port) for one in entries], [
            ("NEW", b"203.0.113.1", 40_007), ("NEW", b"203.0.113.1", 40_008), ("DESTROY", b"203.0.113.1", 40_007),
        ])  # fmt: skip


class Captures(Records):
    def test_connections_of_a_capture_in_both_formats(self) -> None:
        packets, octets = connections()
        # One that is reset, one that is never answered and comes back, one in the middle when the capture begins.
        first = packets[0][0]
        more = [(0.0, 50001, 2), (0.1, 50001, 4), (0.0, 50002, 2), (4000.0, 50002, 24), (0.2, 50003, 24)]
        packets += [(first + at, packet("10.0.1.99", "198.51.100.7", port, 443, flags, 0)) for at, port, flags in more]
        packets.sort(key=lambda one: one[0])
        expected = {key: size for key, size in octets.items() if key[0].startswith("10.")}
        for name, content in (("c.pcap", capture(packets)), ("c.pcapng", blocks(packets))):
            with self.subTest(name):
                batches, unread = self.batches(name, content)
                self.assertEqual(unread.reasons, {})
                rows = [
                    (
                        int(b.source.v4[n]) & 255,
                        int(b.source_port[n]),
                        int(b.bytes_out[n]),
                        int(b.ending[n]),
                        b.end_s[n] - b.start_s[n],
                    )
                    for b in batches
                    for n in range(len(b))
                ]
                seen = {(f"10.0.1.{host}", port): size for host, port, size, *_ in rows if host != 99}
                self.assertEqual(seen, expected)
                self.assertTrue(
                    all(abs(last - 0.05) < 1e-3 and end == CLOSED for host, _, _, end, last in rows if host != 99)
                )
                others = sorted((port, end) for host, port, _, end, _ in rows if host == 99)
                self.assertEqual(others, [(50001, RESET), (50002, UNANSWERED), (50002, OPEN), (50003, IDLE)])
        whole = capture(packets)
        for cut in (3, 20, 30, 77, len(whole) - 5):
            self.batches("cut.pcap", whole[:cut]) if cut > 20 else None
        dice = random.Random(1)
        for _ in range(60):
            content = bytearray(blocks(packets[:20]))
            for _ in range(4):
                content[dice.randrange(12, len(content))] = dice.randrange(256)
            self.batches("bad.pcapng", bytes(content))


def blocks(packets: list[tuple[float, bytes]]) -> bytes:
    """The same as pcapng: a section, an interface in nanoseconds, and a block for each packet."""

    def block(kind: int, body: bytes) -> bytes:
        body += b"\0" * (-len(body) % 4)
        return struct.pack("<II", kind, 12 + len(body)) + body + struct.pack("<I", 12 + len(body))

    whole = block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))
    whole += block(1, struct.pack("<HHI", 1, 0, 0) + struct.pack("<HHB3xHH", 9, 1, 9, 0, 0))
    for at, content in packets:
        ticks = round(at * 1e6) * 1000
        head = struct.pack("<IIIII", 0, ticks >> 32, ticks & 0xFFFFFFFF, len(content), len(content))
        whole += block(6, head + content)
    return whole


class Parts(InFolder):
    def test_files_read_by_several_workers_say_the_same(self) -> None:
        self.estate({"destinations": {"store": {"service": False, "port": 443}}})
        files = [self.write(f"r{seed}.csv", as_csv(rows_of(seed))).name for seed in range(4)]
        one = self.json("measure", *files, "--save", "one.json")
        two = self.json("measure", *reversed(files), "--workers", "2", "--save", "two.json")
        self.assertEqual(one["loads"], two["loads"])
        self.assertEqual((self.folder / "one.json").read_bytes(), (self.folder / "two.json").read_bytes())
        self.assertEqual(self.program("measure", *files, "--workers", "0").returncode, 2)
        # One file, by shares.
        self.program("measure", files[0], "--save", "whole.json")
        with patch("fenrask.cli.measure._DIVIDED", 0):
            self.assertIn("wrote", self.program("measure", files[0], "--workers", "3", "--save", "shares.json").stderr)
        self.assertEqual((self.folder / "whole.json").read_bytes(), (self.folder / "shares.json").read_bytes())

    def test_a_cluster_says_the_same(self) -> None:
        from distributed import LocalCluster

        self.estate({"destinations": {"store": {"service": False, "port": 443}}})
        files = [self.write(f"r{seed}.csv", as_csv(rows_of(seed))).name for seed in range(3)]
        here = self.json("measure", *files)
        with LocalCluster(n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None) as cluster:
            there = self.json("measure", *files, "--workers", cluster.scheduler_address)
            with patch("fenrask.cli.measure._DIVIDED", 0):
                shares = self.json("measure", *files, "--workers", cluster.scheduler_address)
        self.assertEqual(here["loads"], there["loads"])
        self.assertEqual(here["loads"], shares["loads"])

    def test_parts_add_up_to_the_whole_in_any_order(self) -> None:
        estate = self.estate().estate
        pairs = Pairs(estate)
        parts = [summarised([_batch(rows_of(seed, 80))], pairs) for seed in range(5)]
        whole = summarised([_batch(rows_of(seed, 80)) for seed in range(5)], pairs)
        for seed in range(4):
            order = random.Random(seed).sample(range(5), 5)
            left = sum((parts[n] for n in order), Summary())
            right = parts[order[0]] + (parts[order[1]] + (parts[order[2]] + (parts[order[3]] + parts[order[4]])))
            for one in (left, right):
                self.assertEqual(measured(one, pairs), measured(whole, pairs))
                self.assertEqual((one.unmatched, one.records), (whole.unmatched, whole.records))
        self.assertEqual(measured(Summary() + whole, pairs), measured(whole, pairs))

    def test_pieces_are_stitched_as_by_hand(self) -> None:
        for seed in range(30):
            dice = random.Random(seed)
            rows: list[Row] = []
            for port in range(1, 8):
                at = DAY + dice.random() * 50
                for _ in range(dice.randint(1, 6)):
                    length = dice.choice([0.0, 5.0, 20.0, dice.random() * 40])
                    rows.append(
                        (
                            round(at, 3),
                            round(at + length, 3),
                            "10.0.1.1",
                            "198.51.100.7",
                            port,
                            443,
                            6,
                            dice.randint(1, 9),
                            2,
                        )
                    )
                    at += dice.choice([0.0, length, length + 10, length + 10.001, length + 30, -3.0])
                if dice.random() < 0.3:
                    rows.append(rows[-1])
            rows.sort(key=lambda row: row[0])
            gap = 10.0
            expected = []
            for port in range(1, 8):
                pieces: list[list[float]] = []
                for row in sorted({row for row in rows if row[4] == port}):
                    if pieces and row[0] <= round(pieces[-1][1] + gap, 9):
                        pieces[-1][1] = max(pieces[-1][1], row[1])
                        pieces[-1][2] += row[7]
                    else:
                        pieces.append([row[0], row[1], row[7]])
                expected += [(port, *piece) for piece in pieces]
            cut = dice.randint(1, len(rows))
            found = []
            for batch in stitched([_batch(rows[:cut]), _batch(rows[cut:])], gap):
                found += [
                    (int(p), float(s), float(e), int(b))
                    for p, s, e, b in zip(batch.source_port, batch.start_s, batch.end_s, batch.bytes_out, strict=True)
                ]
            with self.subTest(seed=seed):
                self.assertEqual(sorted(found), sorted(expected))

    def test_what_matches_nothing_is_proposed(self) -> None:
        self.estate({"flows": {"talk": None}})
        text = as_csv([(DAY + n, DAY + n + 1, "10.0.1.4", "203.0.113.50", 5000, 8443, 6, 10, 19) for n in range(40)])
        self.write("r.csv", text + as_csv(rows_of(1, 50)).split("\n", 1)[1])
        found = self.json("measure", "r.csv", "--save", "loads.json", "--propose", "more.json")
        self.assertEqual(found["unmatched"][0]["records"], 40)
        self.assertEqual(found["unmatched"][0]["target"], "203.0.113.0/24")
        patch = json.loads((self.folder / "more.json").read_text())
        self.assertEqual([one["port"] for one in patch["destinations"].values()][0], 8443)
        self.assertEqual(self.program("check", "--patch", "more.json", "--fail-on", "error").returncode, 0)
        flows = {one["flow"] for one in self.json("demand", "--patch", "more.json")["flows"]}
        self.assertIn("work-to-partner", flows)

    def test_growth_of_weeks_is_proposed(self) -> None:
        """Four weeks, each day a hundredth more than the last: 35 % in a month; proposed, and planned by.

        The slope through 28 days of 400 connections has a standard error of 0.117 %, the month of 4.3 %.
        """
        self.estate({"flows": {"talk": {"per_host_per_s": 0.01}}})
        rows, dice = [], np.random.default_rng(3)
        for day in range(28):
            starts = np.sort(dice.random(dice.poisson(400 * 1.01**day))) * 86_400
            rows += [
                (
                    DAY + 86_400 * day + int(s),
                    DAY + 86_400 * day + int(s) + 2,
                    "10.0.1.5",
                    "198.51.100.7",
                    40_000,
                    443,
                    6,
                    9,
                    19,
                )
                for s in starts
            ]
        self.write("r.csv", as_csv(rows))
        [load] = self.json("measure", "r.csv", "--propose", "more.json")["loads"]
        month = 1.01**30.4375 - 1
        self.assertAlmostEqual(load["growth_per_month"], month, delta=3.3 * 0.043)
        for end in ("low", "high"):
            half = abs(load[f"growth_{end}_per_month"] - load["growth_per_month"])
            self.assertAlmostEqual(half, 1.7 * 0.043, delta=0.03)
        proposed = json.loads((self.folder / "more.json").read_text())["flows"]["talk"]["growth_per_month"]
        self.assertAlmostEqual(proposed["likely"], load["growth_per_month"], delta=0.0001)
        found = self.json("schedule", "--patch", "more.json", "--months", "3", status=None)
        self.assertEqual(found["confidence"], 0.9)
        stated = self.json("measure", "r.csv", "--set", "flows.talk.growth_per_month=0.02", "--propose", "none.json")
        self.assertTrue(stated["loads"])
        self.assertNotIn("flows", json.loads((self.folder / "none.json").read_text()))


class MeasuredFlows(Records):
    def test_a_measured_day_gives_back_what_made_it(self) -> None:
        dice = np.random.default_rng(5)
        hours = np.array([1.0] * 12 + [3.0] * 12)
        rates = np.repeat(hours, 3600) * 0.5
        numbers = dice.poisson(rates)
        starts = DAY + np.repeat(np.arange(86_400), numbers) + dice.random(int(numbers.sum()))
        lengths = np.round(dice.lognormal(0.0, 1.0, starts.size), 3)
        rows = [
            (round(float(s), 3), round(float(s + d), 3), "10.0.1.5", "198.51.100.7", 40000, 443, 6, 2048, 19)
            for s, d in zip(np.sort(starts), lengths, strict=True)
        ]
        flow = {"from": "work", "to": "partner", "measured": "loads.json"}
        self.estate({"flows": {"talk": None}})
        self.write("r.csv", as_csv(rows))
        # The flow may refer to what is yet to be measured; nothing else reads it then.
        self.estate({"flows": {"talk": None}, "destinations": {"partner": {"port": 443}}})
        written = self.write("estate.yaml", merged(ESTATE, {"flows": {"talk": None, "seen": flow}}))
        self.assertEqual(self.program("demand").returncode, 2)
        self.assertEqual(self.program("measure", "r.csv", "--save", "loads.json").returncode, 0)
        self.assertTrue(written.exists())
        [load] = [one for one in json.loads((self.folder / "loads.json").read_text())["pairs"]["app"].values()]
        self.assertEqual(load["duration_s"]["shape"], "lognormal")
        self.assertAlmostEqual(load["duration_s"]["mean"], np.exp(0.5), delta=0.03)
        self.assertAlmostEqual(load["new_per_s"], 1.0, delta=4 * load["new_per_s_error"])
        # Independent connections show no batch, and no variation within the hour.
        self.assertEqual((load["batch"], load["rate_cv"], load["day_cv"]), (1.0, 0.0, 0.0))
        self.assertAlmostEqual(load["out_kib_per_connection"], 2.0, places=6)
        [row] = self.json("demand")["flows"]
        # 1.5 a second at the peak, each 1.65 s and 60 s more.
        self.assertAlmostEqual(row["peak_concurrent_connections"], 1.5 * (np.exp(0.5) + 60), delta=3)
        self.assertAlmostEqual(row["peak_new_per_s"], 1.5, delta=0.05)

    def test_the_figure_shows_the_mean_that_is_measured(self) -> None:
        """Minute by minute, the mean number open adds up to the time that all connections last."""
        rows = rows_of(5)
        pairs = Pairs(self.estate().estate)
        batches, _ = self.batches("r.csv", as_csv(rows).encode())
        summary = summarised(batches, pairs)
        for one in measured(summary, pairs):
            _, mean = open_by_minute(summary, pairs, one)
            self.assertAlmostEqual(float(mean.sum()) * 60, one.duration_s * one.connections, places=3)
            self.assertLessEqual(float(mean.max()), one.concurrent_peak + 1e-9)
        for name in ("m.svg", "m.png"):
            self.program("measure", "r.csv", "--figure", name)
            self.assertGreater((self.folder / name).stat().st_size, 10_000)

    def test_the_standard_error_covers_the_rate_that_made_the_records(self) -> None:
        # 200 days of which each is measured by itself: 95 % of the intervals hold the rate (Poisson arrivals).
        dice = np.random.default_rng(11)
        pairs = Pairs(self.estate().estate)
        rate, within = 0.02, 0
        for day in range(200):
            n = int(dice.poisson(rate * 86_400))
            begin = DAY + day * 86_400
            # A record of another pair at either end: the whole day was looked at.
            starts = np.concatenate([[begin], begin + np.sort(dice.random(n)) * 86_399, [begin + 86_399.9]])
            rows: list[Row] = [(float(s), float(s), "10.0.1.1", "198.51.100.7", 1, 443, 6, 1, 2) for s in starts]
            for at in (0, -1):
                rows[at] = (*rows[at][:3], "192.0.2.5", *rows[at][4:])
            [one] = [
                each for each in measured(summarised([_batch(rows)], pairs), pairs) if each.destination == "partner"
            ]
            within += abs(one.new_per_s - rate) <= 1.96 * one.days.error * one.new_per_s
        self.assertTrue(0.92 <= within / 200 <= 0.98, within)

    def test_what_is_no_measured_load(self) -> None:
        for content, flow in (
            ("{}", {}),
            ("nothing", {}),
            (json.dumps({"measured": 1, "pairs": {}}), {}),
            (json.dumps({"measured": 1, "pairs": {}}), {"per_host_per_s": 1}),
        ):
            stated = {"from": "work", "to": "partner", "measured": "loads.json", **flow}
            self.write("loads.json", content)
            with self.subTest(content=content), self.assertRaises(Exception) as caught:
                self.estate({"flows": {"talk": None, "seen": stated}})
            self.assertIn("UnusableInput", type(caught.exception).__name__)


class Columns(InFolder):
    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.one_of(st.ip_addresses(v=4).map(str), st.text(alphabet="0123456789.:x", max_size=16)), max_size=20)
    )
    def test_dotted_addresses_are_those_of_the_library(self, words: list[str]) -> None:
        import ipaddress

        addresses, good = dotted([word.encode() for word in words])
        for row, word in enumerate(words):
            try:
                expected: Any = ipaddress.ip_address(word)
            except ValueError:
                # Leading zeros are taken as decimal, as exporters write them.
                if "." in word and good[row]:
                    self.assertEqual(
                        [int(part) for part in word.split(".")],
                        [int(addresses.v4[row]) >> s & 255 for s in (24, 16, 8, 0)],
                    )
                continue
            self.assertTrue(good[row], word)
            if expected.version == 4:
                self.assertEqual(int(addresses.v4[row]), int(expected))

    def test_the_longest_prefix_wins(self) -> None:
        dice = random.Random(3)
        prefixes = [(parse_prefix("10.0.0.0/8"), 0)]
        for number in range(1, 60):
            length = dice.choice([9, 12, 16, 20, 24, 28, 32])
            base = (10 << 24 | dice.randrange(1 << 24)) >> (32 - length) << (32 - length)
            prefixes.append(
                (parse_prefix(f"{'.'.join(str(base >> s & 255) for s in (24, 16, 8, 0))}/{length}"), number)
            )
        seen: dict[Any, int] = {}
        for prefix, number in prefixes:
            seen.setdefault(prefix, number)
        numbers = np.array(
            [
                dice.randrange(1 << 32) if dice.random() < 0.2 else 10 << 24 | dice.randrange(1 << 24)
                for _ in range(3000)
            ],
            dtype=np.uint32,
        )
        found = Matcher(prefixes).match(Addresses(numbers))
        for value, got in zip(numbers, found, strict=True):
            holding = [p for p in seen if int(p.network_address) <= int(value) <= int(p.broadcast_address)]
            best = max(holding, key=lambda p: p.prefixlen, default=None)
            self.assertEqual(got, -1 if best is None else seen[best])


def _number(text: str) -> int:
    a, b, c, d = map(int, text.split("."))
    return a << 24 | b << 16 | c << 8 | d


def _batch(rows: list[Row]) -> Batch:
    columns = list(zip(*rows, strict=True)) if rows else [()] * 9
    ending = [2 if flags & 4 else 1 if flags & 1 else 0 for flags in columns[8]]
    return Batch(
        np.array(columns[0], dtype=float), np.array(columns[1], dtype=float),
        Addresses(np.array([_number(one) for one in columns[2]], dtype=np.uint32)),
        Addresses(np.array([_number(one) for one in columns[3]], dtype=np.uint32)),
        np.array(columns[4], dtype=np.uint16), np.array(columns[5], dtype=np.uint16),
        np.array(columns[6], dtype=np.uint8),
        np.array(columns[7], dtype=np.int64), np.zeros(len(rows), dtype=np.int64), np.array(ending, dtype=np.uint8),
    )  # fmt: skip


def v5(rows: list[Row]) -> bytes:
    """NetFlow v5: up to 30 records a message; times are milliseconds since the exporter began."""
    boot, whole = DAY - 1000, b""
    for at in range(0, len(rows), 30):
        some = rows[at : at + 30]
        whole += struct.pack(">HHIIIIBBH", 5, len(some), 9_000_000, boot + 9000, 0, at, 0, 0, 0)
        for start, end, source, target, sport, dport, protocol, size, flags in some:
            first, last = round((start - boot) * 1000), round((end - boot) * 1000)
            whole += struct.pack(
                ">IIIHHIIIIHHBBBBHHBBH", _number(source), _number(target), 0, 0, 0, 1, size, first, last, sport,
                dport, 0, flags, protocol, 0, 0, 0, 0, 0, 0,
            )  # fmt: skip
    return whole


def v9(rows: list[Row]) -> bytes:
    boot, whole = DAY - 1000, b""
    fields = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (6, 1), (1, 4), (22, 4), (21, 4)]
    template = struct.pack(">HHHH", 0, 8 + 4 * len(fields), 300, len(fields))
    template += b"".join(struct.pack(">HH", *one) for one in fields)
    for number, at in enumerate(range(0, len(rows), 25)):
        some, body = rows[at : at + 25], b""
        for start, end, source, target, sport, dport, protocol, size, flags in some:
            first, last = round((start - boot) * 1000), round((end - boot) * 1000)
            body += struct.pack(
                ">IIHHBBIII", _number(source), _number(target), sport, dport, protocol, flags, size, first, last
            )
        body += b"\0" * (-len(body) % 4)
        sets = (template if number == 0 else b"") + struct.pack(">HH", 300, 4 + len(body)) + body
        whole += struct.pack(">HHIIII", 9, len(some) + (number == 0), 9_000_000, boot + 9000, number, 7) + sets
    return whole


def _ipfix_message(sets: bytes, sequence: int) -> bytes:
    return struct.pack(">HHIII", 10, 16 + len(sets), DAY + 9000, sequence, 3) + sets


def _template_set(varying: bool) -> bytes:
    fields = [(152, 8), (153, 8), (8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (6, 1), (1, 8)]
    entries = [struct.pack(">HH", *one) for one in fields]
    if varying:
        # An element of an enterprise, and one whose length varies, in the middle.
        entries[3:3] = [struct.pack(">HHI", 0x8000 | 77, 3, 4242), struct.pack(">HH", 82, 65535)]
    body = struct.pack(">HH", 256, len(entries)) + b"".join(entries)
    return struct.pack(">HH", 2, 4 + len(body)) + body


def _data_set(rows: list[Row], varying: bool) -> bytes:
    body = b""
    for number, (start, end, source, target, sport, dport, protocol, size, flags) in enumerate(rows):
        body += struct.pack(">QQI", round(start * 1000), round(end * 1000), _number(source))
        if varying:
            name = b"x" * (number % 5) if number % 7 else b"y" * 300
            length = bytes([len(name)]) if len(name) < 255 else b"\xff" + struct.pack(">H", len(name))
            body += b"\1\2\3" + length + name
        body += struct.pack(">IHHBBQ", _number(target), sport, dport, protocol, flags, size)
    return struct.pack(">HH", 256, 4 + len(body)) + body


def ipfix(rows: list[Row], varying: bool = False, per_message: int = 40, sequence: int = 0) -> bytes:
    whole = b""
    for at in range(0, len(rows), per_message):
        sets = (_template_set(varying) if at == 0 else b"") + _data_set(rows[at : at + per_message], varying)
        whole += _ipfix_message(sets, sequence + at)
    return whole
