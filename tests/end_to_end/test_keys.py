"""The keys of JSON output, by command and table: others build on them, so that they change only on purpose.

A key that goes away or changes its meaning raises the version in views/formats/json_text.py; this list is
then changed by hand. A new key is added here.
"""

import json
from typing import Any

from tests.support import CATALOGUE, ESTATE, InFolder, merged

ALWAYS = ["schema", "version", "estate", "answer", "left_out"]
HELD = [
    "busiest_held_connections",
    "busiest_at",
    "busiest_at_s",
    "lag_s",
    "mean_held_connections",
    "busiest_new_per_s",
    "held_by_quarter_hour_connections",
]
STEP = ["about", "figure", "value", "working", "source"]
HOP = ["step", "subnet", "route", "origin", "exit", "zones", "rule", "source"]

TABLES: dict[tuple[str, ...], dict[str, list[str]]] = {
    ("check",): {
        "findings": [
            "severity",
            "rule",
            "place",
            "path",
            "file",
            "line",
            "column",
            "level",
            "cause",
            "remedy",
            "accepted",
        ],
    },
    ("check", "--rules"): {"rules": ["severity", "rule", "about", "example"]},
    ("path",): {
        "ways": ["flow", "subnets", "destination", "exits", "seen_as", "verdict", "breaks", "share"],
        "needs_not_met": ["flow", "need", "why"],
    },
    ("path", "app", "partner"): {"hops": HOP, "hops_back": ["step", "subnet", "route", "exit", "to"]},
    ("path", "app"): {"routes": ["prefix", "exit", "origin", "written_as", "state", "shadows"]},
    ("demand",): {
        "exits": ["exit", *HELD],
        "destinations": ["exit", "destination", *HELD],
        "flows": ["exit", "flow", "duration_s", "mapping_timeout_s", "hold_s", *HELD],
        "everywhere": ["destination", *HELD],
    },
    ("capacity",): {
        "exits": [
            "exit",
            "addresses",
            "addresses_needed",
            "binding_pool",
            "busiest_at",
            "busiest_at_s",
            "busiest_held_connections",
            "ports",
            "port_headroom",
            "blocking",
            "blocked_per_day",
            "fits",
        ],
        "limits": ["exit", "limit", "use", "capacity", "unit", "headroom", "growth_share", "detail"],
        "refusals": ["exit", "assignment", "suffers", "refusal", "detail"],
    },
    ("addresses", "--add", "gate=2", "--explain"): {
        "changes": [
            "exit",
            "more_addresses",
            "destination",
            "entries_now",
            "entries_added",
            "as",
            "entries_then",
            "most_entries",
            "fits",
        ],
        "steps": STEP,
    },
    ("demand", "--explain"): {"steps": STEP},
    ("capacity", "--explain", "--set", "exits.gate.offer=small"): {
        "gateways": ["exit", "gateway", "network", "zone", "addresses", "subnets"],
        "steps": STEP,
    },
    ("addresses",): {
        "exits": ["exit", "addresses", "blocks", "entries", "bought_addresses", "waste_addresses", "seen_by"],
        "partners": ["destination", "allow", "entries", "most_entries", "fits", "missing", "idle"],
    },
    ("charges",): {
        "lines": ["item", "about", "quantity", "unit", "rate", "amount", "fixed", "reason"],
        "exits": ["exit", "rounded_amount", "amount"],
        "flows": ["flow", "rounded_amount", "amount"],
        "destinations": ["destination", "rounded_amount", "amount"],
        "workloads": ["workload", "rounded_amount", "amount"],
        "cost_centres": ["cost_centre", "rounded_amount", "amount"],
    },
    ("compare",): {
        "designs": [
            "design",
            "meets_all",
            "month_amount",
            "difference_to_first_amount",
            "fixed_amount",
            "by_volume_amount",
            "addresses",
            "most_entries",
            "binding",
            "binding_headroom",
            "zone_loss",
            "hosts_with_public",
            "upkeep_hours",
            "routes_to_change",
        ],
        "needs_not_met": ["design", "need", "flows", "why"],
    },
    ("compare", "--base", "estate.yaml", "--set", "exits.gate.addresses=2"): {
        "changes": [
            "flow",
            "way_before",
            "way_now",
            "source_before",
            "source_now",
            "before_amount",
            "now_amount",
            "difference_amount",
        ],
    },
    ("choose", "--set", "destinations.partner.needs.off_internet=false"): {
        "flows": ["flows", "network", "lane", "exits", "seen_as"],
        "next_best": ["rank", "month_amount", "more_amount", "addresses", "open"],
        "lost": ["flows", "network", "lane", "more_amount", "why"],
    },
    ("choose", "--frontier", "--set", "destinations.partner.needs.off_internet=false"): {
        "frontier": ["addresses", "month_amount", "more_amount"],
    },
    ("stress",): {
        "cases": ["case", "cut_off", "hosts_lost", "overloaded", "blocking", "month_change_amount", "helps"],
        "reasons": ["case", "what", "why"],
    },
    ("stress", "--months", "12", "--growth", "0.1"): {
        "crossings": ["about", "limit", "month", "act_by_month", "detail"],
        "months": ["month", "month_amount", "addresses", "fullest", "fullest_share"],
    },
    ("stress", "--inputs"): {"effects": ["about", "month_change_amount", "headroom_change_share"]},
    ("charges", "--break-even", "talk"): {
        "offers": ["offer", "kind", "places", "fixed_amount", "month_amount"],
        "break_even": ["one", "other", "how", "volume", "until_volume", "hosts"],
    },
    ("source", "app", "partner"): {"cases": ["case", "exits", "seen_as", "verdict", "share", "changed"]},
    ("confirm", "seen.csv"): {
        "observed": ["subnet", "destination", "planned", "seen_as", "times", "verdict"],
        "differences": ["subnet", "destination", "verdict", "cause", "check_next"],
    },
}
FACTS: dict[tuple[str, ...], list[str]] = {
    ("check",): ["errors", "warnings", "notes", "accepted"],
    ("path", "app", "partner"): ["verdicts", "seen_as"],
    ("demand",): ["hours"],
    ("capacity",): ["fits", "target_blocking"],
    ("charges",): ["currency", "month_amount", "fixed_amount", "by_volume_amount", "idle_amount", "year_amount"],
    ("compare",): ["currency"],
    ("compare", "--base", "estate.yaml", "--set", "exits.gate.addresses=2"): [
        "currency",
        "difference_amount",
        "unchanged",
    ],
    ("choose", "--set", "destinations.partner.needs.off_internet=false"): [
        "currency",
        "month_amount",
        "bound_amount",
        "gap",
        "seconds",
        "meets_all",
    ],
    ("choose", "--frontier", "--set", "destinations.partner.needs.off_internet=false"): ["currency"],
    ("stress",): ["currency"],
    ("stress", "--months", "12", "--growth", "0.1"): ["currency", "lead_months"],
    ("stress", "--inputs"): ["currency"],
    ("charges", "--break-even", "talk"): ["currency", "volume_unit", "volume", "zones"],
    ("confirm", "seen.csv"): ["as_planned", "otherwise"],
}


class Keys(InFolder):
    # One estate in which every table has a row.
    PATCH: dict[str, Any] = {
        "destinations": {"partner": {"needs": {"off_internet": True, "max_source_addresses": 4}}},
        "flows": {"talk": {"out_kib_per_connection": 4}},
        "subnets": {"more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"}},
        "workloads": {"work": {"subnets": ["app", "more"]}},
        "exits": {"spare": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}},
    }

    def test_every_table_of_every_command(self) -> None:
        # Two subnets of a host each, and a gateway that one alone fills.
        small = {"kind": "translation-gateway", "ports": {"assignment": "shared-once", "per_address": 450}}
        small |= {"limits": {"addresses": 1}, "mapping_timeout_s": {"closed": 60}}
        self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"small": small}}))
        self.write("estate.yaml", merged(ESTATE, self.PATCH))
        self.write("seen.csv", "from,destination,seen_as\napp,partner,203.0.113.1\napp,partner,203.0.113.9\n")
        for arguments, tables in TABLES.items():
            with self.subTest(arguments=arguments):
                done = self.program(*arguments, "--format", "json")
                self.assertLess(done.returncode, 2, done.stderr)
                found = self.parsed(done.stdout)
                # A further option adds tables to those of the bare command.
                bare = TABLES.get(arguments[:1], {}) if "--explain" in arguments else {}
                self.assertEqual(
                    sorted(found),
                    sorted([*ALWAYS, *FACTS.get(arguments[: len(arguments) if not bare else 1], ()), *bare, *tables]),
                )
                for table, keys in tables.items():
                    self.assertTrue(found[table], f"{table} is empty")
                    for row in found[table]:
                        self.assertEqual([*row], keys)

    @staticmethod
    def parsed(text: str) -> dict[str, Any]:
        data: dict[str, Any] = json.loads(text)
        return data
