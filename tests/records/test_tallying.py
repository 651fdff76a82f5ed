"""Records counted all at once, against each counted by itself; messages gone through together, against one by one."""

import gzip
import io
import pickle
import struct
import unittest
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import fields
from importlib import import_module
from ipaddress import ip_address, ip_network
from pathlib import Path
from unittest.mock import patch

import numpy as np
import pyarrow as arrow
import pyarrow.parquet as parquet

from fenrask.compiling import Compiled
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.records.batch import UDP_ALONE, UDP_ONE_WAY, Addresses, Batch, Unread, settled_batches
from fenrask.records.counts import Counts, Ordered
from fenrask.records.matching import Pairs
from fenrask.records.measuring import measured
from fenrask.records.parts import Reading, part_of, whole_of
from fenrask.records.readers import Quiet, Share, Source, read_records
from fenrask.records.readers.exported import Decoder
from fenrask.records.readers.gathering import Gathering
from fenrask.records.runs import Room, Runs, Waiting, cuts
from fenrask.records.summary import Summary, moves_of
from fenrask.records.tallying import summarised
from tests.records.test_exporters import capture, connections
from tests.records.test_measure import DAY, HEAD, Records, as_csv, ipfix, rows_of, v5, v9


def drawn(dice: np.random.Generator, n: int) -> Batch:
    """Records between a few networks, either way round, some of IPv6, with every ending."""
    near = dice.choice([0x0A000105, 0x0A000207, 0xC6336407, 0xC6336480, 0x01020304], n).astype(np.uint32)
    far = dice.choice([0xC6336407, 0xC63364F0, 0x0A000105, 0x05060708], n).astype(np.uint32)
    start = DAY + dice.integers(0, 7_200_000, n) / 1e3
    six = tuple((int(row), int(ip_address("2001:db8::7"))) for row in np.flatnonzero(dice.random(n) < 0.1))
    octets = dice.integers(0, 1 << 40, (2, n))
    return Batch(
        start, start + dice.choice([0.0, 0.5, 3.25, 40.125], n), Addresses(near), Addresses(far, six),
        dice.choice([0, 443, 5000, 6000], n).astype(np.uint16), dice.choice([443, 53, 80], n).astype(np.uint16),
        dice.choice([6, 17], n).astype(np.uint8), octets[0], octets[1], dice.integers(0, 12, n).astype(np.uint8),
        is_new=dice.random(n) < 0.9,
    )  # fmt: skip


class Tallied(Records):
    def test_a_batch_is_the_sum_of_its_records(self) -> None:
        """Pairs by the longest of all prefixes that hold an address; counts by a dictionary."""
        self.estate()
        pairs = Pairs(read_estate(self.folder / "estate.yaml").estate)
        batches = [drawn(np.random.default_rng(seed), 400) for seed in range(4)]
        found = summarised(batches, pairs)
        plain = {name: Counter[int]() for name in ("starts", "bytes_out", "bytes_in", "duration_ms", "endings")}
        opened = Counter[tuple[int, int]]()
        for batch in batches:
            matched = pairs.match(batch)
            for row in range(len(batch)):
                pair = int(matched.pair[row])
                self.assertEqual((pair, bool(matched.is_reply[row])), self.pair_of(pairs, batch, row))
                if pair < 0:
                    continue
                out, back = int(batch.bytes_out[row]), int(batch.bytes_in[row])
                key = pair << 32
                plain["bytes_out"][key] += back if matched.is_reply[row] else out
                plain["bytes_in"][key] += out if matched.is_reply[row] else back
                if matched.is_reply[row]:
                    continue
                begin, end = (round(float(one[row]) * 1000) for one in (batch.start_s, batch.end_s))
                opened[pair, begin] += 1
                opened[pair, end] -= 1
                if batch.is_new is None or not batch.is_new[row]:
                    continue
                ending = int(batch.ending[row])
                plain["starts"][key + begin // 1000] += 1
                plain["endings"][key + ending] += ending not in (0, 4)
                plain["duration_ms"][key] += (end - begin) * (ending not in (6, 7))
        for name, counts in plain.items():
            some = found.starts.whole() if name == "starts" else getattr(found, name)
            with self.subTest(name):
                self.assertEqual(
                    dict(zip(some.keys.tolist(), some.values.tolist(), strict=True)),
                    {key: number for key, number in counts.items() if number},
                )
        for number in {pair for pair, _ in opened}:
            at, moves = moves_of(found, pairs, number)
            want = {when: by for (pair, when), by in sorted(opened.items()) if pair == number and by}
            self.assertEqual(dict(zip(at.tolist(), moves.tolist(), strict=True)), want)

    def pair_of(self, pairs: Pairs, batch: Batch, row: int) -> tuple[int, bool]:
        """By going through every subnet and destination."""
        estate = read_estate(self.folder / "estate.yaml").estate
        six = dict(batch.target.v6)
        near = ip_address(int(batch.source.v4[row]))
        far = ip_address(six.get(row, int(batch.target.v4[row])))
        numbers = {"tcp": 6, "udp": 17}
        for inner, outer, port in (near, far, batch.target_port), (far, near, batch.source_port):
            subnets = [name for name, one in estate.subnets.items() if any(inner in net for net in nets(one.prefixes))]
            fitting = [
                (one.port is not None, net.prefixlen, name)
                for name, one in estate.destinations.items()
                if numbers[one.protocol] == batch.protocol[row] and one.port in (None, int(port[row]))
                for net in nets(one.prefixes)
                if outer in net
            ]
            if subnets and fitting:
                return pairs.number(subnets[0], max(fitting)[2]), inner is far
        return -1, False

    def test_of_very_many_pairs_times_are_coarser(self) -> None:
        """Pairs and times share 63 bits: of 2^24 pairs a time is one of 8 ms, and what is open is nearly the same."""
        pairs = Pairs(self.estate().estate)
        self.assertEqual((pairs.coarse, pairs.time_bits), (0, 42))
        batches = [drawn(np.random.default_rng(seed), 400) for seed in range(4)]
        fine = measured(summarised(batches, pairs), pairs)
        pairs.subnets += [f"more-{n}" for n in range((1 << 24) // len(pairs.destinations) - len(pairs.subnets))]
        self.assertEqual((pairs.coarse, pairs.time_bits), (3, 39))
        for one, other in zip(fine, measured(summarised(batches, pairs), pairs), strict=True):
            self.assertEqual((one.subnet, one.connections), (other.subnet, other.connections))
            self.assertAlmostEqual(one.concurrent, other.concurrent, delta=0.001 * one.concurrent + 1e-4)
            self.assertEqual(one.concurrent_peak, other.concurrent_peak)

    def test_parts_add_up_whatever_their_order(self) -> None:
        self.estate()
        pairs = Pairs(read_estate(self.folder / "estate.yaml").estate)
        batches = [drawn(np.random.default_rng(seed), 200) for seed in range(9)]
        whole = summarised(batches, pairs)
        parts = [summarised(batches[first::3], pairs) for first in range(3)]
        for other in (Summary.total(parts[::-1]), parts[2] + (parts[0] + parts[1])):
            for name in ("starts", "durations", "addresses", "endings", "marks", "hours", "opened", "ended"):
                self.assertEqual(columns_of(getattr(whole, name)), columns_of(getattr(other, name)), name)


class OnDisk(Records):
    """What waits on disk is read as if it was in memory: the same loads, times, and sums, to the bit."""

    def test_with_hardly_any_memory(self) -> None:
        self.estate()
        pairs = Pairs(read_estate(self.folder / "estate.yaml").estate)
        batches = [drawn(np.random.default_rng(seed), 300) for seed in range(12)]
        plain = summarised(batches, pairs)
        loads = measured(plain, pairs)
        for every, together, memory in ((1, 64, 0), (7, 20, 400), (64, 1 << 22, 300)):
            room = Room(str(self.folder), memory)
            with (
                patch("fenrask.records.runs.EVERY", every), patch.object(Waiting, "room", together),
                patch("fenrask.records.measuring._TIMES_AT_ONCE", 2 * every), self.subTest(every),
            ):  # fmt: skip
                whole = summarised(batches, pairs, room=room)
                shares = Summary.total([summarised(batches[at::3], pairs, room=room) for at in range(3)])
                for found in (whole, shares, pickle.loads(pickle.dumps(whole)), shares.kept_in(Room(room.folder, 0))):
                    self.assertTrue(found.opened.on_disk)
                    for one in fields(Summary):
                        here, there = (getattr(each, one.name) for each in (found, plain))
                        self.assertEqual(columns_of(here), columns_of(there), one.name)
                    self.assertEqual(measured(found, pairs), loads)
                    number = pairs.number(loads[0].subnet, loads[0].destination)
                    for here, there in zip(*(moves_of(each, pairs, number) for each in (found, plain)), strict=True):
                        np.testing.assert_array_equal(here, there)
                low, high = 0, 1 << 62
                parts = [whole.ended.within(*some).keys for some in cuts([whole.ended], low, high, 4 * every)]
                self.assertGreater(len(parts), 1 if every < 64 else 0)
                np.testing.assert_array_equal(np.concatenate(parts), whole.ended.within(low, high).keys)

    def test_no_room_on_disk_is_told(self) -> None:
        pairs = Pairs(self.estate().estate)
        with self.assertRaises(UnusableInput) as caught:
            summarised([drawn(np.random.default_rng(1), 300)], pairs, room=Room(str(self.folder / "none"), 0))
        self.assertIn("Give more --memory", str(caught.exception))


class Bounded(unittest.TestCase):
    def test_neighbours_are_few_and_none_is_lost(self) -> None:
        with patch("fenrask.records.summary._MOST_NEIGHBOURS", 10):
            whole = Summary.total(
                [Summary(unmatched={(f"a{n}", "b", 1, 6): n + 1 for n in range(at, 40, 4)}) for at in range(4)]
            )
        self.assertEqual([*whole.unmatched.values()], [40, 39, 38, 37, 36])
        self.assertEqual(whole.lost, 40 * 41 // 2)

    def test_marks_are_few_whoever_adds_them(self) -> None:
        dice = np.random.default_rng(1)
        keys = dice.integers(0, 1 << 63, 3000, dtype=np.int64)
        parts = [Summary(marks=Counts.of(dice.choice(keys, 900))) for _ in range(6)]
        plain = Counts.total([one.marks for one in parts])
        with patch("fenrask.records.summary._MOST_MARKS", 50):
            one, other = Summary.total(parts), Summary.total(parts[3:]) + (parts[2] + Summary.total(parts[:2]))
        self.assertEqual(columns_of(one.marks), columns_of(other.marks))
        self.assertEqual(one.marks_below, other.marks_below)
        self.assertLessEqual(one.marks.keys.size, 50)
        np.testing.assert_array_equal(one.marks.keys, plain.keys[plain.keys < one.marks_below])
        # About as many of them are there more than once.
        whole = 1 - plain.keys.size / plain.values.sum()
        self.assertAlmostEqual(one.doubled, whole, delta=0.25)


def columns_of(value: object) -> object:
    """Counts, in runs or not, as lists."""
    one = value.whole() if isinstance(value, Runs) else value
    return [column.tolist() for column in one.columns] if isinstance(one, Ordered) else one


def nets(prefixes: object) -> list[object]:
    return [ip_network(str(one)) for one in prefixes]  # type: ignore[attr-defined]


class CountsOfKeys(unittest.TestCase):
    def test_sums_are_those_of_a_dictionary(self) -> None:
        for seed in range(20):
            dice = np.random.default_rng(seed)
            parts, plain = [], Counter[int]()
            for _ in range(int(dice.integers(1, 6))):
                n = int(dice.integers(0, 60))
                keys, values = dice.integers(-9, 30, n), dice.integers(-2, 3, n)
                parts.append(Counts.of(keys, values) if seed % 2 else Counts.of(keys))
                for key, value in zip(keys.tolist(), values.tolist(), strict=True):
                    plain[key] += value if seed % 2 else 1
            whole = Counts.total(parts)
            self.assertEqual(
                [*zip(whole.keys.tolist(), whole.values.tolist(), strict=True)],
                sorted((key, value) for key, value in plain.items() if value),
            )


class Together(Records):
    """A file of messages, against the same messages taken one by one, as they come when they are listened for."""

    def batches(self, content: bytes, sizes: list[int]) -> tuple[list[Batch], Unread]:
        unread = Unread({})
        source = Source("x", None, unread)  # type: ignore[arg-type]
        decoder, gathering, at = Decoder(source), Gathering(source), 0
        found: list[Batch] = []
        for size in sizes:
            for _, raw in decoder.take(content[at : at + size]):
                found += [] if raw is None else gathering.take(raw)
            at += size
        for _, raw in decoder.rest():
            found += [] if raw is None else gathering.take(raw)
        return [*found, *gathering.rest()], unread

    def test_what_is_read_is_the_same(self) -> None:
        dice = np.random.default_rng(3)
        for number in range(12):
            messages: list[bytes] = []
            for domain in range(1 + number % 3):
                rows = rows_of(40 + number, 400)
                some = [ipfix(rows[at : at + 40], sequence=at) for at in range(0, 400, 40)] if number % 4 != 1 else []
                some = some or [v9(rows[at : at + 25]) for at in range(0, 400, 25)]
                some = [v5(rows[at : at + 30]) for at in range(0, 390, 30)] if number % 4 == 3 else some
                messages += [of_domain(one, domain) for one in some]
            if number % 2:
                # Some are lost, or overtake others.
                messages = [messages[at] for at in sorted(range(len(messages)), key=lambda at: at + 3 * dice.random())]
                del messages[len(messages) // 2]
            content = b"".join(messages)
            (self.folder / "x").write_bytes(content)
            unread = Unread({})
            read = [*read_records(str(self.folder / "x"), unread)[2]]
            plain, told = self.batches(content, [*map(len, messages)])
            with self.subTest(number):
                self.assertEqual(
                    {why: count for why, (count, _) in unread.reasons.items()},
                    {why: count for why, (count, _) in told.reasons.items()},
                )
                for name in ("start_s", "end_s", "bytes_out", "ending", "target_port"):
                    np.testing.assert_array_equal(
                        np.sort(np.concatenate([getattr(one, name) for one in read])),
                        np.sort(np.concatenate([getattr(one, name) for one in plain])),
                    )
                self.assertGreater(sum(map(len, read)), 300)

    def test_each_message_of_another_domain_is_read_by_itself(self) -> None:
        """More domains than are gone through together: the same records, and none is missing."""
        rows = rows_of(5, 1500)
        whole = b"".join(of_domain(ipfix([row], sequence=0), number) for number, row in enumerate(rows))
        (self.folder / "x").write_bytes(whole)
        unread = Unread({})
        read = [*read_records(str(self.folder / "x"), unread)[2]]
        self.assertEqual(sum(one.records or 0 for one in read), len(rows))
        self.assertEqual(unread.reasons, {})


def of_domain(message: bytes, domain: int) -> bytes:
    """A message of another observation domain; of NetFlow v5, which has none, as it is."""
    [version] = struct.unpack(">H", message[:2])
    at = {5: 0, 9: 16, 10: 12}[version]
    return message[:at] + struct.pack(">I", domain) + message[at + 4 :] if at else message


class Shares(Records):
    """Shares of a file, whatever their number, come to what the file comes to."""

    def files(self) -> Iterator[tuple[str, bytes]]:
        rows = rows_of(7, 900)
        text = as_csv(rows)
        yield "plain.csv", text.encode()
        yield "dos.csv", text.replace("\n", "\r\n").rstrip("\n").encode()
        yield "spaces.txt", text.replace(",", "  ").encode()
        yield "wrong.csv", text.replace("10.0.1.3", "nobody").replace(",443,", ",x,", 40).encode()
        yield "quoted.csv", text.replace("10.0.1.4", '"10.0.1.4"').encode()
        yield "packed.csv.gz", gzip.compress(text.encode())
        udp = [(*row[:6], 17, *row[7:]) if number % 3 else row for number, row in enumerate(rows)]
        back = [(start, end, to, from_, 443, port, 17, 70, 0) for start, end, from_, to, port, *_ in udp[::2]]
        yield "out.ipfix", ipfix(udp)
        yield "both.ipfix", ipfix(sorted([*udp, *back], key=lambda row: row[1]))
        yield "both.v9", v9(sorted([*udp, *back], key=lambda row: row[1]))
        yield "cut.v5", v5(rows)[:-100]
        columns = [[row[place] for row in rows] for place in range(9)]
        table = arrow.table(dict(zip(HEAD.strip().split(","), columns, strict=True)))
        out = io.BytesIO()
        parquet.write_table(table, out, row_group_size=200)
        yield "r.parquet", out.getvalue()

    def test_loops_as_they_are_written_do_what_compiled_ones_do(self) -> None:
        """To the bit; and of those as they are written each step is within its arrays."""
        pairs = Pairs(self.estate().estate)
        files = [*self.files(), ("r.pcap", capture(connections()[0]))]
        found: dict[bool, list[object]] = {True: [], False: []}
        loops = [
            one
            for module in ("cells", "ends", "loads", "messages", "packets", "pieces", "repeats", "tallying")
            for one in vars(import_module(f"fenrask.records.kernels.{module}")).values()
            if isinstance(one, Compiled)
        ]
        for is_written, told in found.items():
            with ExitStack() as patched:
                for loop in loops:
                    patched.enter_context(patch.object(loop, "_few", 10**9 if is_written else 0))
                for name, content in files:
                    (self.folder / name).write_bytes(content)
                    whole = part_of(str(self.folder / name), Reading({}, pairs, Quiet()))
                    told += [columns_of(getattr(whole.summary, one.name)) for one in fields(Summary)]
                    told.append((whole.unread.told(), measured(whole.summary, pairs)))
        for one, other in zip(found[True], found[False], strict=True):
            self.assertEqual(one, other)

    def test_they_add_up(self) -> None:
        self.estate({"destinations": {"names": {"prefixes": ["198.51.100.0/24"], "port": 443, "protocol": "udp"}}})
        pairs, quiet = Pairs(read_estate(self.folder / "estate.yaml").estate), Quiet()
        for name, content in self.files():
            path = str(self.folder / name)
            Path(path).write_bytes(content)
            whole = part_of(path, Reading({}, pairs, quiet))
            self.assertGreater(whole.summary.records, 600)
            # UDP that nothing came back to is one way where the file tells of answers, and says nothing elsewhere.
            ways = whole.summary.endings.keys & (2**32 - 1)
            self.assertEqual(UDP_ONE_WAY in ways, name.startswith("both"), name)
            self.assertNotIn(UDP_ALONE, ways)
            batches = settled_batches([*read_records(path, Unread({}))[2]])
            self.assertFalse(any(UDP_ALONE in one.ending for one in batches))
            self.assertEqual(any(UDP_ONE_WAY in one.ending for one in batches), name.startswith("both"), name)
            for of in (2, 3, 7):
                parts = [part_of(path, Reading({}, pairs, quiet), Share(one, of)) for one in range(of)]
                found = whole_of(parts)
                with self.subTest(name, of=of):
                    self.assertEqual(found.unread.told(), whole.unread.told())
                    self.assertEqual((found.format, found.guessed), (whole.format, whole.guessed))
                    for one in fields(Summary):
                        here, there = getattr(found.summary, one.name), getattr(whole.summary, one.name)
                        self.assertEqual(columns_of(here), columns_of(there), one.name)
                    # Five row groups are no seven shares.
                    if not name.startswith("packed") and (of < 7 or name != "r.parquet"):
                        # Nor does one of them all the work.
                        self.assertGreater(sorted(part.summary.records for part in parts)[1 - of], 0)
