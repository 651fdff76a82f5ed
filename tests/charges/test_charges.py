"""Bills, recomputed by hand; sums that must not lose anything."""

import unittest
from decimal import Decimal
from fractions import Fraction
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from fenrask.charges import pieces
from fenrask.designs import judge
from fenrask.estate import Tiers
from tests.support import InFolder

STEPS = Tiers.model_validate({"tiers": [{"up_to_gb": 10, "rate": 0}, {"up_to_gb": 50, "rate": 0.1}, {"rate": 0.04}]})


class Graduated(unittest.TestCase):
    def test_boundaries_belong_to_the_lower_step(self) -> None:
        for volume, amount in ((0, "0"), (10, "0"), (11, "0.1"), (50, "4"), (51, "4.04"), (1000, "42")):
            with self.subTest(volume=volume):
                total = sum(piece.amount for piece in pieces(STEPS, Fraction(volume)))
                self.assertEqual(total, Fraction(amount))

    @given(st.fractions(0, 500))
    def test_pieces_sum_to_the_volume_and_the_amount_to_the_integral(self, volume: Fraction) -> None:
        cut = list(pieces(STEPS, volume))
        self.assertEqual(sum(piece.quantity for piece in cut), volume)
        by_integral = max(Fraction(0), min(volume, Fraction(50)) - 10) / 10 + max(Fraction(0), volume - 50) / 25
        self.assertEqual(sum(piece.amount for piece in cut), by_integral)


class Bills(InFolder):
    VOLUME: dict[str, Any] = {"flows": {"talk": {"out_kib_per_connection": 100, "in_kib_per_connection": 900}}}
    # 10 connections a second for 730 hours, 1,000 KiB each.
    GB = Fraction(10 * 3600 * 730 * 1000 * 1024, 10**9)

    def lines(self, patch: dict[str, Any], catalogue: Any = None) -> dict[tuple[str, str], Fraction]:
        bill = judge(self.estate(patch, catalogue)).bill
        found: dict[tuple[str, str], Fraction] = {}
        for line in bill.lines:
            self.assertEqual(sum(line.uses.values()), 1)
            key = (line.item, line.about)
            found[key] = found.get(key, Fraction(0)) + line.amount
        for divided in (bill.by_exit, bill.by_flow, bill.by_cost_centre):
            self.assertEqual(sum(divided.values()), bill.total)
        self.assertEqual(bill.fixed + bill.by_volume, bill.total)
        return found

    def test_each_line_by_hand(self) -> None:
        self.assertEqual(
            self.lines(self.VOLUME),
            {
                ("hours", "gate"): Fraction(73),
                ("addresses", "gate"): Fraction("3.65"),
                ("processed", "gate"): self.GB / 50,
                ("internet out", ""): self.GB / 10 / 20,
            },
        )

    def test_zone_crossings_are_charged_both_ways(self) -> None:
        lines = self.lines({**self.VOLUME, "subnets": {"app": {"zone": "b"}}})
        self.assertEqual(lines["zone crossing", "b to a"], self.GB / 100)

    def test_gib_and_other_months(self) -> None:
        lines = self.lines(self.VOLUME, {"volume_unit": "GiB", "hours_per_month": 744})
        self.assertEqual(lines["hours", "gate"], Fraction("74.4"))
        self.assertEqual(lines["processed", "gate"], self.GB / 730 * 744 * 10**9 / 2**30 / 50)

    def test_tiers_over_the_estate_and_over_each_exit(self) -> None:
        two = {
            "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"}},
            "route_tables": {"private-b": {"0.0.0.0/0": "gate-b"}},
            "exits": {"gate-b": {"kind": "translation-gateway", "offer": "gate", "network": "net", "addresses": 1}},
            "workloads": {"work": {"subnets": ["app", "app-b"]}},
            **self.VOLUME,
        }
        steps = [{"up_to_gb": 1000, "rate": 0}, {"rate": 0.5}]
        for scope, above in (("estate", self.GB - 1000), ("exit", self.GB - 2000)):
            with self.subTest(scope=scope):
                rate = {"sum_over": scope, "tiers": steps}
                lines = self.lines(two, {"offers": {"gate": {"rates": {"processed_per_gb": rate}}}})
                total = sum(amount for (item, _), amount in lines.items() if item == "processed")
                self.assertEqual(total, above / 2)

    def test_what_nobody_uses_is_charged_to_nobody(self) -> None:
        spare = {"spare": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "edge", "addresses": 2}}
        bill = judge(self.estate({"exits": spare})).bill
        self.assertEqual(bill.by_flow[""], Fraction(730) + 2 * Fraction("3.65"))

    def test_services_through_a_door_have_their_own_rate(self) -> None:
        to_store = {"flows": {"talk": {"to": "store", "out_kib_per_connection": 1000}}}
        default = self.lines(to_store)
        self.assertEqual(default["internet out", ""], self.GB / 20)
        lines = self.lines(to_store, {"transfer": {"service_out_per_gb": 0.001}})
        self.assertEqual(lines["service out", ""], self.GB / 1000)
        self.assertNotIn(("internet out", ""), lines)

    def test_hosts_with_addresses_of_their_own_pay_for_them(self) -> None:
        patch = {"workloads": {"work": {"public_address": True}}, "subnets": {"app": {"routes": "public"}}}
        self.assertEqual(self.lines(patch)["addresses", "work"], Fraction("36.5"))

    def test_rates_are_read_as_they_are_written(self) -> None:
        described = self.estate({}, {"addresses": {"hour": 0.1}})
        self.assertEqual(described.catalogue.addresses.hour, Decimal("0.1"))
