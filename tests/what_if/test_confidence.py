"""Confidence against closed forms, against whole evaluations of single samples, and against what makes the spread."""

import math
from typing import Any

import numpy as np

from fenrask.evaluation import evaluate
from fenrask.what_if import confident, ranges, with_confidence
from tests.support import InFolder

Z95 = 1.6448536269514722


class Confidence(InFolder):
    RANGED: dict[str, Any] = {
        "flows": {
            "talk": {
                "per_host_per_s": {"low": 8, "likely": 10, "high": 15},
                "out_kib_per_connection": {"low": 20, "likely": 40, "high": 60},
            }
        }
    }

    def test_one_rate_against_its_law(self) -> None:
        # 10 hosts, 62 s each: the peak is the rate times 620, lognormal on either side of its median.
        evaluation = evaluate(self.estate(self.RANGED))
        found = confident(evaluation, 0.95, samples=20_000)
        [one] = found.exits
        self.assertEqual([each.name for each in ranges(evaluation.described)], [each.name for each in found.inputs])
        for got, rate in zip(one.peaks, (8, 10, 15), strict=True):
            self.assertAlmostEqual(got / (rate * 620), 1, delta=0.01)
        # By Erlang's inverse each number of addresses carries some rate; the law says how likely less is.
        up = math.log(1.5) / Z95
        for addresses, share in one.suffices.items():
            if not 0.02 < share < 0.98:
                continue
            carried = one.sized.assignment.room(addresses, one.sized.how, 1e-4) / 620
            side = up if carried > 10 else math.log(10 / 8) / Z95
            expected = 0.5 * math.erfc(-math.log(carried / 10) / side / math.sqrt(2))
            self.assertAlmostEqual(share, expected, delta=0.02)

    def test_single_samples_are_whole_evaluations(self) -> None:
        both = {
            "flows": {
                "talk": {"duration_s": {"low": 1, "likely": 2, "high": 9}},
                "more": {"from": "work", "to": "partner", "per_host_per_s": {"low": 1, "likely": 3, "high": 4}},
            }
        }
        found = confident(evaluate(self.estate(both)), 0.9, samples=400)
        peaks = []
        dice = np.random.default_rng(1)
        first, second = dice.standard_normal(400), dice.standard_normal(400)
        for a, b in list(zip(first, second, strict=True))[:400]:
            duration = 2 * math.exp(a * (math.log(2 / 1) if a < 0 else math.log(9 / 2)) / Z95)
            rate = 3 * math.exp(b * (math.log(3 / 1) if b < 0 else math.log(4 / 3)) / Z95)
            peaks.append(10 * (duration + 60) + 10 * rate * 61)
        for got, share in zip(found.exits[0].peaks, (5, 50, 95), strict=True):
            self.assertAlmostEqual(got / np.percentile(peaks, share), 1, places=6)

    def test_one_load_as_twenty_flows_is_as_uncertain_as_one(self) -> None:
        """Ranges of one workload and key move together; by another name for each they do not, and twenty are surer."""
        ranged = {"low": 4, "likely": 10, "high": 25}
        offer = {"offers": {"gate": {"ports": {"per_address": 400}}}}
        auto = {"exits": {"gate": {"addresses": "auto"}}}
        twentieth = {key: value / 20 for key, value in ranged.items()}
        each = {"from": "work", "to": "partner", "duration_s": 2}
        found = []
        for flows in (
            {"talk": {"per_host_per_s": ranged}},
            {"talk": None, **{f"f-{n}": {**each, "per_host_per_s": twentieth} for n in range(20)}},
            {
                "talk": None,
                **{f"f-{n}": {**each, "per_host_per_s": {**twentieth, "together": f"{n}"}} for n in range(20)},
            },
        ):
            [one] = confident(evaluate(self.estate({**auto, "flows": flows}, offer)), 0.95).exits
            found.append((one.wanted, one.if_apart))
        self.assertEqual(found[1][0], found[0][0])
        self.assertLess(found[2][0] or 0, 0.75 * (found[0][0] or 0))
        self.assertEqual(found[1][1], found[2][1])
        self.assertEqual(found[2][0], found[2][1])
        self.estate(
            {**auto, "flows": {"more": {**each, "per_host_per_s": ranged}, "talk": {"per_host_per_s": ranged}}}, offer
        )
        told = " ".join(self.program("capacity", "--confidence", "0.95").stdout.split())
        self.assertIn("are taken to move together; were they independent,", told)

    def test_what_moves_with_the_load_is_not_measured_in_its_place(self) -> None:
        """A range of another destination moves with the one that fills the ports, and is wider: it is not the one."""
        flows = {
            "talk": {"per_host_per_s": {"low": 8, "likely": 10, "high": 14}},
            "more": {"from": "work", "to": "store", "per_host_per_s": {"low": 0.01, "likely": 0.1, "high": 1}},
        }
        [one] = confident(evaluate(self.estate({"flows": flows})), 0.9).exits
        self.assertEqual(one.measure_first, "per_host_per_s of talk")

    def test_what_is_certain_is_certain_and_the_same_seed_says_the_same(self) -> None:
        evaluation = evaluate(self.estate())
        found = confident(evaluation, 0.95)
        self.assertEqual((found.inputs, found.exits[0].now, found.exits[0].measure_first), ((), 1.0, ""))
        self.assertEqual(found.month[0], found.month[2])
        ranged = evaluate(self.estate(self.RANGED))
        self.assertEqual(confident(ranged, 0.95).month, confident(ranged, 0.95).month)
        half, most = confident(ranged, 0.5), confident(ranged, 0.99)
        self.assertTrue(most.month[0] < half.month[0] < half.month[2] < most.month[2])
        self.assertAlmostEqual(float(((half.months >= half.month[0]) & (half.months <= half.month[2])).mean()), 0.5, 2)

    def test_where_nothing_is_a_range_every_command_says_so(self) -> None:
        self.estate()
        for command in ("capacity", "addresses", "charges", "compare"):
            with self.subTest(command):
                told = " ".join(self.json(command, "--confidence", "0.9", status=None)["summary"])
                self.assertIn("No load is a range", told)
                self.assertNotIn("0%", told.replace("90", ""))

    def test_the_bill_as_an_interval_and_what_to_measure(self) -> None:
        self.estate(self.RANGED)
        found = self.json("charges", "--confidence", "0.9", status=1)
        [row] = found["month"]
        self.assertLess(row["low_amount"], row["middle_amount"])
        likely = self.json("charges", status=None)["month_amount"]
        self.assertAlmostEqual(row["middle_amount"] / likely, 1, delta=0.05)
        self.assertIn("out_kib_per_connection of talk", " ".join(found["summary"]))
        self.assertEqual(self.json("capacity", "--confidence", "0.9", status=1)["level"], 0.9)

    def test_addresses_and_designs_with_confidence_agree_with_the_commands_that_they_are_made_of(self) -> None:
        described = self.estate(self.RANGED)
        after, exits = with_confidence(evaluate(described), 0.99)
        [one] = exits
        self.assertEqual(one.wanted, confident(evaluate(described), 0.99).exits[0].wanted)
        assert one.wanted is not None
        self.assertGreater(one.wanted, one.sized.addresses)
        self.assertEqual(after.capacity.exits[0].addresses, one.wanted)
        self.assertGreaterEqual(confident(after, 0.99).exits[0].now, 0.99)
        self.assertIn(
            f"needs {one.wanted} addresses",
            " ".join(self.json("addresses", "--confidence", "0.99", status=1)["summary"]),
        )
        rows = {row["design"]: row for row in self.json("compare", "--confidence", "0.9", status=1)["designs"]}
        shares = [row["cheapest"] for row in rows.values() if row["cheapest"] is not None]
        self.assertAlmostEqual(sum(shares), 1.0)
        [month] = self.json("charges", "--confidence", "0.9", status=None)["month"]
        self.assertEqual(rows["current"]["middle_amount"], month["middle_amount"])

    def test_ranges_that_are_none(self) -> None:
        for value in (
            {"low": 2, "likely": 1, "high": 3},
            {"low": 1, "high": 3},
            {"low": 0, "likely": 1, "high": 2},
            {"low": "a", "likely": 1, "high": 2},
        ):
            self.estate()
            done = self.program("capacity", "--set", f"flows.talk.per_host_per_s={value}")
            self.assertEqual(done.returncode, 2, value)
            self.assertIn("flows.talk.per_host_per_s", done.stderr)
