"""The installed program on files in a temporary folder: results, exit statuses, messages."""

import csv
import io
import json
import os
import pty
import subprocess
from pathlib import Path
from xml.etree import ElementTree

from tests.estate.test_reading import BROKEN
from tests.support import CATALOGUE, ESTATE, PROGRAM, InFolder, merged
from tests.words import gone


class Statuses(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", ESTATE)

    def test_each_command_and_its_status(self) -> None:
        self.write("short.yaml", merged(ESTATE, {"workloads": {"work": {"hosts": 40}}}))
        self.write("lost.yaml", merged(ESTATE, {"exits": {"gate": None}}))
        cases = (
            (("--help",), 0),
            (("--version",), 0),
            (("check",), 0),
            (("check", "lost.yaml"), 1),
            (("check", "lost.yaml", "--set", "exits.gate.kind=dynamic-address"), 2),
            (("check", "--rules"), 0),
            (("path",), 0),
            (("path", "lost.yaml"), 1),
            (("path", "app", "partner"), 0),
            (("path", "lost.yaml", "app", "198.51.100.7"), 1),
            (("path", "app", "nowhere"), 2),
            (("path", "estate.yaml", "app"), 0),
            (("path", "ap"), 2),
            (("check", "--only", "black-hole", "--skip", "idle-exit"), 0),
            (("check", "--only", "blackhole"), 2),
            (("demand",), 0),
            (("capacity",), 0),
            (("capacity", "short.yaml"), 1),
            (("addresses",), 0),
            (("charges",), 0),
            (("compare",), 0),
            (("schema", "catalogue"), 0),
            (("schema", "nothing"), 2),
            (("check", "none.yaml"), 2),
            (("check", "--format", "xml"), 2),
            (("chek",), 2),
        )
        for number, (arguments, status) in enumerate(cases):
            with self.subTest(arguments=arguments):
                # Every fourth in a process of its own; the others called as the installed entry point calls them.
                done = self.program(*arguments) if number % 4 else self.started(*arguments)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
                self.assertEqual(bool(done.stdout.strip()), status != 2)
                self.assertEqual(bool(done.stderr.strip()), status == 2)

    def test_fail_on_chooses_the_severity(self) -> None:
        spare = {"exits": {"spare": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}}}
        self.write("estate.yaml", merged(ESTATE, spare))
        for severity, status in (("error", 0), ("warning", 1), ("note", 1)):
            self.assertEqual(self.program("check", "--fail-on", severity).returncode, status)

    def test_mistakes_are_all_told_and_nothing_else(self) -> None:
        self.write("estate.yaml", BROKEN)
        done = self.program("capacity")
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        for line in (6, 7, 13, 15, 17):
            self.assertIn(f"estate.yaml:{line}:", done.stderr)
        self.assertIn("6 problems; nothing computed", done.stderr)

    def test_our_own_fault_is_one_line_and_status_three(self) -> None:
        breaking = "import fenrask.cli.check as c; c.command = None; from fenrask.__main__ import main; main()"
        python = PROGRAM.with_name("python")
        done = subprocess.run(
            [str(python), "-c", breaking, "check"],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 3)
        self.assertIn("Fenrask's own fault: ", done.stderr)
        self.assertNotIn("Traceback", done.stderr)

    def test_a_reader_that_leaves_early_is_no_fault(self) -> None:
        script = f"{PROGRAM} path | head -n 1"
        done = subprocess.run(["sh", "-c", script], cwd=self.folder, capture_output=True, text=True, check=False)
        self.assertEqual(done.stderr, "")


class Output(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", ESTATE)

    def test_every_format_of_every_command(self) -> None:
        for command in ("check", "path", "demand", "capacity", "addresses", "charges", "compare", "choose"):
            with self.subTest(command):
                whole = self.json(command)
                self.assertEqual((whole["schema"], whole["version"]), (f"fenrask.{command}", 4))
                table = self.program(command, "--format", "csv", "--quiet")
                self.assertEqual(table.stderr, "")
                main = next(key for key, value in whole.items() if isinstance(value, list) and key != "summary")
                rows = list(csv.DictReader(io.StringIO(table.stdout)))
                self.assertEqual(len(rows), len(whole[main]))
                self.assertTrue(self.program(command, "--format", "markdown").stdout.startswith("- "))

    def test_findings_for_pipelines(self) -> None:
        gone = {
            "exits": {"spare": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}},
            "route_tables": {"private": {"10.9.0.0/16": "gone"}},
            "accepted": {"idle-exit at exits.spare": "kept for the winter"},
        }
        self.write("estate.yaml", merged(merged(ESTATE, gone), {}))
        sarif = self.program("check", "--format", "sarif")
        self.assertEqual(sarif.returncode, 1)
        [run] = json.loads(sarif.stdout)["runs"]
        known = {rule["id"] for rule in run["tool"]["driver"]["rules"]}
        found = {one["ruleId"]: one for one in run["results"]}
        self.assertEqual((set(found), found.keys() <= known), ({"black-hole", "idle-exit"}, True))
        self.assertEqual(found["idle-exit"]["suppressions"][0]["justification"], "kept for the winter")
        line = found["black-hole"]["locations"][0]["physicalLocation"]["region"]["startLine"]
        self.assertIn("gone", (self.folder / "estate.yaml").read_text().splitlines()[line - 1])
        suite = ElementTree.fromstring(self.program("check", "--format", "junit").stdout)
        failed = [case.get("name") for case in suite if case.find("failure") is not None]
        self.assertEqual((suite.get("failures"), failed), ("1", ["black-hole at route_tables.private.10.9.0.0/16"]))
        self.assertEqual(sum(case.find("skipped") is not None for case in suite), 1)
        self.assertEqual(self.program("charges", "--format", "sarif").returncode, 2)

    def test_tables_keep_to_the_width(self) -> None:
        for columns in (80, 120):
            for command in (
                "check",
                "path",
                "demand",
                "capacity",
                "addresses",
                "charges",
                "compare",
                "choose",
                "stress",
            ):
                with self.subTest(command=command, columns=columns):
                    lines = self.program(command, columns=columns).stdout.splitlines()
                    self.assertLessEqual(max(map(len, lines)), columns)

    def test_files_are_written_whole_and_not_over_others(self) -> None:
        self.assertEqual(self.program("charges", "--out", "deep/bill.json").returncode, 2)
        (self.folder / "deep").mkdir()
        done = self.program("charges", "--out", "deep/bill.json", "--format", "json")
        self.assertEqual((done.returncode, done.stdout), (0, ""))
        bill = self.folder / "deep" / "bill.json"
        self.assertEqual(json.loads(bill.read_text())["schema"], "fenrask.charges")
        bill.write_text("mine")
        self.assertEqual(self.program("charges", "--out", str(bill)).returncode, 2)
        self.assertEqual(bill.read_text(), "mine")
        self.assertEqual(self.program("charges", "--out", str(bill), "--force").returncode, 0)
        self.assertNotEqual(bill.read_text(), "mine")
        self.assertEqual([one.name for one in bill.parent.iterdir()], ["bill.json"])

    def test_colour_only_on_a_terminal_and_not_against_the_users_word(self) -> None:
        self.write("estate.yaml", merged(ESTATE, {"exits": {"gate": None}}))
        for extra, coloured in (({}, True), ({"NO_COLOR": "1"}, False), ({"TERM": "dumb"}, False)):
            with self.subTest(extra=extra):
                ours, theirs = pty.openpty()
                environment = {**os.environ, "TERM": "xterm", "COLUMNS": "100", **extra}
                if "NO_COLOR" not in extra:
                    environment.pop("NO_COLOR", None)
                subprocess.run([str(PROGRAM), "check"], cwd=self.folder, stdout=theirs, env=environment, check=False)
                os.close(theirs)
                self.assertEqual(b"\x1b[" in os.read(ours, 100_000), coloured)
                os.close(ours)

    def test_patches_and_settings_change_the_answer(self) -> None:
        self.write("more.json", '{"workloads": {"work": {"hosts": 40}}}')
        patched = self.json("capacity", "--patch", "more.json", status=1)
        self.assertEqual(patched["exits"][0]["addresses_needed"], 3)
        settled = self.json("capacity", "--patch", "more.json", "--set", "exits.gate.addresses=auto")
        self.assertEqual(settled["exits"][0]["addresses"], 3)

    def test_a_figure_in_each_format_and_no_other(self) -> None:
        for ending, start in (("png", b"\x89PNG"), ("svg", b"<?xml"), ("pdf", b"%PDF")):
            self.assertEqual(self.program("capacity", "--figure", f"ports.{ending}").returncode, 0)
            self.assertTrue((self.folder / f"ports.{ending}").read_bytes().startswith(start))
        done = self.program("capacity", "--figure", "ports.gif")
        self.assertEqual(done.returncode, 2)
        self.assertIn(".png", done.stderr)

    def test_designs_saved_as_patches_can_be_laid_over_the_estate(self) -> None:
        compared = self.json("compare", "--save", "designs")
        saved = {one.stem: one for one in (self.folder / "designs").iterdir()}
        self.assertIn("gateway-per-zone", saved)
        row = next(one for one in compared["designs"] if one["design"] == "gateway per zone")
        bill = self.json("charges", "--patch", str(saved["gateway-per-zone"]))
        self.assertEqual(bill["month_amount"], row["month_amount"])


class Schemas(InFolder):
    def test_both_are_schemas_that_explain_every_key(self) -> None:
        for name in ("estate", "catalogue"):
            schema = json.loads(self.program("schema", name).stdout)
            self.assertEqual(schema["$schema"], "https://json-schema.org/draft/2020-12/schema")
            for title, one in {"": schema, **schema["$defs"]}.items():
                for key, value in one.get("properties", {}).items():
                    with self.subTest(name=name, title=title, key=key):
                        self.assertTrue(value.get("description") or "const" in value)


class Demo(InFolder):
    def test_the_demo_shows_what_it_promises(self) -> None:
        done = self.program("demo", "here")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(gone(done.stdout.splitlines()), [])
        for word in ("6 errors", "gate-a needs 4 addresses; it has 2", "proven optimal", "11 of 15 cases"):
            self.assertIn(word, " ".join(done.stdout.split()))
        self.assertLess(len(done.stdout.splitlines()), 60)
        self.assertTrue(b"<svg" in (self.folder / "here" / "ports.svg").read_bytes())
        here = str(self.folder / "here" / "estate.yaml")
        cured = self.json("capacity", here, "--set", "exits.gate-a.addresses=4", status=1)
        # Today, and not yet after the loss of a zone.
        self.assertTrue(cured["fits"])
        again = self.program("demo", "here")
        self.assertEqual(again.returncode, 2)

    def test_start_writes_a_sound_estate(self) -> None:
        self.assertEqual(self.program("start", "mine").returncode, 0)
        done = self.program("check", str(Path("mine") / "estate.yaml"), "--fail-on", "warning")
        self.assertEqual(done.returncode, 1, done.stdout)
        # Its figures are made up, and nothing else is wrong with it.
        self.assertIn("0 errors, 1 warning", done.stdout)
