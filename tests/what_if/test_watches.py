"""What is watched beside how full exits are: figures of the plan by hand, thresholds by evaluating what they say."""

from typing import Any

import yaml

from fenrask.evaluation import evaluate
from fenrask.what_if import Watch, watches
from tests.support import InFolder, merged

TWO: dict[str, Any] = {
    "subnets": {
        "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"},
        "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
    },
    "route_tables": {"private-b": {"0.0.0.0/0": "other"}},
    "exits": {
        "other": {"kind": "translator-host", "offer": "host", "subnet": "edge-b", "addresses": ["203.0.113.2"]},
        "line": {
            "kind": "circuit", "network": "net", "third_party": "the pilots", "received": ["172.20.0.0/16"],
            "routers": {"first": {}, "second": {"session": "down"}},
        },
    },
    "workloads": {"more": {"subnets": ["app-b"], "hosts": 30}},
    "flows": {
        "talk": {"unanswered_share": 0.05},
        "also": {"from": "more", "to": "partner", "per_host_per_s": 1, "duration_s": 2, "unanswered_share": 0.2},
        "calm": {"from": "more", "to": "store", "per_host_per_s": 1, "duration_s": 2},
    },
    "destinations": {"partner": {"names": ["p.example.net"]}},
}  # fmt: skip
TIMERS = {"closed": 60, "unanswered": 240}
HOST = {
    "offers": {
        "host": {"mapping_timeout_s": TIMERS, "limits": {"packets_per_s": 4000}},
        "gate": {"mapping_timeout_s": TIMERS},
    }
}


class Watches(InFolder):
    def found(self, changes: Any = None) -> dict[tuple[str, str], Watch]:
        described = self.estate(merged(TWO, changes or {}), HOST)
        return {(one.exit, one.what + "".join(v for _, v in one.labels)): one for one in watches(evaluate(described))}

    def test_figures_of_the_plan(self) -> None:
        found = self.found()
        # Ten hosts at 5 %; thirty at 20 %, and as many connections of theirs that are all answered.
        self.assertAlmostEqual(found["gate", "unanswered share"].planned, 0.05)
        self.assertAlmostEqual(found["other", "unanswered share"].planned, 0.1)
        self.assertIn(("line", "sessionfirst"), found)
        self.assertNotIn(("line", "sessionsecond"), found)
        self.assertEqual(found["", "names that moved"].warn_at, 0)
        # A year of 365 days after 2026-09-01, in seconds since 1970.
        self.assertEqual(found["", "age of the catalogue"].warn_at, 1_788_220_800 + 365 * 86_400)
        # 6 of 60 a second end unanswered, and hold an entry for 240 s.
        self.assertAlmostEqual(found["other", "table entriesunanswered"].planned, 60 * 0.1 * 240)
        packets = found["other", "packets"]
        self.assertLess(packets.planned, packets.warn_at)
        # What the gateway carries by one part of the hosts: ports held, an equal load a host, by zones.
        self.assertFalse([what for name, what in found if "zone" in what], "of different kinds")

    def test_the_share_from_which_ports_run_out(self) -> None:
        """At the threshold the engine finds the gateway full, and a little below it does not."""
        changes = {"workloads": {"work": {"hosts": 14}}, "flows": {"talk": {"unanswered_share": 0.0}}}
        one = self.found(changes)["gate", "unanswered share"]
        self.assertIn("ports run out", one.why)
        self.assertLess(one.warn_at, 0.02)
        for share, fits in ((one.warn_at * 0.8, True), (one.warn_at * 1.25, False)):
            described = self.estate(
                merged(TWO, merged(changes, {"flows": {"talk": {"unanswered_share": share}}})), HOST
            )
            gate = next(each for each in evaluate(described).capacity.exits if each.exit == "gate")
            self.assertEqual(gate.blocking <= gate.target, fits, share)

    def test_each_zone_s_share_and_the_rules(self) -> None:
        twins = {"exits": {"other": {"kind": "translation-gateway", "offer": "gate"}}}
        found = self.found(twins)
        self.assertAlmostEqual(found["gate", "zone's share"].planned + found["other", "zone's share"].planned, 1)
        self.assertEqual(self.program("handover", "--save", "out").returncode, 1)
        whole = yaml.safe_load((self.folder / "out" / "alerts.yaml").read_text())
        rules = {one["alert"]: one["expr"] for group in whole["groups"] for one in group["rules"]}
        self.assertRegex(
            rules["egress_gate_zone_s_share"],
            r'^sum\(connections\{exit="gate"\}\) / sum\(connections\{exit=~"gate\|other"\}\) > 0\.\d+$',
        )
        self.assertEqual(rules["egress_line_session_first"], 'session_up{exit="line",router="first"} < 0.5')
        self.assertTrue(rules["egress_age_of_the_catalogue"].startswith("time() > 18"))
        table = (self.folder / "out" / "health.csv").read_text().splitlines()
        self.assertEqual(len(table) - 1, len(whole["groups"][1]["rules"]))
