"""A firewall on the way to a private destination: put before its line, shared with the internet, or there already.

Prices by hand: what stands for 730 hours at the test catalogue's rates, whatever the programme says.
"""

from functools import reduce
from typing import Any

from fenrask.checks import Severity, check
from fenrask.designs import build_steps
from fenrask.evaluation import evaluate
from fenrask.optimise import Choice, Wanted, choose
from tests.support import InFolder, merged

QUICK = Wanted(explain=False)
WALL, ADDRESS, MONTH = 1.0, 0.005, 730
LINE: dict[str, Any] = {
    "exits": {
        "line": {
            "kind": "circuit",
            "network": "net",
            "third_party": "bank",
            "received": ["192.168.7.0/24"],
            "advertised": ["10.0.0.0/16"],
        }
    },
    "destinations": {"bank": {"prefixes": ["192.168.7.0/24"], "port": 443, "needs": {"inspected": True}}},
    "flows": {"pay": {"from": "work", "to": "bank", "per_host_per_s": 0.2, "duration_s": 3}},
}
STANDING: dict[str, Any] = {
    "subnets": {"inner": {"network": "net", "zone": "a", "prefix": "10.0.5.0/28", "routes": "inner"}},
    "route_tables": {"inner": {}, "back": {"10.0.1.0/24": "sentry"}},
    "exits": {
        "sentry": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "inner", "rewrites_toward": []},
        "line": {"routes": "back"},
    },
}
TWO_ZONES: dict[str, Any] = {
    "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
    "workloads": {"work": {"subnets": ["app", "app-b"]}},
}


class BeforeLines(InFolder):
    def chosen(self, *patches: dict[str, Any]) -> Choice:
        described = self.estate(reduce(merged, patches, LINE))
        choice = choose(described, QUICK)
        self.assertTrue(choice.evaluation.meets_all and choice.is_proven, choice.not_counted)
        self.assertAlmostEqual(choice.mix.month, float(choice.evaluation.bill.total), places=6)
        self.assertFalse([one for one in check(choice.evaluation) if one.severity is Severity.ERROR])
        build_steps(evaluate(described), choice.evaluation)
        return choice

    def exits(self, choice: Choice, flow: str) -> set[tuple[str, ...]]:
        return {path.example.exits for path in choice.evaluation.paths.by_flow[flow]}

    def test_one_is_put_before_the_line(self) -> None:
        choice = self.chosen()
        [(wall, line)] = self.exits(choice, "pay")
        self.assertEqual(line, "line")
        self.assertEqual(choice.evaluation.described.estate.exits[wall].offer_name, "wall")
        # Hosts that translate for the internet cost nothing in this catalogue.
        volume = sum(one.amount for one in choice.evaluation.bill.lines if not one.fixed)
        self.assertAlmostEqual(choice.month - float(volume), (WALL + ADDRESS) * MONTH, places=6)

    def test_one_is_enough_for_the_line_and_the_internet(self) -> None:
        choice = self.chosen({"workloads": {"work": {"needs": {"inspected": True}}}})
        [(wall, _)] = self.exits(choice, "pay")
        self.assertEqual(self.exits(choice, "talk"), {(wall, "door")})
        self.assertAlmostEqual(choice.month, (WALL + ADDRESS) * MONTH, places=6)

    def test_one_that_stands_is_used(self) -> None:
        # Replies come through it already, so that what goes past it now is lost.
        choice = self.chosen(STANDING)
        self.assertEqual(self.exits(choice, "pay"), {("sentry", "line")})
        self.assertNotIn("sentry", choice.patch["exits"])
        walls = [one for one in choice.evaluation.described.estate.exits.values() if one.inspects]
        self.assertEqual(len(walls), 1)

    def test_what_must_survive_a_zone_has_one_in_each(self) -> None:
        survives = {"destinations": {"bank": {"needs": {"survives": "zone-loss"}}}}
        choice = self.chosen(TWO_ZONES, survives)
        walls = {name for name, one in choice.evaluation.described.estate.exits.items() if one.inspects}
        self.assertEqual(len(walls), 2)
        self.assertEqual({path[1:] for path in self.exits(choice, "pay")}, {("line",)})
        one = self.chosen(TWO_ZONES)
        walls = {name for name, one in one.evaluation.described.estate.exits.items() if one.inspects}
        self.assertEqual(len(walls), 1)
        self.assertLess(one.month, choice.month)

    def test_what_goes_by_the_line_uninspected_still_arrives(self) -> None:
        # Another destination by the same line, of which nothing is demanded: replies to its hosts come through the
        # firewall too, so that it is led there as well or comes from other hosts.
        other = {
            "destinations": {"desk": {"prefixes": ["192.168.7.128/28"], "port": 25}},
            "flows": {"mail": {"from": "work", "to": "desk", "per_host_per_s": 0.1, "duration_s": 3}},
        }
        choice = self.chosen(other)
        self.assertFalse(choice.evaluation.paths.lost)
