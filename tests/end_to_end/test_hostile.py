"""Every input that once broke the program: it ends in an answer or in a sentence, in time, and in no fault of ours.

The lists of two rounds of attack, a line each. A process is started where the surroundings are the attack, else the
program is called in this one.
"""

import json
import os
import socket
import struct
import subprocess
import time
import unittest
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from threading import Thread
from typing import Any
from unittest.mock import patch

from fenrask import inputs
from fenrask.cli import asking
from fenrask.errors import Place, UnusableInput
from fenrask.inputs import at, file_bytes, json_values
from tests.support import CATALOGUE, ESTATE, PROGRAM, InFolder, merged

ROW = "2026-11-20T00:00:0{0}Z,2026-11-20T00:00:05Z,10.0.1.5,198.51.100.7,443,tcp"
HEADING = "start,end,source,destination,port,protocol"


def records(*rows: bytes, end: bytes = b"\n") -> bytes:
    return end.join([HEADING.encode(), *rows]) + end


SOUND = [ROW.format(n).encode() for n in range(3)]
BACKWARDS = struct.pack("<IIIHHqI", 0x0A0D0D0A, 28, 0x1A2B3C4D, 1, 0, -1, 28) + struct.pack("<Ii", 6, -20) + bytes(40)

# Name: what is changed in the estate and the catalogue, the files beside them, the call, and what is said of it.
CASES: dict[str, tuple[Any, Any, dict[str, bytes], tuple[str, ...], str]] = {
    "a heading inside another": (
        {"flows": None, "flows_csv": "f.csv"}, {}, {"f.csv": b"name,from,needs,needs.x\na,work,1,2\n"}, ("check",),
        "the columns `needs` and `needs.x`, expected one of them",
    ),
    "a heading twice": (
        {"flows": None, "flows_csv": "f.csv"}, {}, {"f.csv": b"name,from,to,to\na,work,partner,store\n"}, ("check",),
        "the columns `to` and `to`, expected one of them",
    ),
    "a null byte in a file's name": (
        {"flows": None, "flows_csv": "f\0.csv"}, {}, {}, ("check",), "expected a file inside the estate's folder",
    ),
    "a companion's name of 5,000 letters": ({"flows_csv": "f" * 5000}, {}, {}, ("check",), "flows_csv"),
    "a catalogue's name of 5,000 letters": (
        {"catalogue": "c" * 5000}, {}, {}, ("check",), "expected a file beside the estate",
    ),
    "a field of 200,000 letters": (
        {"flows": None, "flows_csv": "f.csv"}, {}, {"f.csv": b'name,from\n"' + b"x" * 200_000 + b'",work\n'},
        ("check",), "no `to`",
    ),
    "observations nested without end": ({}, {}, {"o": b'{"a":' * 50_000}, ("confirm", "o"), "expected"),
    "a patch nested without end": ({}, {}, {"p": b'{"a":' * 50_000}, ("check", "--patch", "p"), "hundreds of levels"),
    "loads nested without end": (
        {"flows": {"talk": {"measured": "m", "per_host_per_s": None}}}, {}, {"m": b"[" * 100_000}, ("check",),
        "no loads of subnets",
    ),
    "2,000 dots": ({}, {}, {}, ("check", "--set", "a." * 2000 + "b=1"), "a key of 2,001 parts"),
    "an argument that is not UTF-8": (
        {}, {}, {}, ("check", "--set", "exits.gate.addresses=\udcff"), "bytes that are not UTF-8",
    ),
    "an estate's name that is not UTF-8": ({}, {}, {}, ("check", "\udcff.yaml"), "no such file"),
    "load without end": ({}, {}, {}, ("stress", "--load-up", "inf"), "--load-up: inf, expected a finite number"),
    "reopening without end": ({}, {}, {}, ("stress", "--reopen", "inf"), "--reopen: inf, expected a finite number"),
    "money without end": ({}, {}, {}, ("choose", "--budget", "inf"), "--budget: inf, expected a finite number"),
    "a profile of 1e308": (
        {"profiles": {"p": [1e308] * 24}, "flows": {"talk": {"profile": "p"}}}, {}, {}, ("choose",),
        "at most 1,000,000,000,000,000",
    ),
    "a rate of 1e308": ({"flows": {"talk": {"per_host_per_s": 1e308}}}, {}, {}, ("capacity",), "at most 1,000,000"),
    "a device without end": ({}, {}, {}, ("confirm", "/dev/zero"), "over 256 MiB"),
    "a patch without end": ({}, {}, {}, ("check", "--patch", "/dev/zero"), "over 256 MiB"),
    "records without sense": ({}, {}, {}, ("measure", "/dev/urandom"), "/dev/urandom: "),
    "a carriage return within a heading": ({}, {}, {"r": b"start\r,a,b\n1,2,3\n"}, ("measure", "r"), ""),
    "a carriage return in an inventory": ({}, {}, {"r": b"name,sub\rnet,p\n"}, ("start", "n", "--from", "r"), ""),
    "a capture that goes backwards": ({}, {}, {"c": BACKWARDS}, ("measure", "c"), ""),
    "a row with too few cells, and bytes that are not UTF-8": (
        {}, {}, {"r": records(SOUND[0], b"1,2,3", SOUND[1][:-3] + b"\xff\xff", SOUND[2])}, ("measure", "r"),
        "3 cells where the heading has 6",
    ),
    "lines that end in CR alone": ({}, {}, {"r": records(*SOUND, end=b"\r")}, ("measure", "r"), "3 connections"),
    "a variation of 1e12": (
        {"flows": {"talk": {"duration_s": {"shape": "hyperexponential", "mean": 2, "cv": 1e12}}}}, {}, {},
        ("capacity",), "gate",
    ),
    "300 addresses that are not listed": (
        {"exits": {"gate": {"addresses": 300}}}, {"offers": {"gate": {"limits": {"addresses": 400}}}}, {},
        ("handover",), "",
    ),
    "money of 1e308": ({}, {"addresses": {"hour": 1e308}}, {}, ("charges",), ""),
    "10^15 hosts": ({"workloads": {"work": {"hosts": 10**15}}}, {}, {}, ("capacity",), "gate"),
    "no number": ({"flows": {"talk": {"per_host_per_s": float("nan")}}}, {}, {}, ("capacity",), "finite number"),
    "a port that is none": ({}, {}, {}, ("resolve", "--server", "127.0.0.1#99999"), "a port behind #"),
    "a month of 10^9 hours": ({}, {"hours_per_month": 1e9}, {}, ("choose",), "meets every need"),
    "a search of 10^7 tries": (
        {}, {"offers": {"gate": {"ports": {"search_tries": [10**7]}}}}, {}, ("capacity",), "at most 65536",
    ),
    "10^7 ports": (
        {}, {"offers": {"gate": {"ports": {"per_address": 10**7}}}}, {}, ("capacity",), "at most 65536",
    ),
    "no workers": ({}, {}, {}, ("stress", "--workers", "0"), "a number from 1 to 1024"),
    "fewer workers": ({}, {}, {}, ("stress", "--workers", "-1"), "a number from 1 to 1024"),
    "workers in powers of ten": ({}, {}, {}, ("stress", "--workers", "1e3"), "a number from 1 to 1024"),
    "a scheduler without keys": ({}, {}, {}, ("stress", "--workers", "tls://127.0.0.1:1"), "distributed.comm.tls"),
    "a scheduler of another kind": ({}, {}, {}, ("stress", "--workers", "ucx://127.0.0.1:1"), "expected tcp://HOST:PORT"),
}  # fmt: skip
DIGITS = {"hosts: 10": "whole number", "per_host_per_s: 1": "finite number", "duration_s: 2": "finite number"}


class Hostile(InFolder):
    def beside(self, estate: Any, catalogue: Any, files: dict[str, bytes]) -> None:
        self.write("catalogue.yaml", merged(CATALOGUE, catalogue))
        self.write("estate.yaml", merged(ESTATE, estate))
        for name, content in files.items():
            (self.folder / name).write_bytes(content)

    def test_each_ends_in_an_answer_or_a_sentence(self) -> None:
        for name, (estate, catalogue, files, call, said) in CASES.items():
            with self.subTest(name):
                self.beside(estate, catalogue, files)
                began = time.monotonic()
                done = self.program(*call)
                self.assertLess(done.returncode, 3, done.stderr)
                self.assertNotIn("Warning", done.stderr)
                self.assertIn(said, " ".join((done.stdout + done.stderr).split()))
                self.assertLess(len(done.stderr), 20_000)
                # The slowest takes two seconds; those that did harm took more than forty.
                self.assertLess(time.monotonic() - began, 20)

    def test_numbers_of_five_thousand_digits(self) -> None:
        self.beside({}, {}, {})
        text = (self.folder / "estate.yaml").read_text()
        for words, expected in DIGITS.items():
            with self.subTest(words):
                self.assertIn(words, text)
                self.write("estate.yaml", text.replace(words, f"{words.split()[0]} {'9' * 5000}"))
                done = self.program("check")
                self.assertEqual((done.returncode, expected in done.stderr), (2, True), done.stderr[:300])

    def test_a_cut_file_of_each_packing_is_told(self) -> None:
        import bz2
        import gzip
        import lzma

        from pyarrow import compress

        self.beside({}, {}, {})
        content = records(*SOUND * 2000)
        for packing in (gzip.compress, bz2.compress, lzma.compress, lambda some: compress(some, "zstd", asbytes=True)):
            whole = packing(content)
            (self.folder / "r").write_bytes(whole[: len(whole) // 2])
            done = self.program("measure", "r")
            self.assertEqual((done.returncode, "breaks off" in done.stdout + done.stderr), (2, True), done.stdout[:500])


class Surroundings(InFolder):
    def run_closed(self, stream: int, *words: str) -> subprocess.CompletedProcess[bytes]:
        """The installed program with one of its standard streams closed before it begins."""
        command = [str(PROGRAM), *words]
        shut: Callable[[], None] = lambda: os.close(stream)  # noqa: E731 - what happens in the child alone
        return subprocess.run(
            command, cwd=self.folder, capture_output=True, stdin=subprocess.DEVNULL, check=False, preexec_fn=shut
        )

    def test_streams_that_are_closed(self) -> None:
        self.estate()
        done = self.run_closed(1, "check")
        self.assertEqual((done.returncode, b"stdout is closed" in done.stderr), (2, True), done.stderr)
        done = self.run_closed(2, "check", "gone.yaml")
        self.assertEqual((done.returncode, done.stdout), (2, b""))

    def test_a_pipe_that_says_nothing_and_one_that_is_late(self) -> None:
        self.estate()
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        with patch.object(inputs, "ALONE_S", 0.3), patch.object(inputs, "PATIENCE_S", 0.6):
            for words in (("check", "pipe"), ("confirm", "pipe"), ("check", "--patch", "pipe"), ("measure", "pipe")):
                done = self.program(*words)
                self.assertEqual(done.returncode, 2, words)
                self.assertIn("a pipe into which no program writes", done.stderr)
            # Who has opened it to write is waited for longer, and not for ever.
            held = os.open(pipe, os.O_RDWR | os.O_NONBLOCK)
            done = self.program("check", "pipe")
            os.close(held)
            self.assertIn("nothing came from it for 0.6 s", done.stderr)
        content = (self.folder / "estate.yaml").read_bytes()

        def write_late() -> None:
            time.sleep(0.3)
            pipe.write_bytes(content)

        writer = Thread(target=write_late)
        writer.start()
        done = self.program("check", "pipe", "--format", "json")
        writer.join()
        self.assertEqual(json.loads(done.stdout)["estate"], "Test", done.stderr)

    def test_servers_that_answer_badly_or_without_end(self) -> None:
        self.estate()
        answers: dict[bytes, str] = {
            b"no HTTP at all\r\n\r\n": "no HTTP",
            b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n": "IncompleteRead",
            b"HTTP/1.1 200 OK\r\n" + b"a: b\r\n" * 200 + b"\r\n": "more than 100 headers",
            b"HTTP/1.1 200 OK\r\na: " + b"b" * 100_000 + b"\r\n\r\n": "got more than 65536 bytes",
            b"HTTP/1.1 200 OK\r\n\r\nnothing of use": "the caller's address",
            b"": "no whole answer within 1 s",
        }
        for content, said in answers.items():
            with self.subTest(said), socket.create_server(("127.0.0.1", 0)) as server:
                Thread(target=self.serve, args=(server, content), daemon=True).start()
                url = f"http://127.0.0.1:{server.getsockname()[1]}/"
                began = time.monotonic()
                with patch.object(asking, "_WITHIN_S", 1.0):
                    done = self.program("confirm", "--ask", url, "--subnet", "app", "--destination", "partner")
                self.assertEqual((done.returncode, said in done.stderr), (2, True), done.stderr)
                self.assertLess(time.monotonic() - began, 10)

    @staticmethod
    def serve(server: socket.socket, content: bytes) -> None:
        """One answer; a byte now and then where there is none."""
        with suppress(OSError):
            caller, _ = server.accept()
            caller.recv(1 << 16)
            caller.sendall(content)
            while not content:
                caller.sendall(b"H")
                time.sleep(0.2)
            caller.close()

    def test_a_file_in_parts_and_no_more_than_is_allowed(self) -> None:
        file = self.folder / "some"
        file.write_bytes(b"x" * 1000)
        told = at(Place(str(file)), "less")
        self.assertEqual(len(file_bytes(file, told, 1000)), 1000)
        with self.assertRaises(UnusableInput):
            file_bytes(file, told, 999)
        for name in ("gone", ".", "a\0b", "n" * 5000):
            with self.subTest(name[:9]), self.assertRaises(UnusableInput):
                file_bytes(self.folder / name, told)
        with self.assertRaises(ValueError):
            json_values("[" * 100_000)

    def test_no_reader_opens_a_file_by_itself(self) -> None:
        """Bytes from outside come through `inputs`; what is the program's own, or is written, does not."""
        source = Path(inputs.__file__).parent
        own = {
            "inputs.py",
            "compiling.py",
            "programming.py",
            "cli/app.py",
            "cli/files.py",
            "teletraffic/retrial_queue.py",
        }
        own |= {"rehearsal/kernel.py", "views/results.py", "demo/samples.py", "demo/stand_ins.py"}
        known = {"records/existing/files.py", "cli/report.py", "cli/handover.py", "cli/start.py"}
        """They look at the beginning of a regular file, or at one that was read whole before."""
        found = {
            str(file.relative_to(source))
            for file in source.rglob("*.py")
            for line in file.read_text(encoding="utf-8").splitlines()
            if any(one in line for one in (".read_text(", ".read_bytes(", '.open("rb")', "sys.stdin.buffer"))
        }
        self.assertLessEqual(found, own | known)


if __name__ == "__main__":
    unittest.main()
