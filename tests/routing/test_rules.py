"""Each rule: one estate that triggers it, and its near miss that does not."""

from datetime import date, timedelta
from typing import Any

from fenrask.routing.rules import RULES, check
from tests.support import InFolder

WALL: dict[str, Any] = {"kind": "inspecting-firewall", "offer": "wall", "subnet": "app", "addresses": 0}
LENT: dict[str, Any] = {"lent": {"kind": "lent-address", "network": "net"}}
NO_DEFAULT: dict[str, Any] = {"private": {"0.0.0.0/0": None}}
FIXED: dict[str, Any] = {"partner": {"needs": {"fixed_source": True}}}
LATE = {"catalogue": {"noted": str(date.today() - timedelta(days=366))}}
RECENT = {"catalogue": {"noted": str(date.today() - timedelta(days=364))}}

# rule: a patch that triggers it, the path of the place it is told at, and a patch that nearly does
CASES: dict[str, tuple[dict[str, Any], str, dict[str, Any]]] = {
    "black-hole": (
        {"route_tables": {"private": {"198.51.100.0/25": "gat"}}},
        "route_tables.private.198.51.100.0/25",
        {"route_tables": {"private": {"198.51.100.0/25": "gate"}}},
    ),
    "no-way-out": (
        {"route_tables": NO_DEFAULT},
        "route_tables.private",
        {"route_tables": {"private": {"0.0.0.0/0": None, "198.51.100.0/24": "gate"}}},
    ),
    "route-loop": (
        {"subnets": {"edge": {"routes": "private"}}},
        "subnets.edge.routes",
        {"route_tables": {"private": {"0.0.0.0/0": "gate"}}},
    ),
    "gateway-without-door": (
        {"route_tables": {"public": {"0.0.0.0/0": None, "192.0.2.0/24": "other"}}},
        "exits.gate.subnet",
        {"route_tables": {"public": {"0.0.0.0/0": None, "198.51.0.0/16": "door"}}},
    ),
    "source-may-change": (
        {"route_tables": NO_DEFAULT, "exits": LENT, "destinations": FIXED},
        "flows.talk",
        {"exits": LENT, "destinations": FIXED},
    ),
    "need-not-met": (
        {"destinations": {"partner": {"needs": {"off_internet": True}}}},
        "flows.talk",
        {"destinations": {"store": {"needs": {"off_internet": True}}}},
    ),
    "overlapping-prefixes": (
        {"subnets": {"twin": {"network": "net", "prefix": "10.0.1.128/25"}}},
        "subnets.twin",
        {"subnets": {"twin": {"network": "net", "prefix": "10.0.2.0/25"}}},
    ),
    "subnet-outside-network": (
        {"subnets": {"app": {"prefix": "10.1.1.0/24"}}},
        "subnets.app.prefix",
        {"subnets": {"app": {"prefix": "10.0.255.0/24"}}},
    ),
    "address-used-twice": (
        {"exits": {"more": {**WALL, "addresses": ["203.0.113.9", "203.0.113.1"]}}},
        "exits.more.addresses.1",
        {"exits": {"more": {**WALL, "addresses": ["203.0.113.9", "203.0.113.2"]}}},
    ),
    "keepalive-too-slow": (
        {"flows": {"talk": {"keepalive_s": 300}}},
        "flows.talk.keepalive_s",
        {"flows": {"talk": {"keepalive_s": 299}}},
    ),
    "idle-exit": ({"exits": {"spare": WALL}}, "exits.spare", {"exits": LENT}),
    "rates-out-of-date": (LATE, "noted", RECENT),
}


class Rules(InFolder):
    def found(self, patch: dict[str, Any], rule: str) -> list[str]:
        described = self.estate({k: v for k, v in patch.items() if k != "catalogue"}, patch.get("catalogue"))
        findings = [one for one in check(described) if one.rule == rule]
        for one in findings:
            self.assertTrue(one.cause and one.remedy and one.place.line)
        return [one.place.path for one in findings]

    def test_every_rule_has_a_case(self) -> None:
        self.assertEqual({rule.name for rule in RULES}, set(CASES))

    def test_each_is_triggered_at_its_place_and_its_near_miss_is_not(self) -> None:
        for rule, (trigger, path, near_miss) in CASES.items():
            with self.subTest(rule):
                self.assertEqual(self.found(trigger, rule), [path])
                self.assertEqual(self.found(near_miss, rule), [])

    def test_a_sound_estate_has_no_finding(self) -> None:
        self.assertEqual(check(self.estate()), [])

    def test_the_worst_comes_first(self) -> None:
        described = self.estate({"exits": {"spare": WALL}, "route_tables": {"private": {"10.9.0.0/16": "gone"}}})
        self.assertEqual([one.rule for one in check(described)], ["black-hole", "idle-exit"])
