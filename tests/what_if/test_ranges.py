"""Growth that is a range: each sample of it is the estate with that sample's numbers, evaluated as a whole."""

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from fenrask.errors import UnusableInput
from fenrask.estate import Described, LoadGrowth
from fenrask.evaluation import evaluate
from fenrask.what_if import confident
from fenrask.what_if.growth import after
from fenrask.what_if.schedule import Months, schedule
from tests.support import InFolder, merged

Z95 = 1.6448536269514722
MONTH, SAMPLES = 4, 24
OFFERS: dict[str, Any] = {
    "shared": {"ports": {"assignment": "shared-per-destination", "per_address": 300}},
    "blocks": {"ports": {"assignment": "host-block", "per_address": 1024, "block": 256}},
    "growing": {"ports": {"assignment": "growing-block", "per_address": 2048, "block": 64, "max_block": 512}},
}
"""Each with limits of what is held, opened, carried, and of hosts."""
LIMITS = {"connections": 1500, "new_per_s": 24, "gbit_per_s": 0.02, "hosts": 20}
GROWTHS: dict[str, dict[str, Any]] = {
    "hosts by the month": {"hosts_per_month": {"low": -2, "likely": 2, "high": 5}},
    "a step": {"steps": {"3": {"low": 1, "likely": 6, "high": 14}}},
    "a table": {"load": {"2": {"low": 1.1, "likely": 1.4, "high": 2.2}, "9": 5}},
    "a season": {"season": [2, 2, 2, 2, {"low": 1.8, "likely": 2.4, "high": 4}, *[2] * 7]},
    "load and hosts": {
        "load_per_month": {"low": 0.01, "likely": 0.05, "high": 0.2},
        "hosts_per_month": {"low": -2, "likely": 2, "high": 5},
    },
}


def two_piece(z: float, low: float, likely: float, high: float) -> float:
    """How far from what is likely a sample lies (Wallis 2014)."""
    return z * ((likely - low) if z < 0 else (high - likely)) / Z95


def samples_of(growth: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The growth of each sample in plain numbers: one draw for each range, loads on the logarithm, hosts by number."""
    dice = np.random.default_rng(1)
    drawn = {}
    # In the order in which an estate is read: what multiplies loads, then hosts.
    for key in ("load_per_month", "load", "season", "hosts_per_month", "steps"):
        if key in growth:
            drawn[key] = dice.standard_normal(SAMPLES)
    for sample in range(SAMPLES):
        found = dict(growth)
        for key, values in drawn.items():
            z, stated = float(values[sample]), growth[key]
            if key == "hosts_per_month":
                found[key] = stated["likely"] + two_piece(z, *(stated[one] for one in ("low", "likely", "high")))
            elif key == "steps":
                [(at, some)] = stated.items()
                step = some["likely"] + two_piece(z, *(some[one] for one in ("low", "likely", "high")))
                found[key] = {at: round(step)}
            elif key == "load_per_month":
                logs = [math.log(1 + stated[one]) for one in ("low", "likely", "high")]
                found[key] = math.exp(logs[1] + two_piece(z, *logs)) - 1
            else:
                found[key] = {**stated} if key == "load" else [*stated]
                at: Any = "2" if key == "load" else MONTH
                logs = [math.log(stated[at][one]) for one in ("low", "likely", "high")]
                found[key][at] = math.exp(logs[1] + two_piece(z, *logs))
        yield found


class RangesOfGrowth(InFolder):
    def growing(self, offer: str, growth: dict[str, Any], changes: Any = None, limits: Any = None) -> Described:
        changed = {
            "workloads": {"work": {"growth": growth}},
            "flows": {"talk": {"out_kib_per_connection": 60, "in_kib_per_connection": 10}},
            "exits": {"gate": {"addresses": 3}},
        }
        offered = {**OFFERS[offer], "limits": {"addresses": 8} | (LIMITS if limits is None else limits)}
        return self.estate(merged(changed, changes or {}), {"offers": {"gate": offered}})

    def test_each_sample_is_the_estate_with_its_numbers(self) -> None:
        """How often addresses suffice and limits are kept to: by whole evaluations, sample by sample."""
        seen = set()
        for offer in OFFERS:
            for name, growth in GROWTHS.items():
                described = self.growing(offer, growth)
                found = confident(evaluate(after(described, MONTH)), 0.9, SAMPLES, MONTH)
                suffices = dict.fromkeys(range(1, 60), 0)
                kept: dict[str, int] = {}
                for sample in samples_of(growth):
                    numbers = described.patched({"workloads": {"work": {"growth": sample}}}, "a sample")
                    one = evaluate(after(numbers, MONTH))
                    needed = one.capacity.exits[0].needed
                    for number in suffices:
                        suffices[number] += needed is not None and needed <= number
                    for limit in one.capacity.exits[0].limits:
                        if limit.limit not in ("ports", "addresses", "ports of one host"):
                            kept[limit.limit] = kept.get(limit.limit, 0) + (limit.use <= limit.capacity)
                [exit_] = found.exits
                with self.subTest(offer=offer, growth=name):
                    for number, share in exit_.suffices.items():
                        self.assertEqual(round(share * SAMPLES), suffices.get(number, SAMPLES), number)
                    told = {one.limit.limit: one.kept for one in found.limits}
                    expected = {limit: number / SAMPLES for limit, number in kept.items() if number < SAMPLES}
                    self.assertEqual(told, expected)
                    seen |= told.keys()
        self.assertEqual(seen, {"connections", "new per second", "bits per second", "hosts"})

    def test_a_schedule_holds_the_confidence_where_hosts_are_a_range(self) -> None:
        """In 300 futures drawn apart from it, the blocks of each month suffice in nine of ten; one fewer does not."""
        growth = GROWTHS["hosts by the month"]
        few = {"exits": {"gate": {"addresses": 1}}, "workloads": {"work": {"hosts": 3}}}
        found = schedule(self.growing("blocks", growth, few, limits={"addresses": 40}), 12, 0.9)
        [needed] = found.plan.needed
        dice = np.random.default_rng(7).standard_normal(300)
        rates = [2 + two_piece(float(z), -2, 2, 5) for z in dice]
        for month in range(1, 12):
            wanted = needed.wanted(month)
            # Four blocks of 256 ports to an address; each host wants one.
            short = [
                sum(3 + round(rate * month) > 4 * number for rate in rates) / 300 for number in (wanted, wanted - 1)
            ]
            self.assertLess(short[0], 0.1 + 0.05, month)
            self.assertGreater(short[1], 0.1 - 0.05, month)
        orders = [one for one in found.plan.due if one.order.month]
        self.assertTrue(orders)
        measured = {one.due.order.month: one for one in found.plan.beside.later}
        for due in orders:
            later, month = measured[due.order.month], due.order.month
            self.assertEqual(later.counted, "hosts")
            # What the addresses before it hold, less the hosts that come between the decision and its month.
            self.assertEqual(later.planned, 3 + 2 * round(later.planned / 2 - 1.5))
            self.assertEqual(later.below, 4 * (due.then - due.order.addresses) - (3 + 2 * month - later.planned))

    def test_limits_and_subnets_hold_the_confidence(self) -> None:
        """A limit of hosts, and a subnet, which the likely number keeps to and one sample in ten does not."""
        growth = {"hosts_per_month": {"low": 1, "likely": 1, "high": 3}}
        # The ninetieth of a hundred: one and two more, times where it lies between the median and the 95th.
        more = 1 + two_piece(1.2815515655446004, 1, 1, 3)
        first = next(month for month in range(9) if 10 + round(more * month) > LIMITS["hosts"])
        self.assertLessEqual(10 + first, LIMITS["hosts"])
        change = schedule(self.growing("shared", growth), 9).changes[0]
        self.assertEqual((change.begin, change.because and change.because.limit), (first, "hosts"))
        small = self.growing("shared", growth, {"subnets": {"app": {"prefix": "10.0.1.0/28"}}}, limits={})
        told = {one.about: (one.month, one.detail) for one in schedule(small, 9).plan.not_mended}
        month = next(month for month in range(9) if 10 + round(more * month) > 14)
        self.assertEqual(told["app"][0], month)
        self.assertIn("hosts of 14, with the confidence asked for", told["app"][1])

    def test_months_by_the_calendar_are_those_by_number(self) -> None:
        """As in use, steps and tables say them; and days of orders are those of the calendar."""
        by_number = {
            "workloads": {"work": {"in_use": {"from": 0, "until": 14}, "growth": {"steps": {3: 20}, "from": 2}}},
            "flows": {"talk": {"growth": {"load": {"1": 2}}}},
        }
        by_calendar = {
            "first_month": "2026-11",
            "workloads": {
                "work": {
                    "in_use": {"from": "2026-11", "until": "2028-01"},
                    "growth": {"steps": {"2027-02": 20}, "from": "2027-01"},
                }
            },
            "flows": {"talk": {"growth": {"load": {"2026-12": 2}}}},
        }
        one, other = self.estate(by_number), self.estate(by_calendar)
        for name in ("workloads", "flows"):
            self.assertEqual(getattr(one.estate, name), getattr(other.estate, name))
        later = other.patched({"first_month": "2027-01"}, "later")
        work = later.estate.workloads["work"]
        assert work.growth is not None and work.in_use is not None
        # What is over is in the load, and the hosts, of now.
        self.assertEqual((work.growth.steps, later.estate.flows["talk"].growth), ({1: 20}, LoadGrowth()))
        self.assertEqual((work.growth.from_, work.in_use.from_, work.in_use.until), (1, 0, 12))
        gone = other.patched({"first_month": "2028-03"}, "gone").estate.workloads["work"]
        assert gone.in_use is not None
        self.assertFalse(any(gone.in_use.is_in(month) for month in range(9)))
        for wrong, said in (
            ({"first_month": None}, "first_month"),
            ({"first_month": "2026-13"}, "a month such as 2026-12"),
            ({"first_month": "2000-01"}, "a month from 0 to 240 after 2000-01"),
            ({"first_month": 202611}, "a month such as 2026-12"),
            ({"first_month": "9999-12"}, "a month such as 2026-12"),
            ({"workloads": {"work": {"in_use": {"from": "2"}}}}, "a whole number, or a month such as 2026-12"),
            ({"workloads": {"work": {"growth": {"from": 0}}}}, "a month from 1 to 240 after 2026-11"),
            ({"flows": {"talk": {"growth": {"load": {"1": 3}}}}}, "each month once"),
        ):
            with self.subTest(wrong), self.assertRaisesRegex(UnusableInput, said):
                other.patched(wrong, "wrong")
        self.assertEqual([Months.of(other).begin(month) for month in (0, 1, 2, 3, 14)], [0, 30, 61, 92, 426])
        self.assertEqual([Months.of(other).around(day) for day in (0, 29, 30, 426)], [0, 0, 1, 14])
        told = self.json("charges", "--months", "3")
        self.assertEqual([row["calendar_month"] for row in told["months"]], ["2026-11", "2026-12", "2027-01"])
