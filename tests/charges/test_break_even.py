"""Where cost curves change places: by hand, and against a look at every volume."""

import unittest
from fractions import Fraction
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.charges.curves import Curve, crossings
from fenrask.designs import break_even, compare
from fenrask.estate import Tiers, read_estate
from fenrask.optimise import alternatives
from tests.situations.base import Situation
from tests.support import InFolder


def curve(start: int, *pieces: tuple[int, int]) -> Curve:
    return Curve(Fraction(start), tuple((Fraction(begins), Fraction(slope)) for begins, slope in pieces))


PIECES = st.lists(st.tuples(st.integers(1, 12), st.integers(0, 6)), max_size=3, unique_by=lambda one: one[0])
CURVES = st.builds(
    lambda start, slope, rest: curve(start, (0, slope), *sorted(rest)), st.integers(0, 20), st.integers(0, 6), PIECES
)


class Curves(unittest.TestCase):
    def test_by_hand(self) -> None:
        cases: tuple[tuple[Curve, Curve, list[tuple[int | Fraction, str]]], ...] = (
            (curve(0, (0, 3)), curve(10, (0, 1)), [(5, "cross")]),
            (curve(10, (0, 0)), curve(0, (0, 4), (5, 0)), [(Fraction(5, 2), "cross")]),
            # Three crossings: fixed against steep, then flat, then steep again.
            (
                curve(6, (0, 1)),
                curve(0, (0, 4), (3, 0), (8, 5)),
                [(2, "cross"), (6, "cross"), (Fraction(17, 2), "cross")],
            ),
            # They touch where one bends just there.
            (curve(4, (0, 0), (2, 3)), curve(0, (0, 2), (2, 0)), [(2, "touch")]),
            # The same from 4 to 6.
            (curve(4, (0, 0), (6, 2)), curve(0, (0, 1), (4, 0), (6, 1)), [(4, "coincide")]),
            (curve(1, (0, 1)), curve(2, (0, 1)), []),
            (curve(1, (0, 2)), curve(1, (0, 2)), [(0, "coincide")]),
        )
        for one, other, expected in cases:
            with self.subTest(one=one, other=other):
                self.assertEqual([(found.volume, found.kind) for found in crossings(one, other)], expected)
        [whole] = crossings(curve(1, (0, 2)), curve(1, (0, 2), (5, 2)))
        self.assertIsNone(whole.until)

    @settings(max_examples=200, deadline=None)
    @given(CURVES)
    def test_a_curve_is_found_by_asking_for_its_cost(self, one: Curve) -> None:
        traced = Curve.traced(one.at, Fraction(40))
        for volume in (Fraction(n, 3) for n in range(200)):
            self.assertEqual(traced.at(volume), one.at(volume))

    @settings(max_examples=300, deadline=None)
    @given(CURVES, CURVES)
    def test_signs_change_at_crossings_and_nowhere_else(self, one: Curve, other: Curve) -> None:
        found = crossings(one, other)
        for each in found:
            self.assertEqual(one.at(each.volume), other.at(each.volume))
        marks = sorted({Fraction(0), *(each.volume for each in found), *(each.until for each in found if each.until)})
        marks.append(marks[-1] + 40)
        for low, high in zip(marks, marks[1:], strict=False):
            signs = set()
            for step in range(1, 24):
                volume = low + (high - low) * Fraction(step, 24)
                gap = one.at(volume) - other.at(volume)
                signs.add((gap > 0) - (gap < 0))
            self.assertEqual(len(signs), 1)

    def test_a_graduated_rate_for_a_share_of_the_volume(self) -> None:
        tiers = Tiers.model_validate({"tiers": [{"up_to_gb": 10, "rate": 0}, {"up_to_gb": 50, "rate": 2}, {"rate": 1}]})
        cost = Curve.of_rate(tiers, Fraction(1, 4))
        for volume, expected in ((0, 0), (40, 0), (80, 20), (200, 80), (400, 130)):
            self.assertEqual(cost.at(Fraction(volume)), expected)


class Offers(InFolder):
    def test_a_gateway_against_an_endpoint(self) -> None:
        patch: dict[str, Any] = {
            "flows": {"talk": {"to": "store", "out_kib_per_connection": 600, "in_kib_per_connection": 400}}
        }
        found = break_even(alternatives(self.estate(patch), "talk"), "talk")
        # Both ways 26.9 TB, six tenths of it out, which costs 0.05; the gateway 0.02 both ways, the inner door nothing.
        volume = Fraction(10 * 3600 * 730 * 1000 * 1024, 10**9)
        self.assertEqual(found.volume, volume)
        costs = {name.split(" (")[0]: curve.at(volume) for name, curve in found.curves.items()}
        self.assertEqual(costs["current path"], 730 * Fraction("0.105") + volume * Fraction("0.05"))
        self.assertEqual((costs["inner"], costs["door-to-service"]), (Fraction("7.3"), 0))
        self.assertEqual(found.rivals[0].design, "door-to-service (routed-endpoint)")
        # A firewall pays 1 an hour and nothing by volume but the transfer: 657 dearer to begin with, 0.02 a GB less.
        [meeting] = [one for one in found.meetings if {one.first, one.second} == {"current path", "wall in zone a"}]
        self.assertEqual(meeting.at.volume, 730 * Fraction("0.9") / Fraction("0.02"))
        self.assertEqual(meeting.hosts, meeting.at.volume * 10 / volume)


class SelfRun(Situation):
    def test_the_wage_at_which_work_costs_what_it_saves(self) -> None:
        """At the wage that is told, the bills of both are the same, as evaluated with it."""
        self.put()
        described = read_estate(self.folder / "estate.yaml")
        found = break_even(compare(described), "forecast")
        self.assertTrue(found.wages)
        for one in found.wages:
            self.assertIn("translator hosts", one.harder)
            self.assertLess(0, one.per_hour)
            at_it = described.patched({"wage_per_hour": float(one.per_hour)}, "wage")
            totals = {each.design.name: each.evaluation.bill.total for each in compare(at_it).candidates}
            self.assertAlmostEqual(float(totals[one.easier]), float(totals[one.harder]), places=6)
            self.assertIn("Managed or self-run", self.program("compare", "--break-even", "forecast", "--all").stdout)
            minutes = {each.design: each.down_minutes or 0.0 for each in found.rivals}
            self.assertAlmostEqual(one.more_down_minutes or 0.0, minutes[one.harder] - minutes[one.easier], places=9)

    def test_a_flow_is_judged_by_its_own_faults(self) -> None:
        """Another flow without a route, and an exit that it overloads, keep nothing from being the cheapest path."""
        lost = {
            "destinations": {"nowhere": {"prefixes": ["10.99.0.0/24"]}},
            "flows": {"lost": {"from": "pumps", "to": "nowhere", "per_host_per_s": 1}},
        }
        for patches, aside in (((), 0), ((lost,), 1)):
            self.put(*patches)
            described = read_estate(self.folder / "estate.yaml")
            found = break_even(alternatives(described, "forecast"), "forecast", own=True)
            self.assertEqual(found.left_aside, aside)
            self.assertIsNotNone(found.best)
            if aside:
                self.assertIsNone(break_even(alternatives(described, "forecast"), "forecast").best)
                told = self.program("charges", "--break-even", "forecast").stdout
                self.assertIn("1 fault of other flows and exits left aside", told)
        box = {"exits": {"nat-b": {"kind": "translator-host", "offer": "box", "addresses": None}}}
        self.put(box)
        told = self.program("charges", "--break-even", "forecast").stdout
        self.assertIn("Managed or self-run: the wage at which both cost the same (now 55.00)", told)
