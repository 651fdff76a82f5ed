"""Patches in words and as files; what `check --save` writes cures what it is named after, and together all of it."""

import json
import shlex
import unittest
from pathlib import Path
from typing import Any

from fenrask.checks import without_remedies
from fenrask.errors import Place
from fenrask.estate import read_estate
from fenrask.estate.patches import merge
from fenrask.evaluation import evaluate
from fenrask.findings import Finding, Severity
from fenrask.views.patch_words import ALL, patch_words, remedy_files
from tests.support import InFolder

BEFORE: dict[str, Any] = {
    "exits": {"gate": {"kind": "translation-gateway"}, "old": {"kind": "hub"}},
    "route_tables": {"app": {"0.0.0.0/0": "old"}, "gone": {}},
    "targets": {"blocking": 0.1},
}


def finding(rule: str, path: str, fix: dict[str, Any] | None, accepted: str = "") -> Finding:
    return Finding(rule, Severity.ERROR, Place("estate.yaml", 1, 1, path), "cause", "remedy", accepted, fix)


class Words(unittest.TestCase):
    def test_each_change_is_one(self) -> None:
        for patch, words in (
            ({"exits": {"old": None}}, ["remove the exit old"]),
            ({"exits": {"new": {"kind": "hub", "network": "n"}}}, ["add the exit new (hub)"]),
            ({"exits": {"gate": {"addresses": "auto", "at_least": 4}}},
             ["change the exit gate (addresses auto, at_least 4)"]),
            ({"exits": {"gate": {"offer": None, "rules": {"a": {"action": "deny"}}}}},
             ["change the exit gate (no offer, rules as the patch says)"]),
            ({"route_tables": {"app": {"0.0.0.0/0": "gate", "10.0.0.0/8": None}, "gone": None}},
             ["set the route 0.0.0.0/0 of app to gate", "remove the route 10.0.0.0/8 of app", "remove the table gone"]),
            ({"route_tables": {"app": {"::/0": [{"exit": "a"}, {"exit": "b"}]}}},
             ["set the route ::/0 of app to a and b"]),
            ({"targets": {"blocking": 0.01}}, ["set targets.blocking to 0.01"]),
            ({"destinations": {"x": {"allowed": ["a", "b", "c", "d", "e"]}}}, ["add the destination x"]),
        ):  # fmt: skip
            with self.subTest(patch=patch):
                self.assertEqual(patch_words(patch, BEFORE), words)

    def test_files_are_named_once_and_all_of_them_is_one_after_the_other(self) -> None:
        one, two = {"exits": {"gate": {"addresses": 2}}}, {"exits": {"gate": {"at_least": 4}, "old": None}}
        files = remedy_files(
            [
                finding("port-exhaustion", "exits.gate", one), finding("limit-exceeded", "exits.gate", one),
                finding("idle-exit", "exits.gate", two), finding("black-hole", "exits.gate", {}, "known"),
                finding("black-hole", "exits.none", None),
            ]
        )  # fmt: skip
        self.assertEqual([*files], ["port-exhaustion-gate.json", "idle-exit-gate.json", ALL])
        self.assertEqual(merge(BEFORE, json.loads(files[ALL])), merge(merge(BEFORE, one), two))
        self.assertEqual(remedy_files([]), {})


class Saved(InFolder):
    def test_each_cures_its_finding_and_all_of_them_every_error(self) -> None:
        self.sample()
        estate = "d/estate.yaml"
        before = self.json("check", estate, "--save", "fixes", status=1)
        tries = {one["patch"]: one for one in before["findings"] if one["patch"]}
        self.assertEqual(len(tries), 7)
        described = read_estate(self.folder / estate)
        for call, one in tries.items():
            with self.subTest(call):
                words = shlex.split(call)
                self.assertEqual(words[:-1], ["fenrask", "check", estate, "--patch"])
                fix = json.loads((self.folder / words[-1]).read_text("utf-8"))
                after = without_remedies(evaluate(described.patched(fix, words[-1])))
                self.assertNotIn((one["rule"], one["cause"]), {(each.rule, each.cause) for each in after})
                self.assertTrue(one["changes"])
        whole = self.json("check", estate, "--patch", f"fixes/{ALL}")
        self.assertEqual((whole["errors"], whole["warnings"]), (0, 0))
        self.assertIn("expected", self.program("check", estate, "--save", "fixes").stderr)

    def test_the_line_that_tries_one_is_of_the_estate_as_it_was_read(self) -> None:
        """With its patches and settings, in a shell, from a folder with a blank in its name."""
        self.sample()
        told = ("d/estate.yaml", "--set", "estate=Two words", "--patch", self.write("a b.json", "{}"))
        found = self.json("check", *told, "--save", "my fixes", status=1)["findings"]
        [call, *_] = [one["patch"] for one in found if one["patch"]]
        words = shlex.split(call)
        self.assertEqual(words[1:3] + words[-2:], ["check", "d/estate.yaml", "--set", "estate=Two words"])
        self.assertTrue(all(Path(self.folder, one).is_file() for one in words if one.endswith(".json")), words)
        self.assertLess(len(self.json(*words[1:], status=1)["findings"]), len(found))

    def test_nothing_is_written_where_no_remedy_is_a_patch(self) -> None:
        self.estate({})
        self.assertIn("no remedy is a patch", self.program("check", "--save", "fixes").stderr)
        self.assertFalse((self.folder / "fixes").exists())


if __name__ == "__main__":
    unittest.main()
