"""Designs and bills through the months: what is paid once, and when one has cost less than another."""

import random
import unittest
from fractions import Fraction
from itertools import combinations
from types import SimpleNamespace
from typing import Any

from fenrask.designs import compare, effort
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.optimise import Wanted, choose
from fenrask.what_if.growth import after, grows, months_ahead
from fenrask.what_if.schedule import schedule
from fenrask.what_if.schedule.commitments import terms_of
from fenrask.what_if.second_methods import Audited, audit
from fenrask.what_if.through import Overtaking, Through, overtakings, through_months
from tests.support import InFolder, merged


class Overtakings(unittest.TestCase):
    def test_sums_by_hand(self) -> None:
        """10 a month against 50 and then 2: 60 and 66 after six months, 70 and 64 after seven."""
        plain = self.design("plain", 0, [10] * 12)
        bought = self.design("bought", 50, [2] * 12)
        fails = self.design("fails", 0, [1] * 12, passing=0)
        self.assertEqual([*overtakings([plain, bought, fails])], [Overtaking("bought", "plain", 6, Fraction(46))])
        # It is ahead in months 0 and 1, then for good from month 4 on.
        waves = self.design("waves", 0, [9, 11, 11, 11, 5, 5])
        [one] = overtakings([self.design("plain", 0, [10] * 6), waves])
        self.assertEqual((one.design, one.month, one.saved), ("waves", 4, Fraction(8)))

    def design(self, name: str, once: int, amounts: list[int], passing: int = 12) -> Through:
        candidate: Any = SimpleNamespace(design=SimpleNamespace(name=name))
        return Through(candidate, Fraction(once), tuple(map(Fraction, amounts)), passing)


class PaidOnce(InFolder):
    """An offer that costs less a month and something to put up."""

    def priced(self, changes: Any = None, gate: Any = None, **offer: Any) -> Described:
        cheap = {
            "kind": "translation-gateway",
            "ports": {"assignment": "shared-per-destination", "per_address": 1000},
            "mapping_timeout_s": {"closed": 60, "reset": 10, "idle": 300, "udp_idle": 30},
            "rates": {"hour": 0.05, "processed_per_gb": 0.02},
        }
        others = {"wall": None, "host": None, "inner": None, "door-to-service": None}
        return self.estate(changes or {}, {"offers": {**others, "gate": gate or {}, "cheap": merged(cheap, offer)}})

    def test_what_is_paid_once_is_spread_over_the_horizon(self) -> None:
        """36.50 a month saved for 300 paid once: worth it over 9 months, and not over 8; so for 12 hours at 25."""
        for once in ({"rates": {"once": 300}}, {"set_up_hours": 12}, {"rates": {"once": 100}, "set_up_hours": 8}):
            for months, taken in ((9, True), (8, False)):
                changes = {"wage_per_hour": 25, "targets": {"horizon_months": months}}
                choice = choose(self.priced(changes, **once), Wanted(explain=False))
                with self.subTest(once=once, months=months):
                    self.assertEqual(bool(choice.patch), taken)
                    self.assertAlmostEqual(choice.change_month, 300 / months if taken else 0.0, places=6)

    def test_work_to_take_down_counts_too(self) -> None:
        """The gateway that goes takes ten hours at 25: 250 against 36.50 a month."""
        for months, taken in ((7, True), (6, False)):
            described = self.priced(
                {"wage_per_hour": 25, "targets": {"horizon_months": months}}, gate={"take_down_hours": 10}
            )
            choice = choose(described, Wanted(explain=False))
            self.assertEqual(bool(choice.patch), taken, months)
            if taken:
                self.assertEqual(effort(evaluate(described), choice.evaluation, choice.patch).building, 250)

    def test_months_bear_what_comes_and_goes_in_them(self) -> None:
        """A spare gateway from month 2 to 3: 40 and two hours at 25 to put it up, one to take it down."""
        spare = {
            "kind": "translation-gateway",
            "offer": "cheap",
            "subnet": "edge",
            "addresses": 1,
            "in_use": {"from": 2, "until": 3},
        }
        changes = {"wage_per_hour": 25, "exits": {"spare": spare}}
        self.priced(changes, rates={"once": 40}, set_up_hours=2, take_down_hours=1)
        found = self.json("charges", "--months", "6")
        self.assertEqual([one["once_amount"] for one in found["months"]], [None, None, 90, None, 25, None])
        bills = sum(one["month_amount"] for one in found["months"])
        self.assertAlmostEqual(found["total_amount"], bills + 115, places=6)
        planned = self.json("schedule", "--months", "6", status=None)
        self.assertAlmostEqual(planned["total_amount"], bills + 115, places=6)

    def test_an_address_that_is_held_for_some_months(self) -> None:
        """A spare /30 in months 1 and 2, at 0.005 an hour each."""
        held = {"spare": {"address": "203.0.113.8/30", "in_use": {"from": 1, "until": 2}}}
        described = self.estate({"public_addresses": held})
        bills = [one.bill.total for one in months_ahead(described, 4)]
        four = 4 * Fraction("0.005") * 730
        self.assertEqual([one - bills[0] for one in bills], [0, four, four, 0])
        self.assertTrue(grows(described))
        self.assertIn("Not in use this month, though other commands count it: spare.", self.program("schedule").stdout)

    def test_a_year_is_twelve_months_only_where_nothing_grows(self) -> None:
        self.estate({})
        self.assertIn("EUR/year", self.program("charges").stdout)
        self.estate({"flows": {"talk": {"growth_per_month": 0.1}}})
        told = self.program("charges").stdout
        self.assertNotIn("EUR/year", told)
        self.assertIn("--months 12: the year, as it grows", told)

    def test_an_order_takes_what_the_estate_says(self) -> None:
        """Ten days of the provider, twenty of the slower partner: 30 days, unless the command is told otherwise."""
        lead = {"addresses": 10, "allow_list": 5, "partners": {"partner": 20}}
        self.estate({"targets": {"lead_days": lead}, "flows": {"talk": {"growth_per_month": 0.2}}})
        self.assertAlmostEqual(self.json("stress", "--months", "6", status=None)["lead_months"], 30 / 30.4375)
        self.assertEqual(self.json("stress", "--months", "6", "--lead", "3", status=None)["lead_months"], 3)

    def test_designs_through_the_months(self) -> None:
        """Each design's bills are those of its patch, month by month; it does until a need or a limit breaks."""
        described = self.estate(
            {"flows": {"talk": {"growth_per_month": 0.3, "out_gib_per_month": 900}}},
            {"offers": {"host": {"set_up_hours": 4}}},
        )
        comparison = compare(described.patched({"wage_per_hour": 25}, "paid"))
        found = through_months(comparison, 6)
        for one in found:
            ahead = [evaluate(after(one.candidate.evaluation.described, month)) for month in range(6)]
            self.assertEqual(one.amounts, tuple(each.bill.total for each in ahead))
            lasts = next((month for month, each in enumerate(ahead) if not each.meets_all), 6)
            self.assertEqual(one.passing, lasts if one.candidate.passes else 0)
            hosts = sum(
                each.units for each in ahead[0].described.estate.exits.values() if each.kind == "translator-host"
            )
            self.assertEqual(one.once, 100 * hosts)
        self.assertGreater(len({one.once for one in found}), 1)
        self.assertTrue(any(0 < one.passing < 6 for one in found))

    def test_the_command(self) -> None:
        changes = {"flows": {"talk": {"growth_per_month": 0.3, "out_gib_per_month": 900}}, "wage_per_hour": 25}
        self.estate(changes, {"offers": {"host": {"set_up_hours": 12}}})
        found = self.json("compare", "--months", "12", status=None)
        self.assertEqual(found["compared_months"], 12)
        known = {one["design"]: one for one in found["designs"]}
        self.assertEqual(known["current"]["difference_to_current_amount"], 0)
        self.assertTrue(found["overtakings"])
        for one in found["overtakings"]:
            saved = known[one["overtakes"]]["total_amount"] - known[one["design"]]["total_amount"]
            self.assertAlmostEqual(one["saved_amount"], saved, places=6)
            self.assertGreater(saved, 0)
        refused = self.program("compare", "--months", "3", "--figure", "x.svg")
        self.assertEqual((refused.returncode, refused.stdout), (2, ""))


class OnOffer(InFolder):
    """Commitments that could be taken: by hand, against every choice of months, and in no bill before."""

    GATE = 730 * Fraction("0.1")

    def offered(self, commitments: Any, changes: Any = None) -> Described:
        return self.estate(changes or {}, {"commitments": commitments})

    def test_a_year_that_ends_with_what_it_covers(self) -> None:
        """A quarter off the hours of the gateway, 73 a month, for a fee of 10; a second gateway in months 3 to 8.

        8.25 a month while one stands, 26.50 while two do; six months of the term: months 3 to 8.
        """
        spare = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 1}
        changes = {"exits": {"spare": {**spare, "in_use": {"from": 3, "until": 8}}}}
        offered = {"share": 0.25, "month_fee": 10, "months": 6, "on_offer": True}
        described = self.offered({"half-a-year": offered}, changes)
        self.assertEqual([line.item for line in evaluate(described).bill.lines if line.item.startswith("commit")], [])
        found = schedule(described, 11)
        [one] = found.commitments
        self.assertEqual((one.begin, one.until), (3, 8))
        self.assertEqual(one.saved, 6 * (2 * self.GATE / 4 - 10))
        self.assertEqual(one.worst, 2 * self.GATE / 4 - 10)
        plain = [then.bill.total for then in months_ahead(described, 11)]
        self.assertEqual(found.total, sum(plain, Fraction(0)) - one.saved)
        # Bound for eight months, two with one gateway: 6 x 6.50 less 2 x 11.75 at a fee of 30; less than 0 at 33.
        for fee, saved in ((30, Fraction("15.5")), (33, None)):
            longer = self.offered({"long": {**offered, "month_fee": fee, "months": 8}}, changes)
            self.assertEqual([one.saved for one in schedule(longer, 11).commitments], [] if saved is None else [saved])

    def test_every_choice_of_months(self) -> None:
        """One commitment by random savings, and two that cover different items, against all ways to take them."""
        dice = random.Random(3)
        for number in range(40):
            months, term = dice.randint(2, 9), dice.randint(1, 4)
            savings = [Fraction(dice.randint(-5, 6)) for _ in range(months)]
            best = max(
                sum(sum(savings[begin : begin + term], Fraction(0)) for begin in begins)
                for count in range(months // term + 1)
                for begins in combinations(range(months - term + 1), count)
                if all(after - before >= term for before, after in zip(begins, begins[1:], strict=False))
            )
            found = terms_of(months, term, savings.__getitem__)
            with self.subTest(number=number):
                self.assertEqual(sum(sum(savings[begin : begin + term], Fraction(0)) for begin in found), best)
                self.assertTrue(all(b - a >= term for a, b in zip(found, found[1:], strict=False)))

    def test_two_that_cover_the_same(self) -> None:
        """What one takes off the other no longer finds: of two sums off the same 73 a month together at most 73."""
        both = {
            "first": {"month_off": 60, "month_fee": 20, "months": 4, "on_offer": True},
            "second": {"share": 0.5, "month_fee": 30, "months": 4, "on_offer": True},
        }
        described = self.offered(both)
        found = schedule(described, 4)
        ways = {}
        for names in ((), ("first",), ("second",), ("first", "second")):
            taken = {name: {**one, "on_offer": name not in names} for name, one in both.items()}
            ways[names] = evaluate(self.offered(taken)).bill.total
        best = min(ways, key=lambda names: ways[names])
        self.assertEqual(tuple(one.name for one in found.commitments), best)
        self.assertEqual(found.total, 4 * ways[best])

    def test_fees_of_those_in_force(self) -> None:
        """A fee is a line of its own, whatever is used; two ways to the bill agree, and the choice counts it."""
        described = self.offered({"years": {"share": 0.25, "month_fee": 12.5, "offers": ["wall"]}})
        lines = {(line.item, line.about): line.amount for line in evaluate(described).bill.lines}
        self.assertEqual(lines["committed", "years"], Fraction("12.5"))
        self.assertTrue(all(one.agrees for one in audit(evaluate(described)) if isinstance(one, Audited)))
        choice = choose(described, Wanted(explain=False))
        self.assertAlmostEqual(choice.mix.month, float(choice.evaluation.bill.total), places=6)
        told = self.program("check", "--set", "estate=Other")
        self.assertEqual(told.returncode, 0, told.stderr)
        refused = {"share": 0.1, "on_offer": True}
        with self.assertRaises(UnusableInput):
            self.offered({"years": refused})
