"""The bill as a function of a factor on all volumes, against that of estates whose flows carry as many times more."""

import random
import unittest
from fractions import Fraction
from typing import Any

from fenrask.charges import scaled_bill
from fenrask.evaluation import evaluate
from tests.designs.random_changes import small_estate
from tests.evaluation.test_reuse import read

_VOLUMES = ("out_kib_per_connection", "in_kib_per_connection", "out_gib_per_month", "in_gib_per_month")
_TIERS = [{"up_to_gb": 20, "rate": 0.03}, {"up_to_gb": 300, "rate": 0.02}, {"rate": 0.005}]


class Scaled(unittest.TestCase):
    def test_random_estates(self) -> None:
        """Graduated rates by exit and by estate, least sums, committed shares and sums."""
        graduated = 0
        for seed in range(12):
            dice, (estate, catalogue) = random.Random(seed), small_estate(seed)
            for offer in catalogue["offers"].values():
                if dice.random() < 0.6:
                    over = dice.choice(["exit", "estate"])
                    offer["rates"] = {**offer["rates"], "processed_per_gb": {"sum_over": over, "tiers": _TIERS}}
                if dice.random() < 0.5:
                    offer["rates"] = {**offer["rates"], "month_minimum": dice.choice([20, 90])}
            catalogue["commitments"] = {
                "share": {"share": 0.25, "items": ["hours", "processed"]},
                "sum": {"month_off": 5, "items": ["internet out"]},
            }
            now = evaluate(read(estate, catalogue))
            bill = scaled_bill(now.paths, now.plan)
            graduated += any(line.up_to is not None for line in bill.lines)
            for factor in (Fraction(1, 10), Fraction(1), Fraction(10)):
                flows: dict[str, Any] = {}
                for name, flow in estate["flows"].items():
                    carried = {key: flow.get(key, 0) for key in _VOLUMES if key in flow}
                    flows[name] = {**flow, **{key: float(one * factor) for key, one in carried.items()}}
                more = evaluate(read({**estate, "flows": flows}, catalogue))
                with self.subTest(seed=seed, factor=factor):
                    found = sum(bill.amounts(factor), Fraction(0))
                    self.assertAlmostEqual(float(found), float(more.bill.total), places=6)
        self.assertGreater(graduated, 4)
