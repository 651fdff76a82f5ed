"""Options and keys given wrong: told in a sentence with the place, never a traceback, never a silence."""

from typing import Any

from tests.support import CATALOGUE, ESTATE, InFolder, merged

PORTS = "shared-per-destination"


class Misuse(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", ESTATE)

    def blocked(self, told: str, *arguments: str) -> None:
        with self.subTest(arguments=arguments):
            done = self.program(*arguments, columns=200)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(told, done.stderr)
            self.assertEqual(done.stdout, "")
            self.assertNotIn("Traceback", done.stderr)

    def test_options(self) -> None:
        self.write("empty.json", "")
        self.write("list.json", "[1]")
        self.write("typo.json", '{"exits": {"gate": {"adresses": 3}}}')
        for told, *arguments in (
            ("no such file", "compare", "--design", "gone.json"),
            ("a JSON Merge Patch", "compare", "--design", "empty.json"),
            ("a JSON Merge Patch", "compare", "--design", "list.json"),
            ("adresses: an unknown key", "compare", "--design", "typo.json"),
            ("no such file", "compare", "--base", "gone.yaml"),
            ("an empty file", "compare", "--catalogue", "empty.json"),
            ("Did you mean 'month'", "compare", "--weights", "mont=1"),
            ("MEASURE=NUMBER", "compare", "--weights", "month=nan"),
            ("an exit or a flow", "choose", "--keep", "nobody"),
            ("no --frontier", "choose", "--figure", "x.png"),
            ("no --break-even", "charges", "--figure", "x.png"),
            ("a flow", "charges", "--break-even", "nothing"),
            ("a translating exit", "addresses", "--add", "door=1"),
            ("EXIT=NUMBER", "addresses", "--add", "gate=many"),
            ("at most 9999", "addresses", "--add", "gate=99999999999"),
            ("a case of `stress`", "stress", "--case", "none"),
            ("a case of `stress`", "simulate", "--case", "none"),
            ("an exit that translates", "simulate", "--exit", "door"),
            ("a number from 1 to 1024", "simulate", "--workers", "0"),
            ("less than or equal to 168", "simulate", "--around", "nan"),
            ("an interface", "handover", "--outward", ""),
            ("a flow", "compare", "--break-even", "nothing"),
            ("one of the two", "compare", "--break-even", "talk", "--weights", "month=1"),
            ("a routing session", "stress", "--session-down", "gate/router"),
            ("a routing session", "stress", "--session-down", "door"),
            ("a name of this estate", "stress", "--lose-zone", "q"),
            ("DESTINATION=TIMES", "stress", "--slow", "partner"),
            ("at least 1 time as long", "stress", "--slow", "partner=0.5"),
            ("no --months", "stress", "--growth", "0.1"),
            ("no --months and no --inputs", "stress", "--figure", "x.png"),
        ):
            self.blocked(told, *arguments)

    def test_keys_of_the_catalogue(self) -> None:
        for told, ports in (
            ("a block of at most per_address", {"assignment": "host-block", "block": 2000}),
            ("no `max_block`", {"assignment": "growing-block", "block": 3}),
            ("block: an unknown key", {"assignment": "shared-once", "block": 3}),
            ("nodes: an unknown key", {"assignment": "shared-once", "nodes": 3}),
            ("one port for each node", {"assignment": "node-share", "nodes": 4000}),
            ("one of closed, reset", {"assignment": PORTS, "early_reuse_share": {"closd": 1}}),
            ("at most 1", {"assignment": PORTS, "early_reuse_share": 2}),
            ("at least 1", {"assignment": PORTS, "search_tries": 0}),
            ("search_tries.0", {"assignment": PORTS, "search_tries": [0]}),
            ("gate.ports.ended_reuse", {"assignment": PORTS, "ended_reuse": {"chance": 1}}),
            ("one of any-free", {"assignment": PORTS, "address_choice": "dice"}),
        ):
            self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"gate": {"ports": ports}}}))
            self.blocked(told, "capacity")

    def test_keys_of_the_estate(self) -> None:
        cases: tuple[tuple[str, dict[str, Any]], ...] = (
            ("values with measured", {"flows": {"talk": {"duration_s": {"shape": "measured"}}}}),
            (
                "cv with hyperexponential",
                {"flows": {"talk": {"duration_s": {"shape": "hyperexponential", "mean": 2}}}},
            ),
            (
                "shares sum to 1",
                {"flows": {"talk": {"duration_s": {"shape": "mixture", "parts": {"a": {"share": 0.4, "mean": 1}}}}}},
            ),
            (
                "'by-nam', expected one of by-name",
                {"destinations": {"partner": {"needs": {"inspected": "by-nam"}}}},
            ),
            ("sum to at most 1", {"flows": {"talk": {"half_closed_share": 0.7, "rejected_share": 0.7}}}),
            ("more than 0", {"flows": {"talk": {"burstiness": 0}}}),
            ("less than 1", {"flows": {"talk": {"retry_share": 1}}}),
            ("shares sum to 1", {"destinations": {"partner": {"distinct_addresses": [0.5, 0.1]}}}),
            ("exits of this estate: there is no gone", {"stress": {"it": {"lose_exits": ["gone"]}}}),
            ("sessions that are there", {"stress": {"it": {"sessions_down": ["door"]}}}),
            ("Did you mean 'lose_zones'", {"stress": {"it": {"lose_zone": ["a"]}}}),
            ("a whole number", {"exits": {"gate": {"at_least": "two"}}}),
            ("the name of a file beside the estate", {"catalogue": 5}),
        )
        for told, patch in cases:
            self.write("estate.yaml", merged(ESTATE, patch))
            self.blocked(told, "capacity")

    def test_loads_beyond_all_sense_are_answered_all_the_same(self) -> None:
        for key, value in (
            ("flows.talk.duration_s", "1e15"),
            ("targets.growth_margin", "1e15"),
            ("flows.talk.burstiness", "1e15"),
        ):
            done = self.program("capacity", "--set", f"{key}={value}", "--set", "exits.gate.addresses=auto")
            self.assertIn(done.returncode, (0, 1), done.stderr)
            self.assertIn("no number of addresses suffices", done.stdout)
            # And beyond what any number of a file may be.
            self.blocked("at most 1,000,000,000,000,000", "capacity", "--set", f"{key}=1e300")

    def test_what_cannot_be_simulated_is_said(self) -> None:
        done = self.program("simulate", "--set", "flows.talk.per_host_per_s=1e9")
        self.assertIn("Nothing was simulated", done.stdout)
        self.assertIn("simulate fewer hours", done.stdout)
        done = self.program("simulate", "--set", "flows.talk.duration_s=1e9", "--around", "1", "--most-runs", "2")
        self.assertIn("days before do not settle it", done.stdout)
