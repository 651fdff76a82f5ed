"""JSON Merge Patch against the table of RFC 7396, appendix A; settings by dotted keys."""

import unittest

import yaml

from fenrask.demo.samples import VELLMOUTH
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.estate.patches import merge, merge_patch, set_patch
from fenrask.estate.problems import name_problems
from tests.support import InFolder

RFC_7396 = (
    ({"a": "b"}, {"a": "c"}, {"a": "c"}),
    ({"a": "b"}, {"b": "c"}, {"a": "b", "b": "c"}),
    ({"a": "b"}, {"a": None}, {}),
    ({"a": "b", "b": "c"}, {"a": None}, {"b": "c"}),
    ({"a": ["b"]}, {"a": "c"}, {"a": "c"}),
    ({"a": "c"}, {"a": ["b"]}, {"a": ["b"]}),
    ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}),
    ({"a": [{"b": "c"}]}, {"a": [1]}, {"a": [1]}),
    (["a", "b"], ["c", "d"], ["c", "d"]),
    ({"a": "b"}, ["c"], ["c"]),
    ({"a": "foo"}, None, None),
    ({"a": "foo"}, "bar", "bar"),
    ({"e": None}, {"a": 1}, {"e": None, "a": 1}),
    ([1, 2], {"a": "b", "c": None}, {"a": "b"}),
    ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}),
)


class Patches(unittest.TestCase):
    def test_every_case_of_the_rfc(self) -> None:
        for target, patch, expected in RFC_7396:
            with self.subTest(target=target, patch=patch):
                self.assertEqual(merge(target, patch), expected)

    def test_dotted_keys_take_the_longest_name_that_exists(self) -> None:
        data = {"tables": {"p": {"0.0.0.0/0": "x"}}, "a.b": {"c": 1}}
        cases = (
            ("tables.p.0.0.0.0/0", {"tables": {"p": {"0.0.0.0/0": 9}}}),
            ("a.b.c", {"a.b": {"c": 9}}),
            ('tables.p."10.0.0.0/8"', {"tables": {"p": {"10.0.0.0/8": 9}}}),
            ("new.key", {"new": {"key": 9}}),
        )
        for dotted, expected in cases:
            with self.subTest(dotted=dotted):
                self.assertEqual(set_patch(data, dotted, 9), expected)
                self.assertEqual(merge_patch(data, dotted, 9), expected)

    def test_a_mapping_that_is_set_replaces_and_one_that_is_merged_does_not(self) -> None:
        data = {"exits": {"gate": {"kind": "a", "tags": {"x": 1, "y": 2}}, "spare": {"kind": "b"}}}
        tags = {"tags": {"y": None, "z": 3}}
        for patch, expected in (
            (set_patch, {"tags": {"z": 3}}),
            (merge_patch, {"kind": "a", "tags": {"x": 1, "z": 3}}),
        ):
            with self.subTest(patch.__name__):
                after = merge(data, patch(data, "exits.gate", tags))
                self.assertEqual(after, {"exits": {"gate": expected, "spare": {"kind": "b"}}})


class OnTheCommandLine(InFolder):
    def test_set_replaces_and_merge_merges_whichever_file_it_is(self) -> None:
        """`merged` prints what comes of it: what is set goes first, so that what is merged is merged into it."""
        self.estate()
        before = yaml.safe_load(self.program("merged", "estate.yaml").stdout)["exits"]["gate"]
        new = {key: before[key] for key in ("kind", "offer", "subnet")}
        cases = (
            (("--merge", "exits.gate={addresses: 5}"), {**before, "addresses": 5}),
            (("--set", f"exits.gate={new}"), new),
            (("--merge", "exits.gate={addresses: 5}", "--set", f"exits.gate={new}"), {**new, "addresses": 5}),
            (
                ("--merge", "exits.gate={addresses: null}"),
                {key: one for key, one in before.items() if key != "addresses"},
            ),
        )
        for words, expected in cases:
            with self.subTest(words):
                done = self.program("merged", "estate.yaml", *words)
                self.assertEqual(yaml.safe_load(done.stdout)["exits"]["gate"], expected, done.stderr)
        rates = ("catalogue.offers.gate.rates={hour: 0.5}",)
        costs = [self.json("charges", "estate.yaml", *words) for words in ((), ("--merge", *rates))]
        self.assertGreater(costs[1]["fixed_amount"], costs[0]["fixed_amount"])
        done = self.program("check", "estate.yaml", "--merge", "exits.gate")
        self.assertEqual(done.returncode, 2)
        self.assertIn("--merge exits.gate: no key=value, expected a dotted key, `=` and a value", done.stderr)


class Reused(InFolder):
    def test_a_patched_estate_is_that_of_the_merged_file_read_whole(self) -> None:
        # A patch reads only what it changes; a file with the patch merged in is read from the ground up.
        for patch in (
            {"exits": {"gate": {"addresses": 3}}},
            {"exits": {"gate": None}, "route_tables": {"private": None}, "subnets": {"app": {"routes": None}}},
            {"flows": {"talk": {"per_host_per_s": 9}, "more": {"from": "work", "to": "store", "per_host_per_s": 1}}},
            {"destinations": {"partner": {"needs": {"fixed_source": True}}}, "targets": {"blocking": 0.01}},
            {"flows": None},
        ):
            with self.subTest(patch):
                quick = self.estate().patched(patch, "a test").estate
                self.assertEqual(quick, self.estate(patch).estate)

    def test_a_patch_that_takes_an_entry_away_misses_no_name_that_points_to_it(self) -> None:
        # Names are looked at only where a patch took some away; read from the ground up, all are.
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        described = read_estate(self.folder / "estate.yaml")
        found = 0
        for section, entries in described.data.items():
            for name in entries if isinstance(entries, dict) else ():
                patch = {section: {name: None}}
                with self.subTest(section=section, name=name):
                    after = name_problems(
                        merge(described.data, patch), lambda path: described.place(*path), parties=described.parties
                    )
                    expected = {(one.place.path, one.found) for one in after}
                    problems: set[tuple[str, str]] = set()
                    try:
                        described.patched(patch, "a test")
                    except UnusableInput as error:
                        problems = {(one.place.path, one.found) for one in error.problems}
                    self.assertLessEqual(expected, problems)
                    found += len(expected)
        self.assertGreater(found, 20)
