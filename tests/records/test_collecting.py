"""What is collected as it is sent: the same as from a file, whole at any time, bounded whatever comes."""

import json
import random
import socket
import struct
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager

from fenrask.errors import UnusableInput
from fenrask.records.collecting import Collector, Listener
from fenrask.records.matching import Pairs
from fenrask.records.readers import USUAL, Quiet, read_records
from fenrask.records.runs import Room
from fenrask.records.summary import Summary
from fenrask.records.tallying import summarised
from tests.records.test_measure import DAY, Row, ipfix, v5, v9
from tests.support import PROGRAM, InFolder


def rows(seed: int, n: int) -> list[Row]:
    dice = random.Random(seed)
    found: list[Row] = []
    for number in range(n):
        start = DAY + round(dice.random() * 3000, 3)
        ends = (f"10.0.1.{dice.randint(1, 9)}", "198.51.100.7", 10_000 + number, 443)
        found.append((start, round(start + dice.random() * 9, 3), *ends, 6, dice.randrange(1, 9999), 27))
    return found


def messages(content: bytes) -> list[bytes]:
    """A file of messages, one by one."""
    found, at = [], 0
    while at < len(content):
        version, word = struct.unpack(">HH", content[at : at + 4])
        if version == 9:
            after = content.find(struct.pack(">H", 9), at + 20)
            while after >= 0 and content[after + 8 : after + 12] != content[at + 8 : at + 12]:
                after = content.find(struct.pack(">H", 9), after + 1)
            length = (after if after >= 0 else len(content)) - at
        else:
            length = 24 + 48 * word if version == 5 else word
        found.append(content[at : at + length])
        at += length
    return found


def told(summary: Summary) -> tuple[object, ...]:
    """What must not differ by how it came."""
    parts = (summary.starts.whole(), summary.durations, summary.bytes_out, summary.endings)
    return (summary.records, *((one.keys.tolist(), one.values.tolist()) for one in parts))


class Collecting(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.pairs = Pairs(self.estate().estate)

    def from_file(self, name: str, content: bytes) -> Summary:
        (self.folder / name).write_bytes(content)
        from fenrask.records.batch import Unread

        return summarised(read_records(str(self.folder / name), Unread({}), quiet=USUAL)[2], self.pairs)

    def test_messages_come_to_what_their_file_does(self) -> None:
        for name, content in (("ipfix", ipfix(rows(1, 500))), ("v5", v5(rows(2, 500))), ("v9", v9(rows(3, 500)))):
            # With no room in memory for what is counted, it is as if it was there.
            collector = Collector(self.pairs, USUAL, Room(str(self.folder), 0) if name == "v5" else None)
            every = messages(content)
            for number, one in enumerate(every):
                collector.take("192.0.2.1:4000", one, float(number))
                if number == len(every) // 2:
                    half = collector.so_far()
            with self.subTest(name):
                expected = self.from_file(f"r.{name}", content)
                self.assertEqual(b"".join(every), content)
                self.assertGreater(half.records, 200)
                self.assertLess(half.records, 500)
                # Whole at any time, and at the end.
                self.assertEqual(told(collector.so_far()), told(expected))
                self.assertEqual(told(collector.end()), told(expected))
                self.assertEqual(collector.unread.reasons, {})

    @contextmanager
    def listening(self, collector: Collector, every_s: float = 60.0) -> Iterator[tuple[int, list[int]]]:
        """A listener in a thread of its own; its port, and how often it told."""
        calls: list[int] = []
        with Listener("127.0.0.1", 0, collector) as listener:
            thread = threading.Thread(target=listener.run, args=(1.5, every_s, lambda: calls.append(1)))
            thread.start()
            try:
                yield listener.port, calls
            finally:
                thread.join()

    def test_over_datagrams_and_streams(self) -> None:
        over_udp, over_tcp = ipfix(rows(4, 300)), ipfix(rows(5, 300))
        collector, dice = Collector(self.pairs, USUAL), random.Random(1)
        with self.listening(collector, 0.4) as (port, calls):
            with closing(socket.socket(type=socket.SOCK_DGRAM)) as sender:
                for one in messages(over_udp):
                    sender.sendto(one, ("127.0.0.1", port))
            with closing(socket.create_connection(("127.0.0.1", port))) as stream:
                left = over_tcp
                while left:
                    size = dice.randint(1, 900)
                    stream.sendall(left[:size])
                    left = left[size:]
            with closing(socket.create_connection(("127.0.0.1", port))) as stream:
                stream.sendall(b"GET / HTTP/1.1\r\n\r\n")
        self.assertEqual(len(collector.exporters), 2)
        whole = collector.end()
        expected = self.from_file("u.ipfix", over_udp) + self.from_file("t.ipfix", over_tcp)
        self.assertEqual(told(whole), told(expected))
        self.assertEqual([*collector.unread.reasons], ["streams that are no IPFIX"])
        self.assertGreaterEqual(len(calls), 2)

    def test_what_is_lost_and_what_is_none_is_counted(self) -> None:
        collector = Collector(self.pairs, USUAL)
        every = messages(ipfix(rows(6, 400)))
        for one in every[:2] + every[5:]:
            collector.take("a:1", one, 0.0)
        dice = random.Random(3)
        for _ in range(2000):
            content = bytearray(dice.randbytes(dice.randrange(0, 90)))
            if dice.random() < 0.5 and len(content) >= 16:
                content[:4] = struct.pack(">HH", dice.choice([5, 9, 10]), len(content))
            collector.take(f"b:{dice.randrange(3)}", bytes(content), 0.0)
        collector.end()
        number, where = collector.unread.reasons["records missing by their sequence"]
        self.assertGreaterEqual(number, 120)
        self.assertEqual(where, "a:1")
        self.assertIn("datagrams that are no message of NetFlow v5, v9 or IPFIX", collector.unread.reasons)

    def test_more_exporters_than_are_followed(self) -> None:
        collector, one = Collector(self.pairs, Quiet()), ipfix(rows(7, 20))
        for number in range(600):
            collector.take(f"192.0.2.1:{number}", one, float(number))
        self.assertEqual(len(collector.exporters), 256)
        self.assertEqual(collector.end().records, 600 * 20)
        [(why, (number, _))] = collector.unread.reasons.items()
        self.assertEqual((why[:34], number), ("exporters beyond those that are fo", 600 - 256))

    def test_the_program(self) -> None:
        content = ipfix(rows(8, 200))
        (self.folder / "r.ipfix").write_bytes(content)
        self.assertEqual(self.program("measure", "r.ipfix", "--save", "file.json").returncode, 0)
        with closing(socket.socket(type=socket.SOCK_DGRAM)) as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        words = [str(PROGRAM), "measure", "--listen", str(port), "--for", "4", "--save", "sent.json"]
        pipe = subprocess.PIPE
        with subprocess.Popen(words, cwd=self.folder, stdout=pipe, stderr=pipe, text=True) as done:
            assert done.stderr is not None
            self.assertIn(f"listening at 127.0.0.1:{port}", done.stderr.readline())
            with closing(socket.socket(type=socket.SOCK_DGRAM)) as sender:
                for one in messages(content):
                    sender.sendto(one, ("127.0.0.1", port))
                    time.sleep(0.001)
            out, said = done.communicate(timeout=60)
        self.assertEqual(done.returncode, 0, said)
        self.assertIn("200 records", out)
        both = (json.loads((self.folder / name).read_text()) for name in ("file.json", "sent.json"))
        self.assertEqual(*both)

    def test_how_it_is_asked_for(self) -> None:
        for words in (
            ("--listen", "nowhere"), ("--listen", "0"), ("--listen", "203.0.113.77:4000", "--for", "1"),
            ("--listen", "4000", "r.csv"), ("--for", "3", "r.csv"), (), ("--listen", "4000", "--for", "-1"),
            ("--listen", "4000", "--replay"), ("--listen", "4000", "--active-timeout", "60"), ("--listen", "4000x"),
            ("--listen", "70000"), ("--listen", "127.0.0.1"), ("--listen", ""), ("--listen", "4000", "--for", "soon"),
        ):  # fmt: skip
            self.assertEqual(self.program("measure", *words).returncode, 2, words)
        with Listener("127.0.0.1", 0, Collector(self.pairs, USUAL)) as one, self.assertRaises(UnusableInput):
            Listener("127.0.0.1", one.port, Collector(self.pairs, USUAL)).__enter__()
