"""Files into models: every mistake at once, each with its place; patches; settings; YAML 1.2."""

import time
from pathlib import Path
from typing import Any

from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.estate.yaml_tree import read_yaml
from tests.support import CATALOGUE, ESTATE, InFolder, merged

BROKEN = """\
estate: Broken
catalogue: catalogue.yaml
networks:
  net: {prefixes: [10.0.0.0/16]}
subnets:
  app: {network: nett, zone: a, prefix: 10.0.1.7/24, routes: private}
  edge: {network: net, prefix: 10.0.9.0/28, routes: public, colour: red}
route_tables:
  private: {0.0.0.0/0: gate}
  public: {0.0.0.0/0: door}
exits:
  door: {kind: direct-internet, network: net}
  gate: {kind: translaton-gateway, offer: gate, subnet: edge}
destinations:
  partner: {prefixes: [198.51.100.0/24], port: 70000}
workloads:
  work: {subnets: [app], hosts: ten}
flows:
  talk: {from: work, to: partner, per_host_per_s: 1}
"""


class Mistakes(InFolder):
    def problems(self, text: str, catalogue: Any = CATALOGUE) -> list[tuple[int, int, str, str]]:
        self.write("catalogue.yaml", catalogue)
        with self.assertRaises(UnusableInput) as caught:
            read_estate(self.write("estate.yaml", text))
        return [(p.place.line, p.place.column, p.place.path, p.remedy) for p in caught.exception.problems]

    def test_all_mistakes_of_a_file_in_file_order_each_with_its_place_and_remedy(self) -> None:
        found = self.problems(BROKEN)
        self.assertEqual(
            [(line, column, path) for line, column, path, _ in found],
            [
                (6, 9, "subnets.app.network"),
                (6, 33, "subnets.app.prefix"),
                (7, 61, "subnets.edge.colour"),
                (13, 3, "exits.gate"),
                (15, 42, "destinations.partner.port"),
                (17, 26, "workloads.work.hosts"),
            ],
        )
        remedies = [remedy for *_, remedy in found]
        self.assertIn("Did you mean 'net'?", remedies[0])
        self.assertIn("translation-gateway", remedies[3])

    def test_single_mistakes(self) -> None:
        cases: tuple[tuple[Any, str, str], ...] = (
            ({"subnets": {"app": {"prefx": "10.0.1.0/24"}}}, "subnets.app.prefx", "prefix"),
            ({"flows": {"talk": {"users": 4}}}, "flows.talk", "one way"),
            ({"flows": {"talk": {"per_host_per_s": None}}}, "flows.talk", "one way"),
            ({"flows": {"talk": {"profile": "dai"}}}, "flows.talk.profile", ""),
            ({"flows": {"talk": {"duration_s": {"mean": 1, "shape": "lognormal"}}}}, "flows.talk.duration_s", "p95"),
            ({"flows": {"talk": {"closed_share": 0.9, "reset_share": 0.2}}}, "flows.talk", ""),
            ({"profiles": {"day": [1, 2, 3]}}, "profiles.day", "24 or 168"),
            ({"exits": {"gate": {"offer": "gat"}}}, "exits.gate.offer", "Did you mean 'gate'"),
            ({"exits": {"gate": {"offer": "wall"}}}, "exits.gate.offer", "gate"),
            ({"exits": {"gate": {"addresses": -1}}}, "exits.gate.addresses", ""),
            ({"exits": {"gate": {"network": "net"}}}, "exits.gate", "which network"),
            (
                {"route_tables": {"private": {"198.51.100.1/24": "gate"}}},
                "route_tables.private.198.51.100.1/24",
                "",
            ),
            ({"route_tables": {"private": {"partnr": "gate"}}}, "route_tables.private.partnr", "'partner'"),
            ({"catalogue": "catalog.yaml"}, "catalogue", "'catalogue.yaml'"),
            ({"networks": {}, "subnets": None}, "", "subnets by name"),
            ({"targets": {"blocking": 0}}, "targets.blocking", "share"),
        )
        self.write("catalogue.yaml", CATALOGUE)
        for patch, path, word in cases:
            with self.subTest(patch=patch):
                with self.assertRaises(UnusableInput) as caught:
                    read_estate(self.write("estate.yaml", merged(ESTATE, patch)))
                at = [problem for problem in caught.exception.problems if problem.place.path == path]
                self.assertTrue(at, caught.exception)
                self.assertIn(word, f"{at[0].remedy} {at[0].expected}")

    def test_mistakes_of_the_catalogue_are_told_with_its_file(self) -> None:
        wrong = merged(
            CATALOGUE, {"read_on": "last week", "transfer": {"internet_out_per_gb": {"tiers": [{"rate": -1}]}}}
        )
        self.write("catalogue.yaml", wrong)
        with self.assertRaises(UnusableInput) as caught:
            read_estate(self.write("estate.yaml", ESTATE))
        self.assertEqual({Path(p.place.file).name for p in caught.exception.problems}, {"catalogue.yaml"})
        self.assertEqual(len(caught.exception.problems), 2)

    def test_an_offers_kind_is_one_that_is_offered(self) -> None:
        """A number is read as text elsewhere; an offer of the kind 0 is none, though no exit has it."""
        for kind in (0, 1.5, True, [], "gates", "peering"):
            with self.subTest(kind=kind), self.assertRaises(UnusableInput) as caught:
                self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"spare": {"kind": kind}}}))
                read_estate(self.write("estate.yaml", ESTATE))
            self.assertEqual([p.place.path for p in caught.exception.problems], ["offers.spare.kind"])

    def test_files_that_are_no_estate(self) -> None:
        cases = (
            ("", "empty"),
            ("- a\n- b\n", "mapping"),
            ("a: [1, 2\nb: 3\n", "not closed"),
            ("a: 1\na: 2\n", "twice"),
            ("a: &x [*x]\n", "aliases"),
            ("estate: x\ncatalogue: c.yaml\nnetworks: *none\n", "no & gave"),
        )
        for text, word in cases:
            with self.subTest(text=text), self.assertRaisesRegex(UnusableInput, word):
                read_estate(self.write("estate.yaml", text))
        (self.folder / "estate.yaml").write_bytes(b"estate: \xff\xfe\n")
        with self.assertRaisesRegex(UnusableInput, "UTF-8"):
            read_estate(self.folder / "estate.yaml")
        with self.assertRaisesRegex(UnusableInput, "no such file"):
            read_estate(self.folder / "none.yaml")

    def test_an_alias_bomb_is_refused(self) -> None:
        lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x, x]"]
        lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 9)]
        with self.assertRaisesRegex(UnusableInput, "aliases"):
            read_estate(self.write("estate.yaml", "\n".join(lines)))


class Layers(InFolder):
    def test_patches_and_settings_lie_over_the_estate_in_order(self) -> None:
        self.estate()
        first = self.write("one.yaml", {"workloads": {"work": {"hosts": 20}}})
        second = self.write("two.json", '{"workloads": {"work": {"hosts": 30}}, "flows": {"talk": null}}')
        described = read_estate(
            self.folder / "estate.yaml",
            [first, second],
            ["route_tables.private.0.0.0.0/0=door", "estate=Set"],
        )
        self.assertEqual(described.estate.workloads["work"].hosts, 30)
        self.assertEqual(described.estate.flows, {})
        self.assertEqual(described.estate.route_tables["private"], {"0.0.0.0/0": "door"})
        self.assertEqual(described.estate.estate, "Set")

    def test_a_mistake_is_placed_in_the_layer_that_made_it(self) -> None:
        self.estate()
        patch = self.write("patch.yaml", "workloads:\n  work:\n    hosts: many\n")
        with self.assertRaises(UnusableInput) as caught:
            read_estate(self.folder / "estate.yaml", [patch], ["flows.talk.duration_s=-1", "nonsense"])
        places = [str(problem.place) for problem in caught.exception.problems]
        self.assertEqual(len(places), 3)
        self.assertTrue(any(f"{patch}:3:5" in place for place in places), places)
        self.assertTrue(any("--set flows.talk.duration_s" in place for place in places), places)


class Scalars(InFolder):
    def test_core_schema_of_yaml_1_2(self) -> None:
        text = "a: no\nb: 12:30\nc: 0x10\nd: 1e3\ne: '5'\nf: ~\ng: true\nh: 0o7\ni: .5\nj: 010\n"
        data, _, faults = read_yaml(text, "x")
        self.assertEqual(faults, [])
        expected = {
            "a": "no",
            "b": "12:30",
            "d": 1000.0,
            "e": "5",
            "f": None,
            "g": True,
            "i": 0.5,
            "j": "010",
        }
        self.assertEqual({key: data[key] for key in expected}, expected)


class Large(InFolder):
    def test_twenty_thousand_lines_are_read(self) -> None:
        """That it takes under a second is measured in bench/; here, that nothing is lost or quadratic."""
        self.estate()
        one = "  s{n}:\n    network: net\n    zone: a\n    prefix: 10.{high}.{low}.0/24\n    routes: private\n"
        more = "".join(one.format(n=n, high=n >> 8, low=n & 255) for n in range(4000))
        path = self.folder / "estate.yaml"
        path.write_text(path.read_text().replace("subnets:\n", f"subnets:\n{more}", 1))
        self.assertGreater(len(path.read_text().splitlines()), 20_000)
        start = time.process_time()
        described = read_estate(path)
        self.assertEqual(len(described.estate.subnets), 4002)
        self.assertLess(time.process_time() - start, 10)
