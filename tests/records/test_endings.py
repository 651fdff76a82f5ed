"""Endings as they were: captures, events and exports of the same connections, against the kernel's own table.

A small network of the kernel (two hosts and a router that tracks connections, with timers of a second or some) has
connections of every ending, while its table is counted twenty times a second.
"""

import json
import os
import shutil
import struct
import subprocess
import sys
import time
import unittest
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np

from fenrask.evaluation import evaluate
from fenrask.records.batch import Unread
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Measured, measured, measured_file
from fenrask.records.readers import Quiet, read_records
from fenrask.records.summary import spanned
from fenrask.records.tallying import summarised
from tests.support import InFolder, Watched

TIMERS = {
    "tcp_timeout_time_wait": 4, "tcp_timeout_close": 2, "tcp_timeout_syn_sent": 6, "tcp_timeout_syn_recv": 4,
    "tcp_timeout_established": 7, "tcp_timeout_fin_wait": 5, "tcp_timeout_close_wait": 5, "tcp_timeout_last_ack": 3,
    "udp_timeout": 3, "udp_timeout_stream": 6,
}  # fmt: skip
"""Of the kernel, s (Documentation/networking/nf_conntrack-sysctl.rst)."""
AFTER = {
    "closed": 4, "reset": 2, "idle": 7, "half_closed": 5, "rejected": 0, "unanswered": 6, "udp_one_way": 3,
    "udp_answered": 3, "udp_streaming": 6,
}  # fmt: skip
"""The same as an offer states them: what is rejected is deleted at once."""
TALK = """
import asyncio, socket, struct, sys
async def closed():
    reader, writer = await asyncio.open_connection("198.51.100.2", 8000)
    writer.write(b"x" * 100); await writer.drain(); await reader.read(1); await asyncio.sleep(0.3)
    writer.close()
async def reset():
    reader, writer = await asyncio.open_connection("198.51.100.2", 8000)
    await asyncio.sleep(0.4)
    writer.get_extra_info("socket").setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    writer.transport.abort()
async def left():
    kept.append(await asyncio.open_connection("198.51.100.2", 8000))
async def rejected():
    try: await asyncio.open_connection("198.51.100.2", 8001)
    except OSError: pass
async def unanswered():
    try: await asyncio.wait_for(asyncio.open_connection("198.51.100.2", 8002), 4)
    except (OSError, TimeoutError): pass
async def datagrams(port, times, apart):
    one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); one.setblocking(False)
    for _ in range(times):
        one.sendto(b"x", ("198.51.100.2", port)); await asyncio.sleep(apart)
    one.close()
kept = []
KINDS = [closed, closed, closed, reset, rejected, unanswered, left, lambda: datagrams(9001, 1, 0.1),
         lambda: datagrams(9000, 1, 0.1), lambda: datagrams(9000, 9, 0.4)]
async def main():
    some = []
    for turn in range(int(sys.argv[1])):
        for kind in KINDS:
            some.append(asyncio.create_task(kind())); await asyncio.sleep(0.04)
    await asyncio.gather(*some, return_exceptions=True)
    await asyncio.sleep(9)
    print("done", flush=True)
    await asyncio.sleep(60)
asyncio.run(main())
"""
ANSWER = """
import asyncio
async def serve(reader, writer):
    try:
        while some := await reader.read(100): writer.write(b"y")
        writer.close()
    except OSError: pass
class Back(asyncio.DatagramProtocol):
    def connection_made(self, transport): self.transport = transport
    def datagram_received(self, data, address): self.transport.sendto(b"y", address)
class Quiet(asyncio.DatagramProtocol): pass
async def main():
    loop = asyncio.get_running_loop()
    await asyncio.start_server(serve, "198.51.100.2", 8000, backlog=500)
    await loop.create_datagram_endpoint(Back, ("198.51.100.2", 9000))
    await loop.create_datagram_endpoint(Quiet, ("198.51.100.2", 9001))
    print("ready", flush=True)
    await asyncio.sleep(120)
asyncio.run(main())
"""
COUNTER = """
import time
while True:
    # Who lists the table takes out what has run out, which would stay in it for a while else.
    print(time.time(), sum(1 for _ in open("/proc/net/nf_conntrack")), flush=True)
    time.sleep(0.05)
"""
CAPTURER = """
import socket, struct, sys, time
seen = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3)); seen.bind(("ra0", 0))
seen.setsockopt(socket.SOL_SOCKET, 35, 1)  # SO_TIMESTAMPNS: when the kernel saw a packet
sys.stdout.buffer.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)); sys.stdout.flush()
while True:
    packet, ((_, _, stamp), *_), *_ = seen.recvmsg(65535, 64)
    seconds, nanoseconds = struct.unpack("ll", stamp[:16])
    at = seconds + nanoseconds / 1e9
    sys.stdout.buffer.write(struct.pack("<IIII", int(at), int(at % 1 * 1e6), len(packet), len(packet)) + packet)
    sys.stdout.flush()
"""
TRACKING = """
table ip t {
  chain f {
    type filter hook forward priority 0
    ct state new counter accept
  }
}
"""
SILENT = """
table ip t {
  chain i {
    type filter hook input priority 0
    tcp dport 8002 drop
  }
  chain o {
    type filter hook output priority 0
    icmp type destination-unreachable drop
  }
}
"""
NEEDED = ("ip", "nft")
TRIES = 3
"""How often the kernel is watched where the machine is late."""


def exported(content: bytes) -> bytes:
    """The capture as a plain exporter tells it: records by direction, cut after 1.5 s, done after 1 s of silence.

    Packet by packet, after RFC 7011; without a word of how connections end, but for the flags of TCP.
    """
    flows: dict[bytes, list[float]] = {}
    rows: list[tuple[float, bytes]] = []

    def leave(key: bytes) -> None:
        first, last, octets, flags = flows.pop(key)
        times = struct.pack(">QQ", round(first * 1000), round(last * 1000))
        rows.append((last, key + times + struct.pack(">QB", int(octets), int(flags))))

    at = 24
    while at + 16 <= len(content):
        seconds, part, kept, _ = struct.unpack("<IIII", content[at : at + 16])
        packet, now, at = content[at + 16 : at + 16 + kept], seconds + part / 1e6, at + 16 + kept
        if packet[12:14] != b"\x08\x00" or packet[23] not in (6, 17):
            continue
        key = packet[26:38] + packet[23:24]
        for other in [one for one, (first, last, *_) in flows.items() if now - last > 1 or now - first > 1.5]:
            leave(other)
        flow = flows.setdefault(key, [now, now, 0, 0])
        flow[1], flow[2] = now, flow[2] + struct.unpack(">H", packet[16:18])[0]
        flow[3] = int(flow[3]) | (packet[47] if packet[23] == 6 else 0)
    for key in [*flows]:
        leave(key)
    fields = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (152, 8), (153, 8), (1, 8), (6, 1)]
    template = struct.pack(">HHHH", 2, 8 + 4 * len(fields), 256, len(fields))
    template += b"".join(struct.pack(">HH", *one) for one in fields)
    whole, rows = b"", sorted(rows)
    for start in range(0, len(rows), 500):
        data = b"".join(row for _, row in rows[start : start + 500])
        sets = (b"" if start else template) + struct.pack(">HH", 256, 4 + len(data)) + data
        whole += struct.pack(">HHIII", 10, 16 + len(sets), int(rows[-1][0]) + 60, start, 1) + sets
    return whole


TABLE = Path("/proc/net/nf_conntrack")


def run(*words: str, text: str | None = None) -> str:
    return subprocess.run(words, check=True, capture_output=True, text=True, input=text, timeout=30).stdout


class Kernel:
    """Two hosts with a router between them, in namespaces of their own; all is gone afterwards."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.name = folder, f"fe{os.getpid() % 100000}"
        self.spaces = [f"{self.name}-{end}" for end in ("a", "r", "b")]
        self.running: list[subprocess.Popen[Any]] = []

    def __enter__(self) -> "Kernel":
        try:
            self._build()
        except BaseException:
            self.__exit__()
            raise
        return self

    def _build(self) -> None:
        near, middle, far = self.spaces
        for space in self.spaces:
            run("ip", "netns", "add", space)
            run("ip", "-n", space, "link", "set", "lo", "up")
        for space, own, other, net in ((near, "near0", "ra0", "10.0.1"), (far, "far0", "rb0", "198.51.100")):
            run("ip", "link", "add", own, "netns", space, "type", "veth", "peer", "name", other, "netns", middle)
            run("ip", "-n", space, "address", "add", f"{net}.2/24", "dev", own)
            run("ip", "-n", middle, "address", "add", f"{net}.1/24", "dev", other)
            for where, what in ((space, own), (middle, other)):
                run("ip", "-n", where, "link", "set", what, "up")
            run("ip", "-n", space, "route", "add", "default", "via", f"{net}.1")
        settings = [f"/proc/sys/net/netfilter/nf_conntrack_{key}={value}" for key, value in TIMERS.items()]
        for one in ["/proc/sys/net/ipv4/ip_forward=1", *settings]:
            path, _, value = one.partition("=")
            self.inside(middle, "sh", "-c", f"echo {value} > {path}")
        run("ip", "netns", "exec", middle, "nft", "-f", "-", text=TRACKING)
        run("ip", "netns", "exec", far, "nft", "-f", "-", text=SILENT)

    def inside(self, space: str, *words: str) -> str:
        return run("ip", "netns", "exec", space, *words)

    def start(self, space: str, *words: str, **more: Any) -> "subprocess.Popen[Any]":
        self.running.append(subprocess.Popen(["ip", "netns", "exec", space, *words], **more))
        return self.running[-1]

    def __exit__(self, *_: object) -> None:
        for one in self.running:
            one.kill()
            one.wait()
            for stream in (one.stdout, one.stderr):
                if stream:
                    stream.close()
        for space in self.spaces:
            subprocess.run(["ip", "netns", "del", space], check=False, capture_output=True)

    def observed(self, turns: int) -> float:
        """Run the connections: entries of the router's table times seconds. What was seen of them is in the folder."""
        near, middle, far = self.spaces
        answering = self.start(far, sys.executable, "-c", ANSWER, stdout=subprocess.PIPE)
        assert answering.stdout is not None
        answering.stdout.readline()
        watching = {"seen.pcap": (sys.executable, "-c", CAPTURER), "count.txt": (sys.executable, "-c", COUNTER)}
        if shutil.which("conntrack"):
            watching["events.txt"] = ("conntrack", "-E", "-o", "timestamp")
            watching["events.xml"] = ("conntrack", "-E", "-o", "xml,timestamp")
        with ExitStack() as files:
            for name, words in watching.items():
                out = files.enter_context((self.folder / name).open("wb"))
                self.start(middle, *words, stdout=out, stderr=subprocess.DEVNULL)
            time.sleep(1.5)
            talking = self.start(near, sys.executable, "-c", TALK, str(turns), stdout=subprocess.PIPE)
            assert talking.stdout is not None
            talking.stdout.readline()
            for one in self.running[1:-1]:
                one.terminate()
                one.wait()
        lines = (self.folder / "count.txt").read_text().splitlines()[:-1]
        rows = np.array([line.split() for line in lines], dtype=float)
        return float(np.sum(rows[:-1, 1] * np.diff(rows[:, 0])))


def may_build() -> bool:
    """Whether networks of the kernel can be built here, and their tables be listed."""
    return os.name == "posix" and os.geteuid() == 0 and all(map(shutil.which, NEEDED)) and TABLE.exists()


@unittest.skipUnless(may_build(), "needs root, ip, nft and /proc/net/nf_conntrack")
class Endings(InFolder):
    def test_what_was_measured_takes_as_many_entries_as_the_kernel_had(self) -> None:
        for _ in range(TRIES):
            with Watched() as watched, Kernel(self.folder) as kernel:
                truth = kernel.observed(12)
            if not watched.was_late:
                break
        (self.folder / "seen.ipfix").write_bytes(exported((self.folder / "seen.pcap").read_bytes()))
        watched = ("seen.pcap", "seen.ipfix", "events.txt", "events.xml")
        names = [name for name in watched if (self.folder / name).exists()]
        for name in names:
            held, loads = self.entries(name)
            with self.subTest(name):
                self.assertAlmostEqual(held / truth, 1, delta=0.05)
                self.assertEqual(loads["partner"].connections, 84)
                sevenths = {name: round(7 * share) for name, share in loads["partner"].endings.items()}
                self.assertEqual(sevenths, {"closed": 3, "reset": 1, "idle": 1, "rejected": 1, "unanswered": 1})
                thirds = dict.fromkeys(("udp_one_way", "udp_answered", "udp_streaming"), 1 / 3)
                self.assertEqual(loads["names"].endings, thirds)

    def entries(self, name: str) -> tuple[float, dict[str, Measured]]:
        """Entries times seconds that an estate has whose flows refer to what was measured of a file; what was."""
        catalogue = {"offers": {"gate": {"mapping_timeout_s": AFTER}}}
        ends = {
            "partner": {"port": None},
            "names": {"prefixes": ["198.51.100.0/24"], "protocol": "udp"},
        }
        described = self.estate({"destinations": ends}, catalogue)
        unread, pairs, spans = Unread({}), Pairs(described.estate), dict[str, tuple[int, int]]()
        _, _, batches = read_records(str(self.folder / name), unread, quiet=Quiet.of(described))
        loads = measured(summarised(spanned(batches, name, spans), pairs), pairs)
        self.write("load.json", json.dumps(measured_file(loads)))
        stated = {"from": "work", "measured": "load.json"}
        flows = {one.destination: {**stated, "to": one.destination} for one in loads}
        described = self.estate({"destinations": ends, "flows": {"talk": None, **flows}}, catalogue)
        parts = {part.destination: part for part in evaluate(described).demand.parts if part.exit == "gate"}
        held = sum(one.connections * parts[one.destination].holding_s for one in loads)
        return held, {one.destination: one for one in loads}
