"""What to buy when: against every schedule, by hand, month by month in the engine, and in drawn futures."""

import json
import random
import unittest
from collections import Counter
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from itertools import product
from math import log
from statistics import NormalDist
from typing import Any

import numpy as np

from fenrask.estate import ChangeCost, Described, read_estate
from fenrask.evaluation import evaluate
from fenrask.prefixes import parse_prefix
from fenrask.what_if.growth import after, crossings_of, grows, months_ahead
from fenrask.what_if.schedule import Months, Planned, schedule
from fenrask.what_if.schedule.courses import TODAY, Futures, Stage
from fenrask.what_if.schedule.needed import Key, Needed, StandIns
from fenrask.what_if.schedule.orders import Buyer, Room, Terms, cheapest, cost_of
from fenrask.what_if.schedule.plan import planned
from tests.evaluation.estates import random_estate
from tests.evaluation.test_random_estates import read
from tests.support import CATALOGUE, InFolder, many, merged

SPARE = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 2}
GROWTH = {"low": 0.01, "likely": 0.02, "high": 0.04}
TODAYS = (Stage(0, TODAY),)
PRICES = {32: Fraction(3), 31: Fraction(5)}


def buyer(name: str, wanted: list[int], partners: tuple[str, ...], first: int = 0) -> Buyer:
    owned = (parse_prefix("240.0.0.0/32"),)
    needed = Needed(Key(name, ""), name, owned, tuple(wanted), None, (), (), partners, len(wanted))
    return Buyer(needed, PRICES, first)


class AgainstEverySchedule(unittest.TestCase):
    """All ways to buy up to two of each size in each month, by adding up what each costs."""

    def by_hand(self, buyers: list[Buyer], terms: Terms) -> Fraction | None:
        assert terms.change is not None
        change, best = terms.change, None
        for choice in product(*(self.of_one(one, terms.rooms[0].until) for one in buyers)):
            entries, lists = Counter[str](), set[tuple[str, int]]()
            for each in choice:
                entries.update(each[1])
                lists |= each[2]
            if all(number <= terms.rooms[0].left.get(partner, 10**6) for partner, number in entries.items()):
                lists_cost = change.allow_list * len(lists) + change.allow_list_entry * sum(entries.values())
                cost = sum((each[0] for each in choice), Fraction(lists_cost))
                best = cost if best is None else min(best, cost)
        return best

    def of_one(self, one: Buyer, months: int) -> list[tuple[Fraction, Counter[str], set[tuple[str, int]]]]:
        """Every way to buy for one exit that gives it what it wants: hours' money, entries, lists that change."""
        found = []
        for numbers in product(range(3), repeat=len(PRICES) * months):
            by_month = [dict(zip(PRICES, numbers[m * len(PRICES) :], strict=False)) for m in range(months)]
            have, fits, hours = 1, True, Fraction(0)
            entries, lists = Counter[str](), set[tuple[str, int]]()
            for month, some in enumerate(by_month):
                have += sum(number << (32 - length) for length, number in some.items())
                fits &= not any(some.values()) if month < one.first else have >= one.needed.addresses[month]
                hours += sum(number * PRICES[length] for length, number in some.items()) * (months - month)
                for partner in one.needed.partners if any(some.values()) else ():
                    entries[partner] += sum(some.values())
                    lists.add((partner, month))
            if fits:
                found.append((hours, entries, lists))
        return found

    def test_random_small_cases(self) -> None:
        dice, impossible = random.Random(5), 0
        for number in range(many(20, 100)):
            months = 2
            buyers = [
                buyer(name, sorted(dice.randint(1, 4) for _ in range(months)), partners, dice.choice([0, 0, 1]))
                for name, partners in (("one", ("bank",)), ("two", dice.choice([("bank",), ("bank", "shop"), ()])))
            ]
            change = ChangeCost(
                allow_list=Decimal(dice.choice([0, 4, 9])), allow_list_entry=Decimal(dice.choice([0, 2]))
            )
            terms = Terms(change, [Room(0, months, dice.choice([{}, {"bank": dice.randint(0, 3)}]))])
            with self.subTest(number=number, terms=terms):
                found, best = cheapest(buyers, terms), self.by_hand(buyers, terms)
                if best is None:
                    impossible += 1
                    least = min(
                        self.by_hand(buyers, replace(terms, rooms=[Room(0, months, {"bank": most})])) is None
                        for most in range(5, 9)
                    )
                    self.assertFalse(least)
                    continue
                self.assertEqual(cost_of(buyers, found, terms), best, found)
        self.assertGreater(impossible, 0)


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
        found = schedule(self.grown(), 12).plan
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
        self.assertEqual([one.order_by for one in due], [Months().begin(one.order.month) - lead for one in due])
        self.assertEqual(found.is_well, True)
        self.assertEqual(
            sum(one.once for one in found.months), (1 + (len(due) > 1)) * 20 + sum(one.entries for one in due)
        )
        self.assertEqual(found.total, sum((one.amount + one.once for one in found.months), Fraction(0)))

    def test_bills_are_those_of_the_months_with_what_has_arrived(self) -> None:
        described = self.grown()
        found = schedule(described, 12).plan
        for month in found.months:
            has = 1 + sum(one.order.addresses for one in found.due if one.order.month <= month.number)
            plain = after(described, month.number).patched({"exits": {"gate": {"addresses": has}}}, "by hand")
            self.assertEqual(month.amount, evaluate(plain).bill.total)

    def test_a_month_later_is_too_late(self) -> None:
        """Each month is accepted with what has arrived, and its first month is not without any one order."""
        described = self.grown()
        found = schedule(described, 12).plan
        self.assertTrue(found.due)
        for one in found.due:
            then = after(described, one.order.month)
            for less, wrong in ((0, False), (one.order.addresses, True)):
                patched = then.patched({"exits": {"gate": {"addresses": one.then - less}}}, "then")
                self.assertEqual(any(True for _ in crossings_of(one.order.month, evaluate(patched))), wrong)

    def test_what_lacks_today_is_waited_for(self) -> None:
        found = schedule(self.grown({"flows": {"talk": {"per_host_per_s": 1.5}}}), 6).plan
        [(needed, begins, until)] = found.waits
        self.assertEqual((needed.name, begins, until), ("gate", 0, 1))
        self.assertEqual((found.due[0].order_by, found.due[0].there), (0, 30))
        self.assertFalse(found.is_well)
        self.assertFalse([one for one in found.not_mended if one.limit == "ports"])

    def test_a_list_that_is_too_short_is_told_and_blocks_spare_entries(self) -> None:
        short = {"destinations": {"partner": {"needs": {"max_source_addresses": 3}}}}
        found = schedule(self.grown(short), 12).plan
        self.assertEqual(([one.order.lengths for one in found.due], found.over), ([(31,)], ()))
        full = {"destinations": {"partner": {"needs": {"max_source_addresses": 2}}}}
        described = self.grown(full)
        self.assertEqual(planned(Futures(described, 12, 0, 0.9), TODAYS).over, ("partner",))
        # Other exits then show it fewer addresses.
        found = schedule(described, 12)
        self.assertEqual((found.plan.over, found.is_well), ((), True))
        [change] = found.changes
        assert change.because is not None
        self.assertEqual((change.because.about, change.because.limit), ("partner", "allow-list"))

    def test_measured_below_it_can_wait(self) -> None:
        """At the load told, the addresses before an order carry its month; at one in a hundred more they do not."""
        described = self.grown()
        for one in schedule(described, 12).plan.beside.later:
            month = one.due.order.month
            for factor, wrong in ((0.999, False), (1.01, True)):
                times = factor * one.below / one.planned
                rate = described.estate.flows["talk"].per_host_per_s or 0.0
                changed = described.patched({"flows": {"talk": {"per_host_per_s": rate * times}}}, "measured")
                addresses = one.due.then - one.due.order.addresses
                then = after(changed, month).patched({"exits": {"gate": {"addresses": addresses}}}, "then")
                self.assertEqual(any(True for _ in crossings_of(month, evaluate(then))), wrong)

    def test_a_block_is_billed_at_its_own_price(self) -> None:
        """A /31 at 0.02 an hour, when single ones cost 0.005: the list has room for one entry more."""
        self.grown({"destinations": {"partner": {"needs": {"max_source_addresses": 3}}}})
        catalogue = {"addresses": {"blocks": {31: 0.02}}, "offers": {"gate": {"ports": {"per_address": 800}}}}
        self.write("catalogue.yaml", merged(CATALOGUE, catalogue))
        found = schedule(read_estate(self.folder / "estate.yaml"), 12).plan
        [due] = found.due
        self.assertEqual((due.order.lengths, due.month_amount), ((31,), Fraction("0.02") * 730))
        before, after_it = found.months[due.order.month - 1], found.months[due.order.month]
        metered = [
            sum(line.amount for line in one.evaluation.bill.lines if not line.fixed) for one in (before, after_it)
        ]
        self.assertEqual(after_it.amount - before.amount, Fraction("0.02") * 730 + metered[1] - metered[0])

    def test_addresses_that_one_destination_alone_sees(self) -> None:
        for own in ("auto", 1, ["203.0.113.7"]):
            found = schedule(self.grown({"exits": {"gate": {"addresses_for": {"partner": own}}}}), 12).plan
            self.assertEqual({one.needed.key for one in found.due}, {Key("gate", "partner")})
            self.assertEqual(found.not_mended, [])

    def test_random_estates_have_their_ports_in_every_month(self) -> None:
        """Where an offer takes as many addresses, and no order is waited for, the engine finds no port lacking."""
        orders = 0
        for seed in range(many(1, 30)):
            dice = random.Random(seed)
            estate, catalogue = random_estate(dice)
            for flow in estate["flows"].values():
                flow["growth_per_month"] = dice.choice([0.0, 0.05, 0.2, {"low": 0.02, "likely": 0.1, "high": 0.3}])
            found = schedule(read(estate, catalogue), 6).plan
            orders += len(found.due)
            known, waiting = {one.name: one for one in found.needed}, {one.name for one, *_ in found.waits}
            for crossing in found.not_mended:
                if crossing.limit == "ports" and crossing.about in known and crossing.about not in waiting:
                    one = known[crossing.about]
                    wanted = one.addresses[crossing.month]
                    self.assertTrue(wanted is None or (one.most is not None and wanted > one.most), (seed, crossing))
        self.assertGreater(orders, 0)

    def test_in_drawn_futures_the_confidence_holds(self) -> None:
        """Growth drawn from its law outside the engine; the addresses of the last month suffice in nine of ten."""
        low, likely, high = 0.02, 0.05, 0.08
        ranged = {"flows": {"talk": {"growth_per_month": {"low": low, "likely": likely, "high": high}}}}
        found: Planned = schedule(self.grown(ranged), 10, 0.9).plan
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

    def test_the_regret_of_an_order_and_of_waiting(self) -> None:
        """By the law of growth: the chance that the load of a month is above what the addresses before carry."""
        low, likely, high = 0.02, 0.05, 0.08
        ranged = {"flows": {"talk": {"growth_per_month": {"low": low, "likely": likely, "high": high}}}}
        found = schedule(self.grown(ranged), 12, 0.9).plan
        down, up = log((1 + likely) / (1 + low)) / 1.6448536, log((1 + high) / (1 + likely)) / 1.6448536
        self.assertTrue(found.beside.later)
        for one in found.beside.later:
            assert one.regret is not None
            sized = one.due.needed.sized[0]
            assert sized is not None
            room = sized.assignment.room(one.due.then - one.due.order.addresses, sized.how, 1e-4)
            carried = []
            for month in range(one.due.order.month, 12):
                log_above = log(room / 620) / month - log(1 + likely)
                carried.append(NormalDist().cdf(log_above / (down if log_above < 0 else up)))
            with self.subTest(month=one.due.order.month):
                self.assertAlmostEqual(one.regret.needed, 1 - carried[0], delta=3 * (0.25 / 1000) ** 0.5)
                self.assertAlmostEqual(
                    float(one.regret.unused / one.due.month_amount), sum(carried), delta=3 * len(carried) * 0.016
                )
                self.assertAlmostEqual(one.regret.short_days, 30 * one.regret.needed)

    def test_the_command(self) -> None:
        self.grown()
        found = self.json("schedule", "--months", "12", "--begin", "2026-12-01")
        self.assertEqual(found["orders"][0]["order_by"], "2027-01-02")  # 30 days before month 2 begins.
        self.assertEqual(found["begin"], "2026-12-01")
        self.assertEqual(len(found["months"]), 12)
        self.assertEqual(self.program("schedule", "--begin", "tomorrow").returncode, 2)
        drawn = self.program("schedule", "--figure", "s.svg", "--months", "3")
        self.assertEqual(drawn.returncode, 0, drawn.stderr)
        self.assertIn("<svg", (self.folder / "s.svg").read_text("utf-8"))
        still = json.loads(self.program("schedule", "--months", "2", "--format", "json").stdout)
        self.assertEqual(still["orders"], [])


class InUse(InFolder):
    """What is there for some months alone."""

    def test_hosts_that_run_for_a_while_and_an_exit_that_goes(self) -> None:
        """A test environment of months 1 and 2, and a spare gateway until month 1: each bill by hand."""
        spare = {
            "kind": "translation-gateway",
            "offer": "gate",
            "subnet": "edge",
            "addresses": 2,
            "in_use": {"until": 1},
        }
        described = self.estate(
            {
                "exits": {"spare": spare},
                "workloads": {"work": {"in_use": {"from": 1, "until": 2}}},
                "flows": {"talk": {"out_gib_per_month": 100}},
            }
        )
        volume = Fraction(100 * 2**30, 10**9)
        gate, two = 730 * (Fraction("0.1") + Fraction("0.005")), 730 * (Fraction("0.1") + 2 * Fraction("0.005"))
        load = volume * (Fraction("0.02") + Fraction("0.05"))
        expected = [gate + two, gate + two + load, gate + load, gate]
        self.assertEqual([one.bill.total for one in months_ahead(described, 4)], expected)
        found = self.json("charges", "--months", "4")
        self.assertAlmostEqual(found["total_amount"], float(sum(expected)), places=6)
        self.assertEqual([one["addresses"] for one in found["months"]], [3, 3, 1, 1])
        self.assertEqual(sum(one["total_amount"] for one in found["items"]), found["total_amount"])

    def test_a_month_is_written_as_an_estate(self) -> None:
        """Its bill is that of the month, and it grows no more."""
        spare = {
            "kind": "translation-gateway",
            "offer": "gate",
            "subnet": "edge",
            "addresses": 2,
            "in_use": {"until": 1},
        }
        growth = {"hosts_per_month": 2, "steps": {"2": 3}, "load_per_month": 0.1}
        described = self.estate(
            {
                "exits": {"spare": spare},
                "workloads": {"work": {"growth": growth, "in_use": {"from": 1}}},
                "flows": {
                    "talk": {"growth_per_month": {"low": 0.01, "likely": 0.02, "high": 0.04}, "out_gib_per_month": 9}
                },
            }
        )
        for month in (0, 1, 3):
            written = self.program("merged", "--month", str(month), "--out", "then.yaml", "--force")
            self.assertEqual(written.returncode, 0, written.stderr)
            again = read_estate(self.folder / "then.yaml")
            self.assertEqual(evaluate(again).bill.total, evaluate(after(described, month)).bill.total)
            self.assertFalse(grows(again))

    def test_people_at_work_go_with_the_hosts(self) -> None:
        flow = {"per_host_per_s": None, "users": 100, "connections_per_user": 2}
        described = self.estate({"workloads": {"work": {"in_use": {"from": 1}}}, "flows": {"talk": flow}})
        loads = [
            one.demand.load(one.demand.at_exit.get("gate", ())).peak.concurrent for one in months_ahead(described, 3)
        ]
        self.assertEqual(loads[0], 0)
        self.assertEqual(loads[1], loads[2])
        self.assertGreater(loads[1], 200)
        self.assertIn("Not in use this month, though other commands count it: work.", self.program("schedule").stdout)
        self.assertIn("other commands count it: work.", self.program("charges", "--months", "2").stdout)

    def test_a_range_is_one_in_the_estate_of_a_month(self) -> None:
        """Three times the load: each end of the range is; so is what the confidence asks for."""
        rate = {"low": 1, "likely": 2, "high": 4, "together": "sales"}
        self.estate({"flows": {"talk": {"per_host_per_s": rate, "growth": {"load": {"1": 3}}}}})
        self.assertEqual(self.program("merged", "--month", "1", "--out", "then.yaml").returncode, 0)
        told = read_estate(self.folder / "then.yaml").data["flows"]["talk"]["per_host_per_s"]
        self.assertEqual(told, {"low": 3, "likely": 6, "high": 12, "together": "sales"})

    def test_bills_of_months_are_asked_for_alone(self) -> None:
        self.estate({})
        for other in (("--figure", "x.svg"), ("--break-even", "talk"), ("--confidence", "0.9"), ("--explain",)):
            done = self.program("charges", "--months", "3", *other)
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn(other[0], done.stderr)
        self.assertEqual(
            [one["exit"] for one in self.json("charges", "--months", "3", "--exit", "gate")["exits"]], ["gate"]
        )

    def test_an_exit_that_goes_and_is_needed_is_told(self) -> None:
        described = self.estate({"exits": {"gate": {"in_use": {"until": 2}}}})
        today = planned(Futures(described, 5, 0, 0.9), TODAYS)
        self.assertIn(("talk", "arrives", 3), [(one.about, one.limit, one.month) for one in today.not_mended])
        [why] = {one.detail for one in today.not_mended if one.limit == "arrives"}
        self.assertIn("gate is not in use", why)
        self.assertEqual([one.number for one in today.months], [*range(5)])
        found = schedule(described, 5)
        self.assertEqual(([one.begin for one in found.changes], found.plan.not_mended), ([3], []))

    def test_an_exit_that_comes_is_sized_from_then_on(self) -> None:
        described = self.estate(
            {
                "exits": {"gate": {"addresses": 1, "in_use": {"from": 2}}},
                "flows": {"talk": {"growth_per_month": 0.2}},
            },
            {"offers": {"gate": {"ports": {"per_address": 800}}}},
        )
        [gate] = schedule(described, 6).plan.needed
        self.assertEqual(gate.addresses[:2], (0, 0))
        self.assertGreater(min(one or 0 for one in gate.addresses[2:]), 1)


class Stands(unittest.TestCase):
    def test_stand_ins_touch_none_before(self) -> None:
        stand_ins = StandIns()
        blocks = [stand_ins.block(length) for length in (32, 32, 30, 22, 31, 24, 32)]
        for place, one in enumerate(blocks):
            for other in blocks[:place]:
                self.assertFalse(one.overlaps(other))
                self.assertNotEqual(int(one.network_address), int(other.broadcast_address) + 1)
