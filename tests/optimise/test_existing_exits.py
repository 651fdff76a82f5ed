"""What exists is kept: a gateway behind a new firewall, a firewall before a new gateway, a gateway that a hub shares.

Prices by hand: what is there for 730 hours at the test catalogue's rates.
"""

from typing import Any

from fenrask.checks import Severity, check
from fenrask.designs import build_steps
from fenrask.evaluation import evaluate
from fenrask.optimise import Choice, Wanted, choose
from tests.support import InFolder, merged

MONTH, GATE, GUARD, ADDRESS = 730, 0.1, 0.5, 0.005
OFFERS: dict[str, Any] = {
    "offers": {
        "guard": {"kind": "inspecting-firewall", "rates": {"hour": GUARD}},
        "dear": {
            "kind": "translation-gateway",
            "ports": {"assignment": "shared-per-destination", "per_address": 1000},
            "rates": {"hour": 2.0},
        },
        "wall": None,
        "host": None,
    }
}
INSPECTED: dict[str, Any] = {"workloads": {"work": {"needs": {"inspected": True}}}}
CHAIN: dict[str, Any] = {
    "subnets": {
        "inner": {"network": "net", "zone": "a", "prefix": "10.0.5.0/28", "routes": "inner"},
        "outer": {"network": "net", "zone": "a", "prefix": "10.0.6.0/28", "routes": "outer"},
    },
    "route_tables": {
        "inner": {"0.0.0.0/0": "old"},
        "outer": {"0.0.0.0/0": "door", "10.0.1.0/24": "sentry"},
        "private": {"0.0.0.0/0": "sentry"},
    },
    "exits": {
        "sentry": {"kind": "inspecting-firewall", "offer": "guard", "subnet": "inner", "rewrites_toward": []},
        "old": {"kind": "translation-gateway", "offer": "dear", "subnet": "outer", "addresses": "auto"},
        "gate": None,
    },
}
OTHER: dict[str, Any] = {
    "subnets": {"free": {"network": "net", "zone": "a", "prefix": "10.0.3.0/24", "routes": "private"}},
    "workloads": {"batch": {"subnets": ["free"], "hosts": 5}},
    "flows": {"more": {"from": "batch", "to": "partner", "per_host_per_s": 1, "duration_s": 2}},
}


class ExistingExits(InFolder):
    def chosen(self, patch: dict[str, Any], offers: dict[str, Any] | None = None) -> Choice:
        described = self.estate(patch, {"offers": {**OFFERS["offers"], **(offers or {})}})
        choice = choose(described, Wanted(explain=False))
        self.assertTrue(choice.evaluation.meets_all and choice.is_proven, choice.not_counted)
        self.assertFalse([one for one in check(choice.evaluation) if one.severity is Severity.ERROR])
        build_steps(evaluate(described), choice.evaluation)
        return choice

    def exits(self, choice: Choice, flow: str) -> set[tuple[str, ...]]:
        return {path.example.exits for path in choice.evaluation.paths.by_flow[flow]}

    def test_a_gateway_keeps_its_addresses_when_a_firewall_comes_before_it(self) -> None:
        choice = self.chosen(INSPECTED)
        self.assertEqual({one[1:] for one in self.exits(choice, "talk")}, {("gate", "door")})
        self.assertNotIn("gate", choice.patch["exits"])
        self.assertEqual((choice.effort.entries, choice.effort.removed), (0, ()))
        self.assertAlmostEqual(choice.month, (GATE + GUARD + ADDRESS) * MONTH, places=6)

    def test_what_need_not_be_inspected_goes_on_to_it_directly(self) -> None:
        choice = self.chosen(merged(INSPECTED, OTHER))
        self.assertEqual({one[1:] for one in self.exits(choice, "talk")}, {("gate", "door")})
        self.assertEqual(self.exits(choice, "more"), {("gate", "door")})
        self.assertAlmostEqual(choice.month, (GATE + GUARD + 2 * ADDRESS) * MONTH, places=6)

    def test_a_firewall_keeps_its_place_when_a_cheaper_gateway_comes_behind_it(self) -> None:
        choice = self.chosen(merged(INSPECTED, CHAIN))
        [(wall, gateway, _)] = self.exits(choice, "talk")
        self.assertEqual(wall, "sentry")
        self.assertEqual(choice.evaluation.described.estate.exits[gateway].offer_name, "gate")
        self.assertEqual(choice.effort.removed, ("old",))
        self.assertAlmostEqual(choice.month, (GATE + GUARD + ADDRESS) * MONTH, places=6)

    def test_what_goes_past_an_existing_firewall_is_routed_through_it(self) -> None:
        # Another subnet goes to the gateway directly, until it must be inspected: replies to it need a route then, too.
        past = {
            "route_tables": {"past": {"0.0.0.0/0": "old"}},
            "subnets": {"free": {"routes": "past"}},
            "workloads": {"batch": {"needs": {"inspected": True}}},
        }
        patch = merged(merged(merged(INSPECTED, CHAIN), OTHER), past)
        patch["exits"]["gate"] = None
        now = evaluate(self.estate(patch, {"offers": {**OFFERS["offers"], "gate": None}}))
        self.assertIn(("more", "inspected"), {(one.flow, one.need) for one in now.broken})
        choice = self.chosen(patch, {"gate": None})
        for flow in ("talk", "more"):
            self.assertEqual(self.exits(choice, flow), {("sentry", "old", "door")})
        self.assertEqual(choice.effort.removed, ())

    def test_a_hub_shares_an_existing_gateway(self) -> None:
        isle = {
            "networks": {"isle": {"prefixes": ["10.1.0.0/16"]}},
            "subnets": {"far": {"network": "isle", "zone": "a", "prefix": "10.1.1.0/24", "routes": "far"}},
            "route_tables": {"far": {}},
            "workloads": {"probes": {"subnets": ["far"], "hosts": 3}},
            "flows": {"call": {"from": "probes", "to": "partner", "per_host_per_s": 1, "duration_s": 2}},
        }
        choice = self.chosen(isle, {"hub": {"kind": "hub"}, "dear": None})
        [(_, gateway, _)] = self.exits(choice, "call")
        self.assertEqual((gateway, self.exits(choice, "talk")), ("gate", {("gate", "door")}))
        self.assertAlmostEqual(choice.month, (GATE + ADDRESS) * MONTH, places=6)
