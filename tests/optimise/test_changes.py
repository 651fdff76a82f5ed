"""What a choice asks of others: the fewest changes at the same cost, and what a few more are worth."""

import json
from itertools import product
from typing import Any

from fenrask.designs import effort
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.optimise import Choice, Wanted, choose
from tests.support import InFolder, merged

PARTNER = {"destinations": {"partner": {"needs": {"max_source_addresses": 4}, "allowed": ["203.0.113.1/32"]}}}
"""It lets in what it lists: the address of the gateway that is there."""
EACH = ("allow_list_entry", "exit", "route")
QUICK = Wanted(explain=False, tolerance=0.5)


def offers(hour: float, **more: Any) -> dict[str, Any]:
    """A catalogue with a second gateway at an hourly rate."""
    ports = {"assignment": "shared-per-destination", "per_address": 1000}
    other = {"kind": "translation-gateway", "ports": ports, "rates": {"hour": hour, "processed_per_gb": 0.02}}
    timeouts = {"closed": 60, "idle": 300, "udp_idle": 30}
    return {"offers": {"host": None, "other": {**other, "mapping_timeout_s": timeouts}, **more}}


class Changes(InFolder):
    def chosen(self, patch: dict[str, Any], catalogue: dict[str, Any], asked: Wanted = QUICK) -> Choice:
        return choose(self.estate(patch, catalogue), asked)

    def partner_free(self) -> dict[str, Any]:
        return {"destinations": {"partner": {"needs": {"fixed_source": True}}}}

    def test_a_little_dearer_keeps_every_list(self) -> None:
        """18.25 a month less would change the list of the partner: what that costs more is told."""
        cheaper = self.chosen(self.partner_free(), offers(0.075))
        self.assertIn("gate", cheaper.effort.removed)
        self.assertEqual(cheaper.effort.partners, ("partner",))
        assert cheaper.steady is not None and cheaper.current is not None
        self.assertEqual(cheaper.steady.patch, {})
        more = cheaper.steady.evaluation.bill.total - cheaper.evaluation.bill.total
        self.assertAlmostEqual(float(more), 18.25, places=6)

    def test_what_changes_cost_is_weighed_over_the_months(self) -> None:
        """A change that saves 18.25 a month is made where what it costs is paid by then."""
        # Two entries, two exits and a route at 20 make 100 at once: 20.00 a month in 5 months, 16.67 in 6; so do a list
        # at 50 and these at 10.
        costs = {"allow_list_entry": 20, "exit": 20, "route": 20}, {"allow_list": 50, **dict.fromkeys(EACH, 10)}
        for (months, stays), cost in product(((5, True), (6, False)), costs):
            with self.subTest(months=months, cost=cost):
                targets = {"targets": {"change_cost": cost, "horizon_months": months}}
                choice = self.chosen(merged(self.partner_free(), targets), offers(0.075))
                self.assertEqual(choice.patch == {}, stays, choice.effort)
                if not stays:
                    self.assertAlmostEqual(choice.change_month, 100 / 6, places=6)
                    self.assertTrue(choice.is_proven)

    def test_of_equal_costs_the_fewest_changes(self) -> None:
        """Two gateways of one price where one does: the one whose address is on the list stays, and its route."""
        for name in ("aaa", "zzz"):
            with self.subTest(name):
                spare = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": ["203.0.113.9"]}
                choice = self.chosen({**PARTNER, "exits": {name: spare}}, {"offers": {"host": None}})
                self.assertEqual(choice.patch, {"exits": {name: None}})
                self.assertEqual((choice.effort.entries, choice.effort.exits, choice.effort.routes), (0, 1, 0))

    def test_no_route_that_says_what_the_default_says(self) -> None:
        other = {
            "exits": {
                "gate": {"addresses": "auto"},
                "wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "edge"},
            },
            "destinations": {"far": {"prefixes": ["192.0.2.128/25"], "port": 443}},
            "flows": {"more": {"from": "work", "to": "far", "per_host_per_s": 1, "duration_s": 2}},
            "route_tables": {"private": {"far": "wall"}},
        }
        choice = self.chosen(other, {"offers": {"host": None}})
        self.assertEqual(choice.patch["route_tables"], {"private": {"far": None}})

    def test_the_command_takes_the_mix_with_the_fewest_changes(self) -> None:
        self.estate(self.partner_free(), offers(0.075))
        words = ("choose", "--tolerance", "0.5")
        told = self.program(*words).stdout
        self.assertIn("more with fewer changes (--fewest-changes): no partner changes its list; gate stays", told)
        taken = self.program(*words, "--fewest-changes", "--save", "few.json", "--format", "json")
        self.assertEqual(json.loads((self.folder / "few.json").read_text("utf-8")), {})
        self.assertEqual(json.loads(taken.stdout)["routes_to_change"], 0)
        self.assertIsNone(
            json.loads(self.program("choose", "--tolerance", "0", "--format", "json").stdout)[
                "fewest_changes_month_amount"
            ]
        )

    def test_effort_by_hand(self) -> None:
        described: Described = self.estate(PARTNER)
        patch: dict[str, Any] = {
            "exits": {
                "gate": None,
                "new": {
                    "kind": "translation-gateway",
                    "offer": "gate",
                    "subnet": "edge",
                    "addresses": ["203.0.113.8", "203.0.113.9"],
                },
            },
            "route_tables": {"private": {"0.0.0.0/0": "new"}},
        }
        now = evaluate(described.patched(patch, "new"))
        found = effort(evaluate(described), now, patch)
        # One address goes, two neighbours come in one prefix.
        self.assertEqual((found.entries, found.exits, found.routes), (2, 2, 1))
        self.assertEqual((found.partners, found.removed), (("partner",), ("gate",)))
