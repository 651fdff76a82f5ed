"""Input and surroundings that are against the program: it answers or refuses with a sentence, and loses nothing."""

import os
import random
import stat
import subprocess
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.cli.files import write_all
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.views.quoting import cell, device_names, file_name, host_label, label, markdown, visible
from tests.support import ESTATE, PROGRAM, InFolder, merged

HOSTILE = {
    "brackets": "a: " + "[" * 200_000,
    "braces": "{a: " * 5000 + "1" + "}" * 5000,
    "dashes": "- " * 4000 + "a",
    "indents": "".join(" " * n + "a:\n" for n in range(1500)),
    "aliases": "a: &a [x, x]\n"
    + "".join(f"b{n}: &b{n} [*{p}, *{p}]\n" for n, p in enumerate(["a", *(f"b{n}" for n in range(40))])),
    "null bytes": "estate: a\0b\n",
    "keys that are lists": "? [1, 2]\n: 3\n",
    "a number without end": "estate: " + "9" * 100_000,
    "twice": "estate: a\nestate: b\n",
    "nothing": "",
    "a list": "- 1\n- 2\n",
    "a byte-order mark in the middle": "estate: \ufeff\nnetworks: \ufeff",
}


class Surroundings(InFolder):
    def run_in(self, *arguments: str, out: Path | None = None, **more: str) -> subprocess.CompletedProcess[bytes]:
        """The installed program with its output into a file, in an environment of its own."""
        known = {"PATH": os.environ["PATH"], "COLUMNS": "100", **more}
        with (out or Path(os.devnull)).open("wb") as stream:
            return subprocess.run(
                [str(PROGRAM), *arguments],
                cwd=self.folder,
                env=known,
                stdout=stream,
                stderr=subprocess.PIPE,
                timeout=120,
            )

    def test_output_that_cannot_be_written(self) -> None:
        self.estate()
        if not Path("/dev/full").exists():
            self.skipTest("no /dev/full here")
        for command in (("demand",), ("demand", "--format", "json"), ("--help",)):
            done = self.run_in(*command, out=Path("/dev/full"))
            self.assertEqual((done.returncode, b"could not be written" in done.stderr), (2, True), command)

    def test_an_encoding_without_our_signs_no_home_and_a_dumb_terminal(self) -> None:
        self.estate()
        for encoding in ("ascii", "latin-1", "utf-8"):
            out = self.folder / "out.txt"
            done = self.run_in("path", out=out, PYTHONIOENCODING=encoding, PYTHONUTF8="0", TERM="dumb", HOME="/nowhere")
            self.assertIn(done.returncode, (0, 1), done.stderr)
            self.assertIn("------" if encoding != "utf-8" else "─────", out.read_text(encoding=encoding))

    def test_devices_pipes_links_and_files_without_end(self) -> None:
        self.estate()
        self.assertEqual(self.program("check", "--out", os.devnull).returncode, 0)
        self.assertTrue(stat.S_ISCHR(Path(os.devnull).stat().st_mode))
        target = self.write("kept.txt", "kept")
        (self.folder / "link").symlink_to(target)
        self.assertEqual(self.program("check", "--out", "link", "--force").returncode, 2)
        self.assertEqual(target.read_text(), "kept")
        for words in (
            ("check", "/dev/zero"),
            ("check", "."),
            ("measure", "."),
            ("measure", "/dev/zero"),
            ("check", "gone.yaml"),
        ):
            self.assertEqual(self.program(*words).returncode, 2, words)

    def test_a_set_of_files_is_written_whole_or_not_at_all(self) -> None:
        (self.folder / "taken").mkdir()
        with self.assertRaises(UnusableInput):
            write_all({self.folder / "one": b"1", self.folder / "taken": b"2"}, True)
        (self.folder / "there").write_bytes(b"old")
        with self.assertRaises(UnusableInput):
            write_all({self.folder / "two": b"1", self.folder / "there": b"2"}, False)
        self.assertEqual({one.name for one in self.folder.iterdir()}, {"taken", "there"})
        self.assertEqual((self.folder / "there").read_bytes(), b"old")


class Inputs(InFolder):
    def test_hostile_files_are_refused_with_a_sentence(self) -> None:
        for name, text in HOSTILE.items():
            with self.subTest(name=name):
                self.write("estate.yaml", text)
                done = self.program("check")
                self.assertEqual(done.returncode, 2, done.stderr[:500])
                self.assertNotIn("own fault", done.stderr)
                self.assertLess(len(done.stderr), 4000)

    def test_damaged_estates_end_in_problems_or_in_answers(self) -> None:
        """Lines of a sound estate doubled, swapped, cut and changed, seeded: never a fault of our own."""
        self.estate()
        lines = (self.folder / "estate.yaml").read_text().splitlines(keepends=True)
        dice = random.Random(7)
        for _ in range(150):
            broken = list(lines)
            for _ in range(dice.randint(1, 3)):
                at, other = dice.randrange(len(broken)), dice.randrange(len(broken))
                broken[at] = dice.choice(
                    [
                        "", broken[at] * 2, broken[other], broken[at].replace(":", ": -", 1), broken[at].upper(),
                        broken[at].replace("0", "1e309"), broken[at].replace(" ", "\t"),
                        broken[at][: dice.randint(0, 20)],
                        broken[at].replace("/24", "/99"), broken[at].replace("1", "\u202e٣"), "\x1b[2J: {}\n",
                    ]
                )  # fmt: skip
            path = self.write("broken.yaml", "".join(broken))
            try:
                read_estate(path)
            except UnusableInput as error:
                self.assertTrue(error.problems)

    def test_escapes_in_names_are_shown_and_formulas_are_text(self) -> None:
        wild = "x\x1b]0;owned\x07\u202e=1"
        flow = {"from": wild, "to": "partner", "per_host_per_s": 1, "duration_s": 1}
        hosts = {wild: {"subnets": ["app"], "hosts": 1}}
        self.estate({"estate": wild, "workloads": hosts, "flows": {"=cmd": flow}})
        for command in ("check", "path", "demand", "capacity", "charges", "compare"):
            done = self.program(command, "--all")
            self.assertIn(done.returncode, (0, 1))
            self.assertNotIn("\x1b]", done.stdout + done.stderr, command)
            self.assertNotIn("\u202e", done.stdout + done.stderr, command)
        rows = self.program("path", "--format", "csv").stdout
        self.assertIn("'=cmd", rows)
        self.assertNotIn("\n=cmd", rows)


class Quoting(unittest.TestCase):
    @given(st.text(max_size=60))
    @settings(max_examples=300, deadline=None)
    def test_what_is_quoted_is_harmless(self, text: str) -> None:
        name = file_name(text, ".x")
        self.assertEqual(Path(name).name, name)
        self.assertFalse(name.startswith("."))
        self.assertRegex(label(text), r"\A[A-Za-z][A-Za-z0-9_]*\Z")
        self.assertRegex(host_label(text), r"\A[A-Za-z0-9_-]{1,63}\Z")
        self.assertFalse(cell(text).startswith(("=", "@", "\t", "\r")))
        self.assertNotIn("\x1b", visible(text))
        self.assertNotIn("\n", markdown(text))
        self.assertNotRegex(markdown(text), r"(?<!\\)[<\[*`]")

    @given(st.lists(st.text(max_size=40), max_size=30))
    @settings(max_examples=100, deadline=None)
    def test_devices_have_names_of_their_own(self, names: list[str]) -> None:
        found = device_names(names)
        self.assertEqual(len(set(found.values())), len(set(names)))
        for one in found.values():
            self.assertRegex(one, r"\A[A-Za-z0-9_-]{1,15}\Z")


class Tables(InFolder):
    def test_tables_as_other_programs_save_them(self) -> None:
        self.estate()
        self.write("named.yaml", merged(ESTATE, {"flows": None, "flows_csv": "f.csv"}))
        heading = "name,from,to,per_host_per_s"
        for content, status, words in (
            (f"\ufeff{heading}\r\ntalk,work,partner,1.5\r\n", 0, ""),
            (f"{heading.replace(',', ';')}\ntalk;work;partner;1,5\n", 2, "columns with ';' between them"),
            (f'{heading}\ntalk,work,partner,"1,5"\n', 2, "Write 1.5: with a point"),
            (f"{heading}\ntalk,work,partner,{'9' * 300_000}\n", 2, "expected a finite number"),
            (f"{heading}\n{'t' * 300_000},work,nowhere,1\n", 2, "a name from `destinations`"),
        ):
            with self.subTest(words):
                (self.folder / "f.csv").write_bytes(content.encode())
                done = self.program("demand", "named.yaml")
                self.assertEqual(done.returncode == 2, status == 2, done.stderr[:400])
                self.assertIn(words, done.stderr)
                self.assertLess(len(done.stderr), 1000 if status else 1)
