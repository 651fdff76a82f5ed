"""The small estates of topologies.yaml: verdict, exits, and what the far side sees, of each."""

from pathlib import Path
from typing import Any

import yaml

from fenrask.estate import read_estate
from fenrask.routing import trace_from
from tests.support import CATALOGUE, InFolder, merged

CASES: dict[str, Any] = yaml.safe_load((Path(__file__).parent / "topologies.yaml").read_text(encoding="utf-8"))
MORE = {
    "offers": {
        "tcp-gate": {**CATALOGUE["offers"]["gate"], "protocols": ["tcp"]},
        "proxy": {**CATALOGUE["offers"]["host"], "kind": "forward-proxy"},
    }
}


class Topologies(InFolder):
    def test_each(self) -> None:
        self.write("catalogue.yaml", merged(CATALOGUE, MORE))
        self.assertGreater(len(CASES["cases"]), 40)
        for name, case in CASES["cases"].items():
            with self.subTest(name):
                described = read_estate(self.write("estate.yaml", merged(CASES["base"], case.get("patch", {}))))
                traces = trace_from(described, case.get("from", "app"), case["to"], case.get("public", False))
                [(trace, _)] = traces
                self.assertEqual([trace.verdict.value, [*trace.exits], str(trace.source)], case["expect"], trace.why)
                self.assertIn(case.get("why", ""), trace.why)

    def test_equal_routes_share(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        patch = {
            "route_tables": {"app": {"0.0.0.0/0": [{"exit": "one"}, {"exit": "two"}]}},
            "exits": {
                name: {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 1}
                for name in ("one", "two")
            },
        }
        described = read_estate(self.write("estate.yaml", merged(CASES["base"], patch)))
        found = {(trace.exits[0], str(share)) for trace, share in trace_from(described, "app", "partner")}
        self.assertEqual(found, {("one", "1/2"), ("two", "1/2")})

    def test_a_table_further_on_parts_a_destination_too(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        patch = {
            "route_tables": {"app": {"0.0.0.0/0": "hub"}, "central": {"198.51.100.0/26": "gone", "0.0.0.0/0": "line"}},
            "exits": {
                "hub": {"kind": "hub", "networks": ["spoke"], "routes": "central"},
                "line": {"kind": "circuit", "hub": "hub", "received": ["0.0.0.0/0"], "advertised": ["10.1.0.0/16"]},
            },
        }
        described = read_estate(self.write("estate.yaml", merged(CASES["base"], patch)))
        found = {
            (trace.verdict.value, trace.exits, str(share)) for trace, share in trace_from(described, "app", "partner")
        }
        self.assertEqual(found, {("black hole", ("hub", "gone"), "1/4"), ("arrives", ("hub", "line"), "3/4")})
