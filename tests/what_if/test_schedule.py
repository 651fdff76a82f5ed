"""What to buy when: against every schedule, by hand, month by month in the engine, and in drawn futures."""

import json
import random
import unittest
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from itertools import product
from typing import Any

import numpy as np

from fenrask.estate import ChangeCost, Described
from fenrask.evaluation import evaluate
from fenrask.prefixes import parse_prefix
from fenrask.what_if.growth import after, crossings_of
from fenrask.what_if.schedule import Schedule, day_of, schedule
from fenrask.what_if.schedule.needed import Needed, StandIns
from fenrask.what_if.schedule.orders import Buyer, Order, Terms, cheapest, cost_of
from tests.support import InFolder, many, merged

PRICES = {32: Fraction(3), 31: Fraction(5)}


def buyer(name: str, wanted: list[int], partners: tuple[str, ...], first: int = 0) -> Buyer:
    owned = (parse_prefix("240.0.0.0/32"),)
    return Buyer(Needed((name, ""), name, owned, tuple(wanted), None, (), (), partners), PRICES, first)


class AgainstEverySchedule(unittest.TestCase):
    """All ways to buy up to two of each size in each month, by adding up what each costs."""

    def by_hand(self, buyers: list[Buyer], terms: Terms) -> Fraction | None:
        best: Fraction | None = None
        months = range(terms.months)
        sizes = [*PRICES]
        counts = [*product(range(3), repeat=len(sizes) * len(months))]
        kept = []
        for one in buyers:
            fits = []
            for numbers in counts:
                have, well = 1, True
                for month in months:
                    now = numbers[month * len(sizes) : (month + 1) * len(sizes)]
                    well &= month >= one.first or not any(now)
                    have += sum(number << (32 - length) for number, length in zip(now, sizes, strict=True))
                    well &= month < one.first or have >= one.needed.addresses[month]
                if well:
                    fits.append(numbers)
            kept.append(fits)
        for choice in product(*kept):
            orders = [
                Order(
                    one.needed.key,
                    month,
                    tuple(sorted(length for n, length in enumerate(sizes) for _ in range(now[n]))),
                )
                for one, numbers in zip(buyers, choice, strict=True)
                for month in months
                if any(now := numbers[month * len(sizes) : (month + 1) * len(sizes)])
            ]
            entries: dict[str, int] = {}
            lists = set()
            hold = Fraction(0)
            for order in orders:
                own = next(one for one in buyers if one.needed.key == order.key)
                hold += sum(PRICES[length] for length in order.lengths) * (terms.months - order.month)
                for partner in own.needed.partners:
                    entries[partner] = entries.get(partner, 0) + len(order.lengths)
                    lists.add((partner, order.month))
            if any(number > terms.room.get(partner, 10**6) for partner, number in entries.items()):
                continue
            assert terms.change is not None
            change = terms.change.allow_list * len(lists) + terms.change.allow_list_entry * sum(entries.values())
            cost = hold + Fraction(change)
            self.assertEqual(cost, cost_of(buyers, orders, terms))
            best = cost if best is None else min(best, cost)
        return best

    def test_random_small_cases(self) -> None:
        dice, impossible = random.Random(5), 0
        for number in range(many(25)):
            months = 2
            buyers = [
                buyer(name, sorted(dice.randint(1, 4) for _ in range(months)), partners, dice.choice([0, 0, 1]))
                for name, partners in (("one", ("bank",)), ("two", dice.choice([("bank",), ("bank", "shop"), ()])))
            ]
            change = ChangeCost(
                allow_list=Decimal(dice.choice([0, 4, 9])), allow_list_entry=Decimal(dice.choice([0, 2]))
            )
            terms = Terms(months, change, dice.choice([{}, {"bank": dice.randint(1, 4)}]))
            with self.subTest(number=number, terms=terms):
                found, best = cheapest(buyers, terms), self.by_hand(buyers, terms)
                if best is None:
                    impossible += 1
                    least = min(
                        self.by_hand(buyers, replace(terms, room={"bank": most})) is None for most in range(5, 9)
                    )
                    self.assertFalse(least)
                    continue
                self.assertEqual(cost_of(buyers, found, terms), best, found)
        self.assertLess(impossible, 15)


class ByHand(InFolder):
    """Two gateways of a thousand ports an address, one partner, twelve months."""

    def grown(self, changes: Any = None) -> Described:
        """Two subnets, each with its gateway of one address, and the same partner behind both."""
        return self.estate(
            merged(
                {
                    "subnets": {
                        "more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "other"},
                    },
                    "route_tables": {"other": {"0.0.0.0/0": "second"}},
                    "exits": {
                        "gate": {"addresses": 1},
                        "second": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 1},
                    },
                    "workloads": {"slow": {"subnets": ["more"], "hosts": 10}},
                    "destinations": {"partner": {"needs": {"fixed_source": True}}},
                    "flows": {
                        "talk": {"growth_per_month": 0.1},
                        "chat": {"from": "slow", "to": "partner", "per_host_per_s": 1, "duration_s": 2},
                    },
                    "targets": {
                        "lead_days": {"addresses": 10, "allow_list": 20},
                        "change_cost": {"allow_list": 20, "allow_list_entry": 1},
                    },
                },
                changes or {},
            ),
            {"offers": {"gate": {"ports": {"per_address": 800}}}},
        )

    def test_twelve_months(self) -> None:
        """620 connections of 800 ports, a tenth more each month: two addresses from month 2, three from month 10."""
        found = schedule(self.grown(), 12)
        load = [620 * 1.1**month for month in range(12)]
        [talk, chat] = found.needed
        rooms = [0, *(talk.sized[0].assignment.room(number, talk.sized[0].how, 1e-4) for number in range(1, 5))]
        wanted = [next(number for number, room in enumerate(rooms) if room >= one) for one in load]
        self.assertEqual(talk.addresses, tuple(wanted))
        self.assertEqual(sorted({*wanted}), [1, 2, 3])
        self.assertEqual({*chat.addresses}, {1})
        # Two orders of one address, or one of two: 3.65 a month each, 21 for each change of the list.
        second, third = wanted.index(2), wanted.index(3)
        apart = Fraction("3.65") * ((12 - second) + (12 - third)) + 2 * 21
        together = Fraction("3.65") * 2 * (12 - second) + 21 + Fraction(1)
        block = Fraction("3.65") * 2 * (12 - second) + 21
        self.assertEqual(found.added, min(apart, together, block))
        [*due] = found.due
        lead = 30
        self.assertEqual([one.order_by for one in due], [day_of(one.order.month) - lead for one in due])
        self.assertEqual(found.is_well, True)
        self.assertEqual(
            sum(one.once for one in found.months), (1 + (len(due) > 1)) * 20 + sum(one.entries for one in due)
        )
        self.assertEqual(found.total, sum((one.amount + one.once for one in found.months), Fraction(0)))

    def test_bills_are_those_of_the_months_with_what_has_arrived(self) -> None:
        described = self.grown()
        found = schedule(described, 12)
        for month in found.months:
            has = 1 + sum(one.order.addresses for one in found.due if one.order.month <= month.number)
            plain = after(described, month.number).patched({"exits": {"gate": {"addresses": has}}}, "by hand")
            self.assertEqual(month.amount, evaluate(plain).bill.total)

    def test_a_month_later_is_too_late(self) -> None:
        """Each month is accepted with what has arrived, and its first month is not without any one order."""
        described = self.grown()
        found = schedule(described, 12)
        self.assertTrue(found.due)
        for one in found.due:
            then = after(described, one.order.month)
            for less, wrong in ((0, False), (one.order.addresses, True)):
                patched = then.patched({"exits": {"gate": {"addresses": one.then - less}}}, "then")
                self.assertEqual(any(True for _ in crossings_of(one.order.month, evaluate(patched))), wrong)

    def test_what_lacks_today_is_waited_for(self) -> None:
        found = schedule(self.grown({"flows": {"talk": {"per_host_per_s": 1.5}}}), 6)
        [(needed, begins, until)] = found.waits
        self.assertEqual((needed.name, begins, until), ("gate", 0, 1))
        self.assertEqual((found.due[0].order_by, found.due[0].there), (0, 30))
        self.assertFalse(found.is_well)
        self.assertFalse([one for one in found.not_mended if one.limit == "ports"])

    def test_a_list_that_is_too_short_is_told_and_blocks_spare_entries(self) -> None:
        short = {"destinations": {"partner": {"needs": {"max_source_addresses": 3}}}}
        found = schedule(self.grown(short), 12)
        self.assertEqual(([one.order.lengths for one in found.due], found.over), ([(31,)], ()))
        full = {"destinations": {"partner": {"needs": {"max_source_addresses": 2}}}}
        self.assertEqual(schedule(self.grown(full), 12).over, ("partner",))

    def test_measured_below_it_can_wait(self) -> None:
        """At the load told, the addresses before an order carry its month; at one in a hundred more they do not."""
        described = self.grown()
        for one in schedule(described, 12).later:
            month = one.due.order.month
            for factor, wrong in ((0.999, False), (1.01, True)):
                times = factor * one.below / one.planned
                rate = described.estate.flows["talk"].per_host_per_s or 0.0
                changed = described.patched({"flows": {"talk": {"per_host_per_s": rate * times}}}, "measured")
                addresses = one.due.then - one.due.order.addresses
                then = after(changed, month).patched({"exits": {"gate": {"addresses": addresses}}}, "then")
                self.assertEqual(any(True for _ in crossings_of(month, evaluate(then))), wrong)

    def test_in_drawn_futures_the_confidence_holds(self) -> None:
        """Growth drawn from its law outside the engine; the addresses of the last month suffice in nine of ten."""
        low, likely, high = 0.02, 0.05, 0.08
        ranged = {"flows": {"talk": {"growth_per_month": {"low": low, "likely": likely, "high": high}}}}
        found: Schedule = schedule(self.grown(ranged), 10, 0.9)
        self.assertTrue(found.is_uncertain)
        has = next(one for one in found.needed if one.name == "gate").wanted(9)
        room = found.needed[0].sized[0].assignment.room(has, found.needed[0].sized[0].how, 1e-4)
        z = np.random.default_rng(77).standard_normal(500)
        down, up = np.log((1 + likely) / (1 + low)) / 1.6448536, np.log((1 + high) / (1 + likely)) / 1.6448536
        load = 620 * ((1 + likely) * np.exp(np.where(z < 0, z * down, z * up))) ** 9
        held = float((load <= room).mean())
        self.assertGreaterEqual(held, 0.9 - 3 * (0.9 * 0.1 / 500) ** 0.5)
        fewer = found.needed[0].sized[0].assignment.room(has - 1, found.needed[0].sized[0].how, 1e-4)
        self.assertLess(float((load <= fewer).mean()), 0.9 + 3 * (0.9 * 0.1 / 500) ** 0.5)

    def test_the_command(self) -> None:
        self.grown()
        found = self.json("schedule", "--months", "12", "--begin", "2026-12-01")
        self.assertEqual(found["orders"][0]["order_by"], "2026-12-31")  # Day 30: month 2 begins on day 60.
        self.assertEqual(found["begin"], "2026-12-01")
        self.assertEqual(len(found["months"]), 12)
        self.assertEqual(self.program("schedule", "--begin", "tomorrow").returncode, 2)
        drawn = self.program("schedule", "--figure", "s.svg", "--months", "3")
        self.assertEqual(drawn.returncode, 0, drawn.stderr)
        self.assertIn("<svg", (self.folder / "s.svg").read_text("utf-8"))
        still = json.loads(self.program("schedule", "--months", "2", "--format", "json").stdout)
        self.assertEqual(still["orders"], [])


class Stands(unittest.TestCase):
    def test_stand_ins_touch_none_before(self) -> None:
        stand_ins = StandIns()
        blocks = [stand_ins.block(length) for length in (32, 32, 30, 22, 31, 24, 32)]
        for place, one in enumerate(blocks):
            for other in blocks[:place]:
                self.assertFalse(one.overlaps(other))
                self.assertNotEqual(int(one.network_address), int(other.broadcast_address) + 1)
