"""What an engineer does one after the other, with the installed program on the sample."""

import json
from typing import Any

from fenrask.demo import VELLMOUTH
from tests.support import InFolder


class Vellmouth(InFolder):
    def setUp(self) -> None:
        super().setUp()
        # As `fenrask demo` writes it; that it does is shown in `test_program`.
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)

    def rules(self, *more: str) -> list[str]:
        done = self.program("check", "--format", "json", *more)
        return [one["rule"] for one in json.loads(done.stdout)["findings"] if not one["accepted"]]

    def test_findings_are_mended_one_by_one_until_none_is_left(self) -> None:
        steps: tuple[tuple[str, Any], ...] = (
            # Four would do today, and seven after the loss of a zone that the tickets are to survive.
            ("port-exhaustion", {"exits": {one: {"addresses": "auto", "at_least": 7} for one in ("gate-a", "gate-b")}}),
            ("black-hole", {"route_tables": {"fleet-private": {"192.0.2.64/27": None}}}),
            ("source-may-change", {"route_tables": {"harbour-c": {"0.0.0.0/0": "gate-a"}}}),
            (
                "need-not-met",
                {
                    "exits": {
                        "to-object-store": {
                            "kind": "routed-endpoint",
                            "offer": "service-door",
                            "network": "fleet",
                            "destination": "object-store",
                            "access": "listed",
                        }
                    },
                    "route_tables": {"fleet-private": {"object-store": "to-object-store"}},
                },
            ),
            ("advertised-too-much", {"exits": {"pilots-line": {"advertised": ["10.40.11.0/24", "10.40.12.0/24"]}}}),
            ("idle-exit", {"accepted": {"idle-exit at exits.spare-host": "kept until the yard has moved"}}),
            (
                "zone-crossing-default",
                {
                    "accepted": {
                        "zone-crossing-default at route_tables.fleet-private": "one gateway is enough",
                        "zone-crossing-default at route_tables.harbour-c": "six hosts",
                    }
                },
            ),
        )
        patches: list[str] = []
        for number, (rule, patch) in enumerate(steps):
            with self.subTest(rule):
                self.assertIn(rule, self.rules(*patches))
                patches += ["--patch", str(self.write(f"step-{number}.json", patch))]
                self.assertNotIn(rule, self.rules(*patches))
        self.assertEqual(self.rules(*patches), [])
        self.assertEqual(self.program("check", "--fail-on", "note", *patches).returncode, 0)

    def test_the_endpoint_saves_most_of_the_data_charges(self) -> None:
        before = self.json("charges", status=1)
        patch = {
            "exits": {
                "door": {
                    "kind": "routed-endpoint",
                    "offer": "service-door",
                    "network": "fleet",
                    "destination": "object-store",
                }
            },
            "route_tables": {"fleet-private": {"object-store": "door"}},
        }
        after = self.json("charges", "--patch", str(self.write("patch.json", patch)), status=1)
        self.assertLess(after["by_volume_amount"], 0.5 * before["by_volume_amount"])
        self.assertEqual(after["fixed_amount"], before["fixed_amount"])

    def test_two_more_addresses_cure_the_evening(self) -> None:
        for addresses, fits in ((3, False), (4, True)):
            found = self.json("capacity", "--set", f"exits.gate-a.addresses={addresses}", status=1)
            self.assertEqual(found["fits"], fits)
        # After the loss of a zone either gateway has all payments, and that is to be survived.
        both = ("--set", "exits.gate-a.addresses=auto", "--set", "exits.gate-b.addresses=auto")
        for gate in self.json("capacity", *both, status=1)["exits"][:2]:
            found = (gate["addresses"], gate["addresses_needed"], gate["addresses_needed_after_fault"])
            self.assertEqual(found, (7, 4, 7))
        bought = self.json("addresses", "--set", "exits.gate-a.addresses=auto", status=1)
        partner = next(one for one in bought["partners"] if one["destination"] == "fare-acquirer")
        self.assertLessEqual(partner["entries"], partner["max_entries"])

    def test_a_saved_design_is_checked_priced_and_confirmed_like_any_estate(self) -> None:
        designs = {one["design"]: one for one in self.json("compare", "--save", "designs", status=1)["designs"]}
        plain, routed = designs["gateway per zone"], designs["with routed endpoints"]
        self.assertLess(routed["by_volume_amount"], plain["by_volume_amount"] / 2)
        cheapest = min(designs.values(), key=lambda one: one["month_amount"])
        self.assertTrue(cheapest["needs_met"].startswith("no"))
        patch = str(self.folder / "designs" / "with-in-subnet-endpoints.json")
        errors = self.program("check", "--patch", patch, "--fail-on", "error")
        self.assertEqual(errors.returncode, 0, errors.stdout)
        self.assertEqual(self.program("capacity", "--patch", patch).returncode, 0)
        self.assertEqual(self.program("path", "--patch", patch).returncode, 0)

    def test_source_and_confirm_agree_on_what_is_planned(self) -> None:
        planned = self.json("path", "ticketing-a", "fare-acquirer", status=None)["seen_as"][0]
        observed = self.json("confirm", "observed.csv", status=1)["observed"]
        rows = [one for one in observed if (one["subnet"], one["destination"]) == ("ticketing-a", "fare-acquirer")]
        self.assertEqual({one["planned"] for one in rows}, {planned})
        self.assertEqual({one["verdict"] for one in rows}, {"as planned"})

    def test_a_host_stands_for_its_subnet(self) -> None:
        # Payments do not survive what they are to: the flow breaks a need.
        by_name = self.json("path", "ticketing-a", "fare-acquirer", status=1)
        by_address = self.json("path", "10.40.1.77", "203.0.113.17")
        for key in ("exit", "source", "zones"):
            self.assertEqual([one[key] for one in by_name["hops"]], [one[key] for one in by_address["hops"]])

    def test_effective_routes_show_what_is_dead(self) -> None:
        routes = {one["prefix"]: one for one in self.json("path", "telemetry-a")["routes"]}
        self.assertEqual(routes["192.0.2.64/27"]["state"], "in force, black hole")
        self.assertEqual(routes["192.0.2.64/27"]["shadows"], ["0.0.0.0/0 to gate-fleet"])
        self.assertEqual(routes["10.41.0.0/16"]["origin"], "local")

    def chosen(self, name: str, *words: str) -> tuple[float, str]:
        """What a choice that is saved costs a month by its bill, once it has no error left; and what was printed."""
        done = self.program("choose", *words, "--save", f"{name}.json")
        # The estate as it is has errors, of which the choice has none left.
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertEqual(self.program("check", "--patch", f"{name}.json", "--fail-on", "error").returncode, 0)
        self.assertEqual(self.program("capacity", "--patch", f"{name}.json").returncode, 0)
        return self.json("charges", "--patch", f"{name}.json")["month_amount"], done.stdout

    def test_a_choice_is_made_loosened_and_kept(self) -> None:
        free, private = (
            self.chosen(name, *words)
            for name, words in (
                # What is kept has its tests on small estates; here it is beside all else.
                ("free", ["--public-hosts", "--keep", "tides", "--keep", "spare-host"]),
                ("private", ["--format", "json"]),
            )
        )
        told = json.loads(private[1])
        self.assertLess(free[0], private[0])
        self.assertRegex(
            " ".join(told["summary"]), r"[\d,.]+ less than \"[^\"]+\", the cheapest standard design that meets"
        )
        self.assertIn("hosts get a public address", free[1])
        self.assertFalse(any("public address" in line for line in told["summary"]))
        # What is saved costs what was told.
        self.assertAlmostEqual(private[0], told["month_amount"], delta=0.01)
        self.assertEqual(f"{free[0]:,.2f}", next(line for line in free[1].splitlines() if "proven" in line).split()[0])
        paths = self.json("path", "--patch", "free.json", status=None)["paths"]
        self.assertEqual({one["exits"][0] for one in paths if one["flow"] == "tides"}, {"gate-a", "gate-b"})
        exits = {one["exit"] for one in self.json("capacity", "--patch", "free.json")["exits"]}
        self.assertIn("spare-host", exits)
        blocked = self.program("choose", "--keep", "rosters")
        self.assertEqual(blocked.returncode, 1)
        self.assertIn("cannot be kept: its current path breaks fixed_source", blocked.stderr)

    def test_a_zone_is_lost_for_a_while_and_the_day_recovers(self) -> None:
        words = ("simulate", "--exit", "gate-a", "--set", "exits.gate-a.addresses=4", "--case", "zone b lost")
        length = ("--outage", "10", "--around", "1", "--most-runs", "2")
        told = self.json(*words, *length, "--figure", "day.svg", status=1)
        [pool] = told["pools"]
        self.assertTrue(10 <= pool["recovers_s"] / 60 <= 13, pool)
        blocked = [one["blocking"] for one in told["ports_in_use"]]
        # Five minutes a row: ten before the case strikes, ten of it, and the rest.
        self.assertEqual(blocked[:2], [0.0, 0.0])
        self.assertGreater(min(blocked[2:4]), 0.2)
        self.assertEqual(blocked[6:], [0.0] * len(blocked[6:]))
        self.assertIn("the case strikes at 17:06, for 10 min; it recovers in 1", " ".join(told["summary"]))
        self.assertIn("<svg", (self.folder / "day.svg").read_text(encoding="utf-8"))
