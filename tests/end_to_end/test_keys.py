"""The JSON of commands is what `schema results` promises: others build on it, so that it changes on purpose only.

A key that goes away or changes its meaning raises the version in views/formats/json_text.py; a new one is added to
views/results.yaml. Whatever other tests ask for as JSON is held against that file too (`InFolder.json`).
"""

import json
import unittest
from typing import Any

from fenrask.cli.app import COMMANDS
from fenrask.views.formats.json_text import VERSION
from fenrask.views.results import declared_results, results_schema
from tests.schemas import faults, result_faults
from tests.support import CATALOGUE, ESTATE, InFolder, merged

CALLS = (
    ("check",),
    ("check", "--rules"),
    ("path",),
    ("path", "app", "partner"),
    ("path", "app"),
    ("demand", "--explain"),
    ("capacity", "--explain", "--set", "exits.gate.offer=small"),
    ("addresses", "--add", "gate=2", "--explain"),
    ("charges", "--explain"),
    ("charges", "--break-even", "talk"),
    ("handover",),
    ("compare", "--explain"),
    ("compare", "--base", "estate.yaml", "--set", "exits.gate.addresses=2"),
    ("choose", "--set", "destinations.partner.needs.off_internet=false"),
    ("choose", "--frontier", "--set", "destinations.partner.needs.off_internet=false"),
    ("choose", "--headrooms", "--set", "destinations.partner.needs.off_internet=false"),
    ("stress",),
    ("stress", "--explain", "--load-up", "9"),
    ("stress", "--months", "12", "--growth", "0.1"),
    ("stress", "--inputs"),
    ("source", "partner"),
    ("confirm", "seen.csv"),
    ("report", "plan.md", "--leave-out", "choice", "--leave-out", "designs", "--leave-out", "stress"),
)
SEEN = {
    "addresses": "partners exits changes steps",
    "break_even": "designs break_even",
    "capacity": "exits limits when_full entries gateways steps",
    "changes": "changes",
    "charges": "exits flows cost_centres lines destinations workloads steps",
    "check": "findings",
    "choose": "changes flows next_best options",
    "compare": "designs needs_not_met steps",
    "confirm": "observed differences",
    "demand": "exits destinations flows steps",
    "frontier": "frontier",
    "growth": "crossings months",
    "handover": "steps files translators",
    "headrooms": "headrooms",
    "path": "paths needs_not_met hops hops_back cases",
    "routes": "routes",
    "rules": "rules",
    "sensitivity": "effects",
    "source": "subnets",
    "stress": "cases reasons steps",
}
"""What these calls have rows of, so that what is declared is there."""


class Keys(InFolder):
    # One estate in which every table has a row.
    PATCH: dict[str, Any] = {
        "destinations": {"partner": {"needs": {"off_internet": True, "max_source_addresses": 4}}},
        "flows": {"talk": {"out_kib_per_connection": 4}},
        "subnets": {"more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"}},
        "workloads": {"work": {"subnets": ["app", "more"]}},
        "exits": {"spare": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}},
    }

    def test_every_command_prints_what_is_promised(self) -> None:
        # Two subnets of a host each, and a gateway that one alone fills.
        small = {"kind": "translation-gateway", "ports": {"assignment": "shared-once", "per_address": 450}}
        small |= {"limits": {"addresses": 1}, "mapping_timeout_s": {"closed": 60}}
        self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"small": small}}))
        self.write("estate.yaml", merged(ESTATE, self.PATCH))
        self.write("seen.csv", "from,destination,seen_as\napp,partner,203.0.113.1\napp,partner,203.0.113.9\n")
        rows: dict[str, set[str]] = {}
        for arguments in CALLS:
            with self.subTest(arguments=arguments):
                found = self.json(*arguments, status=None)
                name = found["schema"].removeprefix("fenrask.")
                filled = {
                    key for key, one in found.items() if isinstance(one, list) and one and isinstance(one[0], dict)
                }
                rows.setdefault(name, set()).update(filled)
        self.assertEqual(
            {name: rows.get(name, set()) & {*keys.split()} for name, keys in SEEN.items()},
            {name: {*keys.split()} for name, keys in SEEN.items()},
        )

    def test_each_result_is_of_a_command_and_says_what_its_keys_mean(self) -> None:
        for name, one in declared_results().items():
            with self.subTest(name):
                self.assertTrue({call.split()[0] for call in one["from"].split(", ")} <= {*COMMANDS})
                for keys in (one.get("facts", {}), *one.get("tables", {}).values()):
                    for told in keys.values():
                        self.assertRegex(told, r"^~?[a-z]+\??: \w")

    def test_what_is_not_as_promised_is_seen(self) -> None:
        found = self.json_of("rules", rules=[{"severity": "error", "rule": "x", "about": "y", "example": "z"}])
        self.assertEqual(result_faults(found), [])
        self.assertEqual(faults(found, results_schema(), results_schema()), [])
        found["rules"].append({"severity": 1, "rule": None, "about": "y", "colour": "red"})
        self.assertEqual(len(result_faults(found)), 4, result_faults(found))
        self.assertEqual(result_faults({"schema": "fenrask.none"}), ["none is not declared"])

    @staticmethod
    def json_of(name: str, **tables: Any) -> dict[str, Any]:
        head = {"schema": f"fenrask.{name}", "version": VERSION, "estate": "", "summary": [], "not_counted": []}
        whole: dict[str, Any] = json.loads(json.dumps({**head, **tables}))
        return whole


if __name__ == "__main__":
    unittest.main()
