"""Situations after a fault: what is to survive one, how exits are sized for it, and what every command says of it."""

import json
from typing import Any

from tests.situations.base import CATALOGUE, Situation
from tests.support import merged

BUSY: dict[str, Any] = {
    "flows": {"forecast": {"per_host_per_s": 50}},
    "destinations": {"weather": {"needs": {"survives": "zone-loss"}}},
}
"""20 hosts in two zones, 50 new connections a second each, of 67 s: 33,500 at each gateway of 50,000 ports, and 67,000
at the one that is left."""
# Erlang B of 67,000 on 50,000 ports is 1 - 50,000 / 67,000, but for a hundredth of a percent.
REFUSED = 1 - 50 / 67


class SizedForTheDayAfter(Situation):
    """Each zone's gateway carries its own load, and neither carries both: what a need to survive asks for."""

    def why(self, *more: str) -> str:
        """Why the flow does not survive what it is to; empty where it does."""
        found = json.loads(self.program("path", *more, "--format", "json").stdout)["needs_not_met"]
        return next((str(one["why"]) for one in found if one["need"] == "survives"), "")

    def test_what_does_not_carry_the_other_zone_is_told_and_cured(self) -> None:
        self.put(BUSY)
        # Without the need all is well.
        self.assertEqual(self.rules("--set", "destinations.weather.needs=null", level="error"), set())
        self.assertIn("zone a lost: 25.4% of new connections find no port at nat-b", self.why())
        self.assertIn("it then needs 2, and has 1", self.why())
        found = self.json("capacity", status=1)["exits"]
        self.assertEqual([one["addresses_needed"] for one in found], [1, 1])
        self.assertEqual([one["addresses_needed_after_fault"] for one in found], [2, 2])
        self.assertEqual(
            {one["exit"]: one["worst_fault"] for one in found}, {"nat-a": "zone b lost", "nat-b": "zone a lost"}
        )
        patch = self.remedy("need-not-met")
        self.assertEqual(self.rules("--patch", patch, level="error"), set())
        self.assertEqual({one["addresses"] for one in self.json("capacity", "--patch", patch)["exits"]}, {2})
        # `stress` says the same of both estates.
        for more, share in (((), REFUSED), (("--patch", patch), 0.0)):
            cases = {
                one["case"]: one
                for one in json.loads(self.program("stress", *more, "--format", "json").stdout)["cases"]
            }
            for zone in "ab":
                self.assertAlmostEqual(cases[f"zone {zone} lost"]["blocking"], share, delta=1e-3)

    def test_a_limit_that_a_fault_exceeds(self) -> None:
        """A zone's gateway takes its own connections, and not twice as many: `check` and `capacity` say it both."""
        self.put(BUSY)
        [own] = {
            round(one["use"])
            for one in self.json("capacity", status=1)["limits"]
            if one["limit"] == "ports" and one["exit"] == "nat-a"
        }
        for most, said in ((1.5 * own, True), (2.5 * own, False)):
            limit = f"catalogue.offers.nat.limits.connections={most:g}"
            room = ("--set", "exits.nat-a.addresses=4", "--set", "exits.nat-b.addresses=4", "--set", limit)
            with self.subTest(most=most):
                done = self.program("capacity", *room)
                self.assertEqual("nat-b after a fault (zone a lost):" in done.stdout, said, done.stdout)
                self.assertEqual("all carry their load now, 2 not after a fault" in done.stdout, said)
                self.assertEqual(done.returncode, int(said))
                self.assertEqual("need-not-met" in self.rules(*room, level="error"), said)
                self.program("handover", *room, "--save", "built", "--force")
                rows = (self.folder / "built" / "alerts.csv").read_text().splitlines()
                [line] = [line for line in rows if line.startswith("nat-a") and "after zone b lost" in line]
                # Both loads are its own then.
                self.assertAlmostEqual(float(line.split('"')[2].split(",")[3]), most / 2, delta=most / 1000)

    def test_what_the_tool_sizes_is_sized_for_the_fault(self) -> None:
        auto = {"exits": {"nat-a": {"addresses": "auto"}, "nat-b": {"addresses": "auto"}}}
        for need, addresses in (("zone-loss", {2}), (None, {1})):
            self.put(BUSY, auto, {"destinations": {"weather": {"needs": {"survives": need}}}})
            self.assertEqual({one["addresses"] for one in self.json("capacity")["exits"]}, addresses)
            listed = {one["exit"]: one["addresses"] for one in self.json("addresses")["exits"]}
            self.assertEqual(set(listed.values()), addresses)
            # Bought as such: 730 hours of each.
            lines = [one for one in self.json("charges")["lines"] if one["item"] == "addresses"]
            self.assertAlmostEqual(sum(one["amount"] for one in lines), 2 * addresses.pop() * 730 * 0.0063, places=6)

    def test_a_target_of_its_own_and_load_that_stays_away(self) -> None:
        self.put(BUSY, {"targets": {"blocking_after_fault": 0.3}})
        self.assertEqual(self.why(), "")
        self.put(BUSY, {"targets": {"blocking_after_fault": 0.25}})
        self.assertIn("25.4%", self.why())
        # Where the load of lost hosts is gone with them, each gateway has its own alone.
        self.put(BUSY, {"workloads": {"pumps": {"load_moves": False}}})
        self.assertEqual(self.why(), "")
        self.assertEqual({one["addresses_needed_after_fault"] for one in self.json("capacity")["exits"]}, {1})

    def test_each_kind_of_fault(self) -> None:
        for kinds, words in (
            (["exit-loss"], "nat-a lost: pumps-a is cut off: black hole"),
            (["zone-loss", "node-loss"], "zone a lost"),
            (["any-one"], "nat-a lost: pumps-a is cut off"),
            (["node-loss"], ""),
            (["session-loss"], ""),
        ):
            self.put(merged(BUSY, {"destinations": {"weather": {"needs": {"survives": kinds}}}}))
            with self.subTest(kinds):
                self.assertIn(words, self.why())
                self.assertEqual(bool(self.why()), bool(words))

    def test_a_machine_that_is_left_carries_all(self) -> None:
        pair = {
            "exits": {
                "nat-b": None,
                "nat-a": {
                    "kind": "inspecting-firewall",
                    "offer": "wall",
                    "nodes": 2,
                    "addresses": ["203.0.113.20"],
                },
            },
            "route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}},
            "flows": {"forecast": {"per_host_per_s": 20}},
            "destinations": {"weather": {"needs": {"survives": ["node-loss"]}}},
        }
        limits = {"offers": {"wall": {"limits": {"node": {"new_per_s": 300}}}}}
        for most, survives in ((300, False), (450, True)):
            self.put(BUSY, pair)
            limits["offers"]["wall"]["limits"]["node"]["new_per_s"] = most
            self.write("catalogue.yaml", merged(CATALOGUE, limits))
            with self.subTest(most):
                # 400 new connections a second: 200 for each of two nodes, all for one.
                summary = self.json("capacity", status=int(not survives))["summary"]
                self.assertTrue(any(line.startswith("1 exit: all carry their load") for line in summary), summary)
                self.assertEqual("nat-a after a fault (a node of nat-a lost)" in " ".join(summary), not survives)
                self.assertEqual(self.why() == "", survives)
                if not survives:
                    self.assertIn("exceeds its limit of 300 new connections per s", self.why())

    def test_designs_and_the_choice_are_sized_for_it(self) -> None:
        self.put(BUSY)
        passing = {
            one["design"]
            for one in self.json("compare", "--save", "designs", status=1)["designs"]
            if one["needs_met"] == "yes"
        }
        self.assertIn("gateway per zone", passing)
        self.program("choose", "--save", "designs/chosen.json")
        files = [
            one for one in (self.folder / "designs").iterdir() if one.stem.replace("-", " ") in {*passing, "chosen"}
        ]
        self.assertGreater(len(files), 1)
        for file in files:
            patch = f"designs/{file.name}"
            cases = json.loads(self.program("stress", "--patch", patch, "--format", "json").stdout)["cases"]
            zones = [one for one in cases if one["case"].startswith("zone")]
            with self.subTest(patch):
                self.assertEqual([(one["cut_off"], one["overloaded"]) for one in zones], [([], []), ([], [])])
                self.assertEqual(self.rules("--patch", patch, level="error"), set())

    def test_growth_after_a_fault_is_kept_ready_as_far_as_the_offer_allows(self) -> None:
        """67,000 after a fault want two addresses, and 107,200 three; of two at most, two carry what is there."""
        auto = {"exits": {"nat-a": {"addresses": "auto"}, "nat-b": {"addresses": "auto"}}}
        self.put(BUSY, auto, {"targets": {"growth_margin": 0.6}})
        for most, needed in ((6, 3), (2, 2)):
            own = {"offers": {"nat": {"limits": {"addresses": most}}, "nat-wide": None, "wall": None, "box": None}}
            self.write("catalogue.yaml", merged(CATALOGUE, own))
            with self.subTest(most):
                self.assertEqual(self.rules(level="error"), set())
                self.assertEqual({one["addresses"] for one in self.json("capacity")["exits"]}, {needed})
                choice, month = self.json("choose"), self.json("charges")["month_amount"]
                self.assertTrue(choice["proven"] and choice["meets_all"])
                self.assertAlmostEqual(choice["month_amount"], month, places=6)
                self.assertEqual(choice["design"], "")

    def test_monitoring_is_told_from_what_load_on(self) -> None:
        self.put(BUSY)
        self.program("handover", "--save", "built")
        rows = (self.folder / "built" / "alerts.csv").read_text()
        # Half of what one gateway carries by itself.
        [line] = [line for line in rows.splitlines() if line.startswith("nat-a") and "after zone b lost" in line]
        full_at = float(line.split('"')[2].split(",")[3])
        self.assertAlmostEqual(full_at, 50_000 / 2, delta=300)
        self.assertIn("egress_nat_a_not_after_a_fault", (self.folder / "built" / "alerts.yaml").read_text())


class EveryOffer(Situation):
    """A standard design is made with whichever offer of its kind meets all for the least."""

    def test_a_regional_gateway_where_a_zonal_one_does_not_do(self) -> None:
        for needs, offer in (
            ({}, "nat"),
            ({"survives": "zone-loss"}, "nat-wide"),
            ({"availability": 0.9998}, "nat-wide"),
        ):
            self.put({"destinations": {"weather": {"needs": needs}}})
            designs = {
                one["design"]: one for one in self.json("compare", "--save", "made", "--force", status=None)["designs"]
            }
            with self.subTest(needs):
                one = designs["gateway per network"]
                self.assertEqual(one["needs_met"], "yes")
                exits = json.loads((self.folder / "made" / "gateway-per-network.json").read_text())["exits"]
                self.assertEqual({each["offer"] for each in exits.values() if each}, {offer})
                # The same gateway by hand costs as much; and the choice is not dearer than any design.
                self.assertLessEqual(
                    self.json("choose", status=None)["month_amount"],
                    min(each["month_amount"] for each in designs.values() if each["needs_met"] == "yes") + 0.005,
                )
        # Where no offer of the kind does, the design is shown with the one that it takes by itself.
        self.put({"destinations": {"weather": {"needs": {"inspected": True}}}})
        designs = {one["design"]: one for one in self.json("compare", "--save", "made", "--force", status=1)["designs"]}
        self.assertNotEqual(designs["gateway per network"]["needs_met"], "yes")
        exits = json.loads((self.folder / "made" / "gateway-per-network.json").read_text())["exits"]
        self.assertEqual({each["offer"] for each in exits.values() if each}, {"nat"})
