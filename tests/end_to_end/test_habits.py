"""Habits of command lines: an estate that is piped in, colours by the usual variables, nothing half written."""

import json
import os
import subprocess
import sys
import unittest
from unittest.mock import patch

import yaml

from fenrask.cli.app import COMMANDS
from fenrask.cli.options import Call
from fenrask.routing import Paths
from fenrask.views.page import Page
from tests.support import CATALOGUE, ESTATE, PROGRAM, InFolder, merged


class Habits(InFolder):
    def piped(self, content: bytes, *arguments: str, **more: str) -> subprocess.CompletedProcess[bytes]:
        known = {name: os.environ[name] for name in ("PATH", "HOME", "TMPDIR") if name in os.environ}
        return subprocess.run(
            [PROGRAM, *arguments], cwd=self.folder, env={**known, "COLUMNS": "100", **more}, input=content,
            capture_output=True, timeout=120, check=False,
        )  # fmt: skip

    def test_an_estate_may_be_piped_in(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        content = self.write("estate.yaml", ESTATE).read_bytes()
        for command in (("check",), ("path",), ("charges",), ("capacity", "--set", "exits.gate.addresses=2")):
            with self.subTest(command):
                from_file = self.program(*command, "--format", "json")
                done = self.piped(content, command[0], "-", *command[1:], "--format", "json")
                self.assertEqual((done.returncode, done.stderr), (from_file.returncode, b""))
                one, other = (json.loads(text) for text in (done.stdout, from_file.stdout))
                for found in (*one.get("findings", ()), *other.get("findings", ())):
                    found["place"] = found["file"] = ""
                self.assertEqual(one, other)
        done = self.piped(content, "report", "-", "plan.md")
        self.assertIn(b"piped in", (self.folder / "plan.md").read_bytes(), done.stderr)
        done = self.piped(content, "handover", "-", "--save", "out")
        self.assertIsNone(json.loads((self.folder / "out" / "index.json").read_text())["estate_sha256"])
        wrong = self.piped(b"estate: [", "check", "-")
        self.assertEqual((wrong.returncode, wrong.stdout), (2, b""))
        self.assertIn(b"-:2:1: the end, or another sign, where a value should be", wrong.stderr)

    def test_a_command_fills_a_screen_and_no_more(self) -> None:
        """Of sixty flows to as many destinations, over three gateways, at 80 and at 100 columns."""
        places = [f"place-with-a-long-name-{n}" for n in range(60)]
        estate = {
            "destinations": {name: {"prefixes": [f"198.18.{n}.0/24"], "port": 443} for n, name in enumerate(places)},
            "workloads": {f"work-{n}": {"subnets": ["app"], "hosts": 5 + n} for n in range(20)},
            "flows": {
                f"flow-{n}": {"from": f"work-{n % 20}", "to": name, "per_host_per_s": 0.5 + n / 9, "duration_s": 30}
                for n, name in enumerate(places)
            },
            "route_tables": {"private": {f"198.18.{n}.0/24": "gone" for n in range(0, 60, 9)}},
        }
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", merged(ESTATE, estate))
        shown = Call.show

        def both(call: Call, page: Page, paths: Paths | None = None) -> None:
            """What is printed at both widths, of one computation."""
            with patch.dict(os.environ, {"COLUMNS": "80"}):
                shown(call, page, paths)
            sys.stdout.write("\f")
            with patch.dict(os.environ, {"COLUMNS": "100"}):
                shown(call, page, paths)

        for command in (
            "check", "path", "demand", "capacity", "addresses", "charges", "compare", "stress", "handover",
        ):  # fmt: skip
            with patch.object(Call, "show", both):
                done = self.program(command)
            self.assertLess(done.returncode, 2, done.stderr)
            for columns, text in zip((80, 100), done.stdout.split("\f"), strict=True):
                with self.subTest(command, columns=columns):
                    self.assertLessEqual(len(text.splitlines()), 25 if command == "check" else 45, text)
                    self.assertLessEqual(max(map(len, text.splitlines())), columns)

    def test_help_names_no_class_of_values(self) -> None:
        for name in ("", *COMMANDS):
            with self.subTest(name):
                told = self.program(*filter(None, (name, "--help")), columns=100).stdout
                self.assertIn("Show this message and exit.", told)
                self.assertNotRegex(told, r"<\w+|list\[|typing")

    def test_a_loss_is_stated_alike_and_means_the_same(self) -> None:
        """What `path` loses after a case is what `stress` says that it cuts off; `source` shows the same."""
        self.sample()
        estate = "d/estate.yaml"
        lost = {one["flow"] for one in self.json("path", estate, status=1)["paths"] if one["verdict"] != "arrives"}
        for options in (("--lose-zone", "a"),):
            with self.subTest(options):
                [case] = self.json("stress", estate, *options, status=1)["cases"]
                paths = self.json("path", estate, *options, status=1)["paths"]
                then = {one["flow"] for one in paths if one["verdict"] != "arrives"}
                self.assertEqual(then - lost, {*case["cut_off"]} - lost)
                shown = self.json("source", estate, "fare-acquirer", *options, status=None)["subnets"]
                shown = [one for one in shown if one["subnet"] == "ticketing-b"]
                self.assertEqual([one["case"] for one in shown], ["now", "zone a lost"])
                seen = {one["seen_as"] for one in paths if one["flow"] == "pay" and "ticketing-b" in one["subnets"]}
                self.assertEqual({shown[1]["seen_as"]}, seen or {shown[1]["seen_as"]})
        both = ("--case", "zone a lost", "--lose-exit", "gate-a")
        for command in (("path", estate), ("stress", estate), ("simulate", estate), ("source", estate, "tide-feed")):
            done = self.program(*command, *both)
            self.assertEqual((done.returncode, done.stdout), (2, ""), command)
            self.assertIn("--case: another loss beside it, expected one of the two", done.stderr)

    def test_colours_are_those_of_the_usual_variables(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", ESTATE)
        for variables, coloured in (
            ({}, False), ({"FORCE_COLOR": "1"}, True), ({"FORCE_COLOR": "1", "NO_COLOR": "1"}, False),
            ({"FORCE_COLOR": "1", "TERM": "dumb"}, False),
        ):  # fmt: skip
            with self.subTest(variables):
                self.assertEqual(b"\x1b[" in self.piped(b"", "check", **variables).stdout, coloured)

    def test_what_start_writes_is_whole_or_nothing_and_names_its_schema(self) -> None:
        self.assertEqual(self.program("start", "mine").returncode, 0)
        for name in ("estate", "catalogue"):
            text = (self.folder / "mine" / f"{name}.yaml").read_text(encoding="utf-8")
            self.assertTrue(text.startswith(f"# yaml-language-server: $schema={name}.schema.json\n"))
            schema = json.loads((self.folder / "mine" / f"{name}.schema.json").read_text(encoding="utf-8"))
            self.assertLessEqual({*yaml.safe_load(text)}, {*schema["properties"]})
        # Its figures are nobody's, and it is said until they are changed.
        warnings = [one["rule"] for one in self.json("check", "mine/estate.yaml")["findings"]]
        self.assertIn("made-up-figures", warnings)
        (self.folder / "other").mkdir()
        (self.folder / "other" / "catalogue.schema.json").write_text("mine")
        done = self.program("start", "other")
        self.assertEqual((done.returncode, [one.name for one in (self.folder / "other").iterdir()]),
                         (2, ["catalogue.schema.json"]))  # fmt: skip


if __name__ == "__main__":
    unittest.main()
