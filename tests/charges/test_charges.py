"""Bills, recomputed by hand; sums that must not lose anything."""

import unittest
from decimal import Decimal
from fractions import Fraction
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from fenrask.charges import pieces, to_the_cent
from fenrask.estate import Tiers
from fenrask.evaluation import evaluate
from fenrask.units import cents
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
        bill = evaluate(self.estate(patch, catalogue)).bill
        found: dict[tuple[str, str], Fraction] = {}
        for line in bill.lines:
            self.assertEqual(sum(line.uses.values()), 1)
            key = (line.item, line.about)
            found[key] = found.get(key, Fraction(0)) + line.amount
        for divided in (bill.by_exit, bill.by_flow, bill.by_cost_centre, bill.by_workload, bill.by_destination):
            self.assertEqual(sum(divided.values()), bill.total)
            self.assertEqual(sum(to_the_cent(divided).values()), cents(bill.total))
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
        bill = evaluate(self.estate({"exits": spare})).bill
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

    def test_upkeep_is_hours_of_work_on_every_machine(self) -> None:
        patch = {
            **self.VOLUME,
            "exits": {"gate": {"kind": "translator-host", "offer": "host", "machines": 2}},
            "wage_per_hour": 55,
        }
        lines = self.lines(patch, {"offers": {"host": {"upkeep_hours": 6.5, "rates": {"hour": 0.04}}}})
        self.assertEqual(lines["upkeep", "gate"], Fraction(2 * 13 * 55, 2))
        self.assertEqual(lines["hours", "gate"], 2 * 730 * Fraction("0.04"))

    def test_begun_hours_count_whole_and_never_more_than_the_month(self) -> None:
        for running, hours in ((0, 0), (0.5, 1), (200.25, 201), (729.5, 730), (800, 730)):
            lines = self.lines({**self.VOLUME, "exits": {"gate": {"running_hours": running}}})
            self.assertEqual(lines["hours", "gate"], hours * Fraction("0.1"))

    def test_a_minimum_is_filled_up_to(self) -> None:
        carried = self.GB / 50 + 73
        for least, missing in ((Fraction(100), None), (Fraction(1000), 1000 - carried)):
            offer = {"offers": {"gate": {"rates": {"month_minimum": float(least)}}}}
            self.assertEqual(self.lines(self.VOLUME, offer).get(("minimum", "gate")), missing)

    def test_other_regions_other_rates(self) -> None:
        offer = {"offers": {"gate": {"rates_by_region": {"south": {"hour": 0.2, "processed_per_gb": 0.01}}}}}
        for region, hour, carried in (("north", "0.1", 50), ("south", "0.2", 100)):
            lines = self.lines({**self.VOLUME, "networks": {"net": {"region": region}}}, offer)
            self.assertEqual(lines["hours", "gate"], 730 * Fraction(hour))
            self.assertEqual(lines["processed", "gate"], self.GB / carried)

    def test_committed_use_takes_off_a_share_or_a_sum_but_never_more_than_it_covers(self) -> None:
        hours, carried = Fraction(73), self.GB / 50
        for commitment, off in (
            ({"share": 0.25}, hours / 4),
            ({"share": 0.25, "items": ["hours", "processed"]}, (hours + carried) / 4),
            ({"share": 0.25, "offers": ["wall"]}, None),
            ({"month_off": 50}, Fraction(50)),
            ({"month_off": 500}, hours),
        ):
            with self.subTest(commitment=commitment):
                lines = self.lines(self.VOLUME, {"commitments": {"years": commitment}})
                found = lines.get(("commitment", "years"))
                self.assertEqual(found, None if off is None else -off)
                told = [
                    one["reason"] for one in self.json("charges", status=None)["lines"] if one["item"] == "commitment"
                ]
                if off is not None:
                    words = "25.00 % off" if "share" in commitment else "a sum off"
                    self.assertEqual([one.partition(" hours")[0] for one in told], [words])

    def test_networks_and_regions_that_are_crossed(self) -> None:
        for region, item, rate in (("", "network crossing", 50), ("south", "region crossing", 20)):
            patch = {
                **self.VOLUME,
                "networks": {
                    "net": {"region": "north"},
                    "far": {"region": region or "north", "prefixes": ["10.1.0.0/16"]},
                },
                "subnets": {"there": {"network": "far", "zone": "a", "prefix": "10.1.1.0/24"}},
                "route_tables": {"private": {"10.1.0.0/16": "joined"}},
                "exits": {"joined": {"kind": "peering", "networks": ["net", "far"]}},
                "destinations": {"inside": {"prefixes": ["10.1.1.0/25"], "port": 5432}},
                "flows": {"talk": {"to": "inside", **self.VOLUME["flows"]["talk"]}},
            }
            lines = self.lines(patch, {"transfer": {"cross_network_per_gb": 0.02, "cross_region_per_gb": 0.05}})
            self.assertEqual(lines[item, "net to far"], self.GB / rate)


class ToTheCent(unittest.TestCase):
    @given(st.dictionaries(st.text(max_size=3), st.fractions(0, 1000), max_size=9))
    def test_nothing_is_lost_and_nobody_is_off_by_a_cent(self, amounts: dict[str, Fraction]) -> None:
        found = to_the_cent(amounts)
        self.assertEqual(sum(found.values(), Decimal(0)), cents(sum(amounts.values(), Fraction(0))))
        for key, amount in amounts.items():
            self.assertLess(abs(Fraction(found[key]) - amount), Fraction(1, 100))
