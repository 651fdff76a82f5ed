"""Machines in pairs as options: where one alone breaks a need; and one regional gateway for all of a network."""

from typing import Any

from fenrask.designs import compare
from fenrask.errors import NoAnswer
from fenrask.evaluation.availability import availability_of
from fenrask.optimise import Choice, Wanted, choose
from tests.support import InFolder, merged

QUICK = Wanted(explain=False)
TWO_ZONES: dict[str, Any] = {
    "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"}},
    "exits": {"gate": None},
    "route_tables": {"private": {"0.0.0.0/0": None}, "private-b": {}},
    "workloads": {"work": {"subnets": ["app", "app-b"]}},
}
GATE = {"ports": {"assignment": "shared-per-destination", "per_address": 1000}}
OFFERS: dict[str, Any] = {
    "host": {"availability": 0.9995, "rates": {"hour": 0.05}},
    "gate": {"availability": 0.9999, "rates": {"hour": 0.3, "processed_per_gb": 0}},
    "wide": {**GATE, "kind": "translation-gateway", "scope": "region", "availability": 0.99995, "rates": {"hour": 0.9}},
    "wall": None,
}
HOUR = 730 * 0.05


class Pairs(InFolder):
    def chosen(self, needs: dict[str, Any], offers: dict[str, Any] = OFFERS) -> Choice:
        patch = merged(TWO_ZONES, {"destinations": {"partner": {"needs": needs}}})
        described = self.estate(patch, {"offers": offers})
        best = compare(described).cheapest
        choice = choose(described, QUICK)
        self.assertTrue(choice.evaluation.meets_all)
        self.assertTrue(choice.is_proven)
        if best is not None:
            self.assertLess(choice.month, float(best.evaluation.bill.total))
        return choice

    def test_each_need_by_hand(self) -> None:
        """One machine is 0.05 an hour and an address 0.005; two are down 0.0005^2 of the time."""
        address = 730 * 0.005
        for needs, month, availability in (
            ({}, HOUR, 0.9995),
            ({"availability": 0.9995}, HOUR, 0.9995),
            ({"availability": 0.99992}, 2 * HOUR, 1 - 0.0005**2),
            ({"availability": 0.9999997}, 2 * HOUR, 1 - 0.0005**2),
            ({"availability": 0.99992, "survives": "zone-loss"}, 2 * HOUR, 1 - 0.0005**2),
            ({"survives": ["zone-loss", "node-loss"]}, 2 * HOUR, None),
        ):
            with self.subTest(needs=needs):
                choice = self.chosen(needs)
                self.assertAlmostEqual(choice.month, month + address * len(choice.evaluation.capacity.exits), places=6)
                if availability is not None:
                    for one in choice.evaluation.capacity.exits:
                        found = availability_of(choice.evaluation.described, one.exit)
                        self.assertAlmostEqual(found, availability, places=12)

    def test_a_pair_over_two_zones_where_a_zone_may_be_lost(self) -> None:
        choice = self.chosen({"availability": 0.99992, "survives": "zone-loss"})
        [exit_] = [one for one in choice.evaluation.described.estate.exits.values() if one.translates]
        self.assertEqual({choice.evaluation.described.estate.subnets[one].zone for one in exit_.in_subnets}, {"a", "b"})

    def test_more_than_is_for_sale(self) -> None:
        with self.assertRaises(NoAnswer) as told:
            self.chosen({"availability": 0.9999999})
        self.assertIn("no offer meets availability", told.exception.cause)

    def test_a_machine_that_stands_becomes_a_pair(self) -> None:
        """What is there stays, with a second machine, rather than two new ones; `--keep` leaves it alone."""
        stands = {
            "exits": {
                "box": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1},
                "gate": None,
            },
            "route_tables": {"private": {"0.0.0.0/0": "box"}},
            "destinations": {"partner": {"needs": {"availability": 0.9999}}},
        }
        described = self.estate(stands, {"offers": {**OFFERS, "gate": None, "wide": None}})
        choice = choose(described, QUICK)
        self.assertEqual(choice.patch["exits"], {"box": {"addresses": "auto", "machines": 2}})
        with self.assertRaises(NoAnswer):
            choose(described, Wanted(explain=False, keep=("box",)))

    def test_one_regional_gateway_for_what_is_inspected_and_what_is_not(self) -> None:
        """From other subnets it is used directly; by hand: one gateway and one firewall, and all else by volume."""
        patch = {
            "destinations": {"partner": {"needs": {"inspected": True}}, "far": {"prefixes": ["192.0.2.128/25"]}},
            "workloads": {"work": {"subnets": ["app"]}, "two": {"subnets": ["app-b"], "hosts": 5}},
            "flows": {"more": {"from": "two", "to": "far", "per_host_per_s": 1, "out_kib_per_connection": 300}},
        }
        wall = {"kind": "inspecting-firewall", "ports": None, "rates": {"hour": 1, "processed_per_gb": 0.2}}
        offers = {"gate": {"scope": "region", "rates": {"processed_per_gb": 0}}, "host": None, "wall": wall}
        described = self.estate(merged(TWO_ZONES, patch), {"behaviour": None, "offers": offers})
        choice = choose(described, QUICK)
        self.assertTrue(choice.evaluation.meets_all and choice.is_proven)
        paths = {name: {one.example.exits for one in own} for name, own in choice.evaluation.paths.by_flow.items()}
        self.assertEqual(paths, {"talk": {("wall-net", "gate-net", "door")}, "more": {("gate-net", "door")}})
        out = 300 * 1024 * 5 * 86400 * 730 / 24 / 1e9
        month = 730 * (0.1 + 1 + 0.005) + 0.05 * out
        self.assertAlmostEqual(choice.month, month, places=6)
