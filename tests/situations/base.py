"""The scenario of the situations: a made-up water company, each situation a small estate of its own."""

import json
from typing import Any

from tests.support import InFolder, merged

CATALOGUE: dict[str, Any] = {
    "catalogue": "Ombrel",
    "currency": "EUR",
    "read_on": "2026-08-01",
    "offers": {
        "nat": {
            "kind": "translation-gateway",
            "scope": "zone",
            "availability": 0.9992,
            "ports": {"assignment": "shared-per-destination", "per_address": 50000},
            "mapping_timeout_s": {"closed": 66, "reset": 9, "idle": {"min": 180, "max": 5400, "default": 330}},
            "limits": {"addresses": 6},
            "rates": {"hour": 0.071, "processed_per_gb": 0.027},
        },
        "nat-wide": {
            "kind": "translation-gateway",
            "scope": "region",
            "availability": 0.99985,
            "ports": {"assignment": "shared-per-destination", "per_address": 50000},
            "mapping_timeout_s": {"closed": 66, "reset": 9, "idle": 330},
            "rates": {"hour": 0.118, "processed_per_gb": 0.027},
        },
        "wall": {
            "kind": "inspecting-firewall",
            "ports": {"assignment": "shared-per-destination", "per_address": 48000},
            "rates": {"hour": 0.93, "processed_per_gb": 0.015},
        },
        "box": {
            "kind": "translator-host",
            "availability": 0.996,
            "ports": {"assignment": "host-block", "per_address": 30000, "block": 1000},
            "limits": {"addresses": 2},
            "mapping_timeout_s": {"closed": 81, "idle": 700},
            "rates": {"hour": 0.037},
            "upkeep_hours": 6,
        },
        "way": {"kind": "routed-endpoint", "scope": "region"},
        "inside": {"kind": "in-subnet-endpoint", "rates": {"hour": 0.0135, "processed_per_gb": 0.009}},
        "joint": {"kind": "hub", "rates": {"hour": 0.052, "processed_per_gb": 0.018}},
        "line": {"kind": "circuit", "rates": {"hour": 0.31}},
    },
    "addresses": {"hour": 0.0063, "blocks": [29, 30]},
    "transfer": {"internet_out_per_gb": 0.071, "cross_zone_per_gb": 0.0054},
}

ESTATE: dict[str, Any] = {
    "estate": "Tarn Valley Water",
    "catalogue": "catalogue.yaml",
    "wage_per_hour": 55,
    "networks": {"plant": {"region": "mid", "prefixes": ["10.60.0.0/16"]}},
    "subnets": {
        "pumps-a": {"network": "plant", "zone": "a", "prefix": "10.60.1.0/24", "routes": "plant-a"},
        "pumps-b": {"network": "plant", "zone": "b", "prefix": "10.60.2.0/24", "routes": "plant-b"},
        "edge-a": {"network": "plant", "zone": "a", "prefix": "10.60.240.0/28", "routes": "edge"},
        "edge-b": {"network": "plant", "zone": "b", "prefix": "10.60.240.16/28", "routes": "edge"},
    },
    "route_tables": {
        "plant-a": {"0.0.0.0/0": "nat-a"},
        "plant-b": {"0.0.0.0/0": "nat-b"},
        "edge": {"0.0.0.0/0": "front"},
    },
    "exits": {
        "front": {"kind": "direct-internet", "network": "plant"},
        "nat-a": {"kind": "translation-gateway", "offer": "nat", "subnet": "edge-a", "addresses": ["203.0.113.20"]},
        "nat-b": {"kind": "translation-gateway", "offer": "nat", "subnet": "edge-b", "addresses": ["203.0.113.21"]},
    },
    "destinations": {"weather": {"prefixes": ["198.51.100.64/28"], "port": 443, "names": ["api.weather.example"]}},
    "workloads": {"pumps": {"subnets": ["pumps-a", "pumps-b"], "hosts": 20}},
    "flows": {
        "forecast": {
            "from": "pumps",
            "to": "weather",
            "per_host_per_s": 2,
            "duration_s": 1,
            "in_kib_per_connection": 40,
        }
    },
}


class Situation(InFolder):
    """Questions as calls of the program, on one small estate; remedies are applied as they are given."""

    def put(self, *changes: Any) -> None:
        """The estate with changes laid over it, one after the other."""
        estate = ESTATE
        for one in changes:
            estate = merged(estate, one)
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", estate)

    def rules(self, *more: str, level: str = "warning") -> set[str]:
        """The rules that find something, errors and (by default) warnings."""
        levels = ("error", "warning")[: 2 if level == "warning" else 1]
        done = self.program("check", *more, "--format", "json")
        return {one["rule"] for one in json.loads(done.stdout)["findings"] if one["level"] in levels}

    def remedy(self, rule: str, *more: str) -> str:
        """The first finding's remedy of a rule, written as a patch; the name of its file."""
        done = self.program("check", *more, "--format", "json")
        fix = next(one["fix"] for one in json.loads(done.stdout)["findings"] if one["rule"] == rule)
        self.assertTrue(fix, f"{rule} has no remedy that can be merged")
        self.write(f"{rule}.json", json.dumps(fix))
        return f"{rule}.json"

    def verdicts(self, *words: str) -> list[str]:
        """How the paths from a subnet to a destination end."""
        found: list[str] = json.loads(self.program("path", *words, "--format", "json").stdout)["verdicts"]
        return found

    def sees(self, *words: str) -> list[str]:
        """What the remote end sees."""
        found: list[str] = json.loads(self.program("path", *words, "--format", "json").stdout)["seen_as"]
        return found

    def observed(self, text: str, *more: str, status: int) -> list[str]:
        """The verdicts of what was observed, in the order of the rows given."""
        self.write("seen.csv", f"from,destination,seen_as\n{text}")
        found = self.json("confirm", "seen.csv", *more, status=status)
        order = [tuple(line.split(",")[:2]) for line in text.splitlines()]
        rows = {(one["subnet"], one["destination"]): one["verdict"] for one in found["observed"]}
        return [rows[pair] for pair in order]
