"""The keys of JSON output, by command and table: others build on them, so that they change only on purpose.

A key that goes away or changes its meaning raises the version in views/formats/json_text.py; this list is
then changed by hand. A new key is added here.
"""

import json
from typing import Any

from tests.support import CATALOGUE, ESTATE, InFolder, merged

ALWAYS = ["schema", "version", "estate", "summary", "not_counted"]
TABLES: dict[tuple[str, ...], dict[str, str]] = {
    ("check",): {
        "findings": "severity rule place path file line column level cause remedy changes patch accepted fix",
    },
    ("check", "--rules"): {
        "rules": "severity rule about example",
    },
    ("path",): {
        "paths": "flow subnets destination exits seen_as verdict breaks part down_min_per_month share",
        "needs_not_met": "flow need why",
    },
    ("path", "app", "partner"): {
        "hops": "step subnet route origin exit zones rule source",
        "hops_back": "step subnet route exit to",
        "cases": "case exits seen_as verdict share changed",
    },
    ("path", "app"): {
        "routes": "prefix exit origin written_as state shadows",
    },
    ("demand",): {
        "exits": "exit peak_concurrent_connections peak_at peak_at_s lag_s mean_concurrent_connections "
        "peak_new_per_s worst_second_new_per_s concurrent_by_quarter_hour_connections",
        "destinations": "destination peak_concurrent_connections peak_at peak_at_s lag_s mean_concurrent_connections "
        "peak_new_per_s worst_second_new_per_s concurrent_by_quarter_hour_connections",
        "flows": "exit flow duration_s mapping_timeout_s holding_s peak_concurrent_connections peak_at peak_at_s lag_s "
        "mean_concurrent_connections peak_new_per_s worst_second_new_per_s concurrent_by_quarter_hour_connections",
    },
    ("capacity",): {
        "exits": "exit addresses addresses_needed addresses_needed_after_fault worst_fault binding_pool peak_at "
        "peak_at_s ports_wanted "
        "ports port_headroom blocking blocked_per_day fits",
        "limits": "exit limit use capacity unit headroom growth_share detail",
        "when_full": "exit assignment affected refusal first_tries_dropped lost_for_good mean_wait_s p95_wait_s "
        "syns_per_connection retries detail",
        "entries": "exit state entries timer_s",
    },
    ("addresses", "--add", "gate=2", "--explain"): {
        "changes": "exit more_addresses destination entries_added blocks entries_after max_entries fits",
        "steps": "about figure value working source",
    },
    **{
        (name, "--explain"): {"steps": "about figure value working source"} for name in ("demand", "charges", "compare")
    },
    ("stress", "--explain", "--load-up", "9"): {
        "steps": "about figure value working source",
    },
    ("capacity", "--explain", "--set", "exits.gate.offer=small"): {
        "gateways": "exit gateway network zone addresses subnets",
        "steps": "about figure value working source",
    },
    ("addresses",): {
        "partners": "destination allow entries max_entries fits missing idle",
        "exits": "exit addresses blocks entries bought_addresses waste_addresses seen_by",
    },
    ("charges",): {
        "exits": "exit rounded_amount amount",
        "flows": "flow rounded_amount amount",
        "cost_centres": "cost_centre rounded_amount amount",
        "lines": "item about quantity unit rate rounded_amount amount fixed reason",
        "destinations": "destination rounded_amount amount",
        "workloads": "workload rounded_amount amount",
    },
    ("handover",): {
        "steps": "step earliest_day what breaks look",
        "files": "file about",
        "translators": "exit addresses first_port last_port table_connections timers_s file",
    },
    ("compare",): {
        "designs": "design needs_met month_amount difference_to_current_amount fixed_amount "
        "by_volume_amount addresses longest_allow_list_entries "
        "binding binding_headroom zone_loss hosts_with_public down_min_per_month upkeep_hours routes_to_change",
        "needs_not_met": "design need flows why",
    },
    ("compare", "--base", "estate.yaml", "--set", "exits.gate.addresses=2"): {
        "changes": "flow path_before path_now source_before source_now before_amount now_amount difference_amount "
        "breaking_connections breaking_duration_s",
    },
    ("choose", "--set", "destinations.partner.needs.off_internet=false"): {
        "changes": "change what names detail",
        "flows": "flows network exits down_min runner_up more_amount why",
        "next_best": "rank month_amount more_amount difference",
        "options": "flows network option more_amount why",
    },
    ("choose", "--frontier", "--set", "destinations.partner.needs.off_internet=false"): {
        "frontier": "addresses month_amount more_amount",
    },
    ("stress",): {
        "cases": "case cut_off_count without_hosts_count overloaded_count blocking full_after_s hit cut_off hosts_lost "
        "overloaded helps",
        "reasons": "case what why",
    },
    ("stress", "--months", "12", "--growth", "0.1"): {
        "crossings": "about limit month order_by detail",
        "months": "month month_amount addresses fullest fullest_share",
    },
    ("stress", "--inputs"): {
        "effects": "about month_change_amount headroom_change_points",
    },
    ("charges", "--break-even", "talk"): {
        "designs": "design month_amount fixed_amount down_min upkeep_h fails",
        "break_even": "one other how volume until_volume hosts",
    },
    ("source", "app", "partner"): {
        "cases": "case exits seen_as verdict share changed",
    },
    ("confirm", "seen.csv"): {
        "observed": "subnet destination planned seen_as times verdict",
        "differences": "subnet destination verdict cause check_next",
    },
}
FACTS: dict[tuple[str, ...], str] = {
    ("check",): "errors warnings notes accepted",
    ("path", "app", "partner"): "verdicts seen_as parts shares breaks",
    ("demand",): "hours",
    ("capacity",): "fits target_blocking beyond_range",
    ("charges",): "currency month_amount fixed_amount by_volume_amount unallocated_amount year_amount",
    ("compare",): "currency",
    ("compare", "--base", "estate.yaml", "--set", "exits.gate.addresses=2"): "currency difference_amount unchanged",
    (
        "choose",
        "--set",
        "destinations.partner.needs.off_internet=false",
    ): "currency month_amount bound_amount gap proven options_count seconds meets_all design entries_to_change "
    "exits_to_change routes_to_change change_amount fewest_changes_month_amount",
    ("choose", "--frontier", "--set", "destinations.partner.needs.off_internet=false"): "currency",
    ("stress",): "currency",
    ("stress", "--months", "12", "--growth", "0.1"): "currency lead_months",
    ("stress", "--inputs"): "currency",
    ("charges", "--break-even", "talk"): "currency volume_unit volume",
    ("confirm", "seen.csv"): "as_planned different not_seen",
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
                today = [] if arguments[0] in ("check", "source", "confirm") or "app" in arguments else ["today"]
                self.assertEqual(
                    sorted(found),
                    sorted(
                        [*ALWAYS, *today, *FACTS.get(arguments[:1] if bare else arguments, "").split(), *bare, *tables]
                    ),
                )
                for table, keys in tables.items():
                    self.assertTrue(found[table], f"{table} is empty")
                    for row in found[table]:
                        self.assertEqual(" ".join(row), keys)

    @staticmethod
    def parsed(text: str) -> dict[str, Any]:
        data: dict[str, Any] = json.loads(text)
        return data
