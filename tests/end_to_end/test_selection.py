"""Rows and tables chosen by options, names that the shell completes, and how long results are."""

import os
import re
import sys
from dataclasses import replace
from unittest.mock import patch

from fenrask.cli.options import Call
from fenrask.demo import VELLMOUTH
from fenrask.routing import Paths
from fenrask.views.page import Page
from tests.support import InFolder


class Selection(InFolder):
    def setUp(self) -> None:
        super().setUp()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)

    def test_rows_about_a_name_are_those_of_all_rows_that_carry_it(self) -> None:
        # What is expected is read off the paths: which exits, flows and subnets go together.
        paths = self.json("path", status=1)["paths"]
        fleet = {one["flow"] for one in paths if "gate-fleet" in " ".join(one["exits"])}
        for noun, name, table, key, expected in (
            ("exit", "gate-fleet", "flows", "flow", fleet),
            ("flow", "pictures", "flows", "flow", {"pictures"}),
            ("flow", "pictures", "exits", "exit", {"gate-fleet", "fleet-door"}),
            ("workload", "imagery", "flows", "flow", {one["flow"] for one in paths if one["subnets"] == ["imagery-b"]}),
            ("network", "fleet", "workloads", "workload", {"imagery", "telemetry"}),
        ):
            with self.subTest(noun=noun, name=name, table=table):
                rows = self.json("charges", f"--{noun}", name, status=1)[table]
                self.assertLessEqual({one[key] for one in rows}, expected)
                self.assertTrue(rows)
        findings = self.json("check", "--exit", "gate-a", status=1)["findings"]
        self.assertEqual([one["rule"] for one in findings], ["port-exhaustion", "need-not-met"])
        both = self.json("demand", "--exit", "gate-a", "--flow", "pay", status=1)["flows"]
        self.assertEqual([(one["exit"], one["flow"]) for one in both], [("gate-a", "pay")])
        self.assertIn("Did you mean 'gate-a' or 'gate-b'?", self.program("capacity", "--exit", "gate-aa").stderr)

    def test_one_table_by_name(self) -> None:
        text = self.program("charges", "--table", "workloads", "--format", "csv").stdout
        self.assertTrue(text.startswith("workload,rounded_amount,amount\r\n"), text)
        self.assertIn("Did you mean 'workloads'?", self.program("charges", "--table", "workload").stderr)

    def test_formats_that_a_command_does_not_take_are_not_offered(self) -> None:
        self.assertNotIn("sarif", self.program("demand", "--help", columns=160).stdout)
        self.assertIn("sarif", self.program("check", "--help", columns=160).stdout)
        self.assertEqual(self.program("demand", "--format", "junit").returncode, 2)

    def test_the_shell_completes_names_of_the_estate(self) -> None:
        for shell, line in (("bash", {}), ("zsh", {}), ("fish", {"_TYPER_COMPLETE_FISH_ACTION": "get-args"})):
            for typed, expected in (
                ("path tele", {"telemetry-a", "telemetry-b"}),
                ("path telemetry-a obj", {"object-store"}),
                ("charges --break-even pa", {"pay"}),
                ("capacity --exit gate-f", {"gate-fleet"}),
                ("stress --case 'zone a", {"zone a lost"}),
                ("check --only port-", {"port-exhaustion"}),
            ):
                with self.subTest(shell=shell, typed=typed):
                    words = f"fenrask {typed}"
                    asked = {
                        "_FENRASK_COMPLETE": f"complete_{shell}",
                        "COMP_WORDS": words,
                        "COMP_CWORD": str(len(typed.replace("'zone a", "zone").split())),
                        "_TYPER_COMPLETE_ARGS": words,
                        **line,
                    }
                    with patch.dict(os.environ, asked):
                        found = self.program().stdout
                    for name in expected:
                        self.assertIn(name, found.replace("\\", ""))

    def test_a_first_screen_is_short_and_says_what_is_behind_it(self) -> None:
        shown = Call.show

        def both(call: Call, page: Page, paths: Paths | None = None) -> None:
            """What is printed, and what `--all` prints, of one computation."""
            shown(call, page, paths)
            sys.stdout.write("\f")
            shown(replace(call, all=True), page, paths)

        for name in ("check", "path", "demand", "capacity", "addresses", "charges"):
            with self.subTest(name), patch.object(Call, "show", both):
                short, whole = self.program(name).stdout.split("\f")
                self.assertLessEqual(len(short.splitlines()), 60)
                self.assertGreaterEqual(len(whole), len(short))
                # What it leaves out it says; rows that are joined leave nothing out.
                words = [{*re.findall(r"[\w.:/%-]+", text)} for text in (whole, short)]
                self.assertEqual("--all" in short, not words[0] <= words[1], words[0] - words[1])
