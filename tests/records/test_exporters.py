"""A real exporter's messages: a capture written here, exported by softflowd, also decoded by nfdump."""

import shutil
import socket
import struct
import subprocess
import time
import unittest
from pathlib import Path

import numpy as np

from fenrask.records.batch import Batch, Unread
from fenrask.records.readers import read_records
from tests.support import InFolder

BEGIN = int(time.time()) - 3600
"""An exporter counts milliseconds in 32 bits: what it exports must have been seen within some days."""


def checksum(data: bytes) -> int:
    data += b"\0" * (len(data) % 2)
    total = sum(struct.unpack(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def packet(source: str, target: str, sport: int, dport: int, flags: int, payload: int) -> bytes:
    """Ethernet, IPv4 (RFC 791) and TCP (RFC 9293) around so many bytes."""
    tcp = struct.pack(">HHIIBBHHH", sport, dport, 1, 1, 5 << 4, flags, 65535, 0, 0)
    ends = socket.inet_aton(source) + socket.inet_aton(target)
    head = struct.pack(">BBHHHBBH", 0x45, 0, 40 + payload, 0, 0, 64, 6, 0) + ends
    head = head[:10] + struct.pack(">H", checksum(head)) + head[12:]
    return b"\2" * 6 + b"\4" * 6 + b"\x08\x00" + head + tcp + b"\0" * payload


def capture(packets: list[tuple[float, bytes]]) -> bytes:
    """A capture file, version 2.4, microseconds."""
    whole = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
    for at, content in packets:
        whole += struct.pack("<IIII", int(at), round(at % 1 * 1e6), len(content), len(content)) + content
    return whole


def connections() -> tuple[list[tuple[float, bytes]], dict[tuple[str, int], int]]:
    """Some connections packet by packet, and the bytes of each direction by sender's address and port."""
    packets, octets = list[tuple[float, bytes]](), dict[tuple[str, int], int]()
    for number in range(25):
        inside, outside, port = f"10.0.1.{number + 1}", "198.51.100.7", 40_000 + number
        at = BEGIN + number * 0.5
        for step, (out, flags, size) in enumerate(
            [(True, 2, 0), (False, 18, 0), (True, 24, 100 + number), (False, 24, 900), (True, 17, 0), (False, 17, 0)]
        ):
            ends = (inside, outside, port, 443) if out else (outside, inside, 443, port)
            packets.append((at + step * 0.01, packet(*ends, flags, size)))
            key = (inside, port) if out else (outside, port)
            octets[key] = octets.get(key, 0) + 40 + size
    return sorted(packets, key=lambda one: one[0]), octets


@unittest.skipUnless(shutil.which("softflowd") and shutil.which("nfdump"), "needs softflowd and nfdump")
class Exporters(InFolder):
    def exported(self, version: int) -> Path:
        """The datagrams that softflowd sends for the capture, one after the other."""
        packets, _ = connections()
        (self.folder / "seen.pcap").write_bytes(capture(packets))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as listening:
            listening.bind(("127.0.0.1", 0))
            listening.settimeout(2.0)
            to = f"127.0.0.1:{listening.getsockname()[1]}"
            words = ["softflowd", "-r", "seen.pcap", "-n", to, "-v", str(version), "-d"]
            subprocess.run(
                words, cwd=self.folder, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=30
            )
            whole, until = b"", time.monotonic() + 20
            while time.monotonic() < until:
                try:
                    whole += listening.recv(65535)
                except TimeoutError:
                    break
        file = self.folder / f"v{version}.bin"
        file.write_bytes(whole)
        return file

    def test_flows_and_bytes_of_each_version(self) -> None:
        _, octets = connections()
        for version in (5, 9, 10):
            with self.subTest(version=version):
                unread = Unread({})
                _, _, found = read_records(str(self.exported(version)), unread)
                batches: list[Batch] = list(found)
                seen: dict[tuple[str, int], int] = {}
                for batch in batches:
                    for row in range(len(batch)):
                        # Both directions of a connection come together: its begin says who opened it.
                        port = int(batch.source_port[row])
                        for end, size in ((batch.source, batch.bytes_out), (batch.target, batch.bytes_in)):
                            seen[socket.inet_ntoa(struct.pack(">I", int(end.v4[row]))), port] = int(size[row])
                self.assertEqual(sum(map(len, batches)), 25)
                self.assertEqual(seen, octets)
                begins = np.concatenate([batch.start_s for batch in batches])
                self.assertLess(abs(float(begins.min()) - BEGIN), 1.5)
                # This exporter leaves its options records out of the sequence, which RFC 7011 counts.
                self.assertLessEqual(
                    {*unread.reasons}, {"records missing by their sequence"} if version == 10 else set()
                )

    def test_nfdump_decodes_the_same(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        kept = self.folder / "kept"
        kept.mkdir()
        packets, octets = connections()
        (self.folder / "seen.pcap").write_bytes(capture(packets))
        words = ["nfcapd", "-p", str(port), "-b", "127.0.0.1", "-w", str(kept), "-l", str(kept)]
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        with subprocess.Popen(words[:-2], **quiet) as collector:
            try:
                time.sleep(1)
                export = ["softflowd", "-r", "seen.pcap", "-n", f"127.0.0.1:{port}", "-v", "9", "-d"]
                subprocess.run(export, cwd=self.folder, check=True, timeout=30, **quiet)
                time.sleep(1)
            finally:
                collector.terminate()
        files = sorted(kept.glob("nfcapd*"))
        if not files:
            self.skipTest("nfcapd kept nothing here")
        told = subprocess.run(
            ["nfdump", "-r", str(files[0]), "-o", "fmt:%sa %sp %da %dp %byt", "-N", "-q"],
            check=True, capture_output=True, text=True,
        )  # fmt: skip
        seen: dict[tuple[str, int], int] = {}
        for line in told.stdout.splitlines():
            source, sport, _, dport, size = line.split()
            key = (source, int(sport) if source.startswith("10.") else int(dport))
            seen[key] = seen.get(key, 0) + int(size)
        self.assertEqual(seen, octets)
