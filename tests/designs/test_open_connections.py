"""What open connections do at a change, by offer and kind of change; counts by hand.

Ten hosts open one connection a second each and hold it for two: twenty are open, whatever the day.
"""

from typing import Any

from fenrask.designs import changes
from fenrask.evaluation import evaluate
from tests.support import InFolder, merged

TWO = {"exits": {"gate": {"addresses": ["203.0.113.1", "203.0.113.2"]}}}
ONE = {"exits": {"gate": {"addresses": ["203.0.113.1"]}}}
OFFERS: dict[str, Any] = {
    "gate": {"mapping_timeout_s": {"closed": {"default": 60, "min": 10, "max": 90}}},
    "other": {
        "kind": "translation-gateway",
        "ports": {"assignment": "shared-per-destination", "per_address": 1000},
    },
    "hub": {"kind": "hub"},
}
OTHER = {"kind": "translation-gateway", "offer": "other", "subnet": "edge", "addresses": ["203.0.113.9"]}
MOVED = {"exits": {"other": OTHER}, "route_tables": {"private": {"0.0.0.0/0": "other"}}}
JOINED: dict[str, Any] = {
    "networks": {"far": {"prefixes": ["10.1.0.0/16"]}, "isle": {"prefixes": ["10.2.0.0/16"]}},
    "subnets": {"there": {"network": "far", "zone": "a", "prefix": "10.1.1.0/24", "routes": "there"}},
    "route_tables": {"there": {"0.0.0.0/0": "hub"}, "hub": {"0.0.0.0/0": "gate"}, "public": {"10.1.0.0/16": "hub"}},
    "exits": {"hub": {"kind": "hub", "offer": "hub", "networks": ["net", "far"], "routes": "hub"}},
    "workloads": {"work": {"subnets": ["there"]}},
}
WIDER = {"exits": {"hub": {"networks": ["net", "far", "isle"]}}}


class OnChange(InFolder):
    def broken(self, start: Any, patch: Any, rules: Any, behaviour: Any = None) -> tuple[float, float]:
        offers = merged(OFFERS, {name: {"on_change": rules} for name in OFFERS})
        base = evaluate(self.estate(start, {"offers": offers, "behaviour": behaviour or {}}))
        self.assertFalse(base.paths.lost)
        now = evaluate(base.described.patched(patch, "now"))
        self.assertFalse(now.paths.lost)
        [talk] = changes(base, now)
        return talk.breaks, talk.waits_s

    def test_kinds_of_change(self) -> None:
        drained = {"remove_address": "drain", "drain_s": 350}
        few, many = ({"exits": {"gate": {"addresses": number}}} for number in (2, 4))
        sooner = {"exits": {"gate": {"mapping_timeout_s": {"closed": 30}}}}
        cases: tuple[tuple[str, Any, Any, Any, tuple[float, float]], ...] = (
            ("an address more", ONE, TWO, {}, (0, 0)),
            ("an address more breaks", ONE, TWO, {"add_address": "break"}, (20, 0)),
            ("one of two gone", TWO, ONE, {}, (10, 0)),
            ("one of two gone, drained", TWO, ONE, drained, (0, 350)),
            ("one of two gone, drained at once", TWO, ONE, {"remove_address": "drain"}, (0, 0)),
            ("more, not known yet", few, many, {}, (0, 0)),
            ("fewer, not known yet", many, few, {}, (10, 0)),
            ("another exit", {}, MOVED, {}, (20, 0)),
            ("another exit, kept", {}, MOVED, {"new_route": "keep"}, (0, 0)),
            ("timeouts", {}, sooner, {}, (0, 0)),
            ("timeouts break", {}, sooner, {"timeout": "break"}, (20, 0)),
            ("a network more at the hub", JOINED, WIDER, {}, (20, 0)),
            ("a network more at the hub, kept", JOINED, WIDER, {"attach": "keep"}, (0, 0)),
            ("nothing", TWO, {"targets": {"blocking": 0.01}}, {}, (0, 0)),
        )  # fmt: skip
        for what, start, patch, rules, expected in cases:
            with self.subTest(what):
                self.assertEqual(self.broken(start, patch, rules), expected)

    def test_the_offer_says_it_before_the_provider(self) -> None:
        for rules, stated, expected in (
            ({}, "stay", 0.0),
            ({"new_route": "break"}, "stay", 20.0),
            ({"new_route": "keep"}, "break", 0.0),
        ):
            with self.subTest(rules=rules, stated=stated):
                self.assertEqual(self.broken({}, MOVED, rules, {"open_connections": stated})[0], expected)
