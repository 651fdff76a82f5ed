"""How sure a measured load is: the share of campaigns whose intervals hold what made them, and the day after."""

import unittest
from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import NDArray

from fenrask.estate.measures import likely_rate
from fenrask.records.days import LEVEL, PRIOR_CV, Days, days_of
from fenrask.records.dispersion import Dispersion
from fenrask.teletraffic.variation import day_level
from tests.support import many

Floats = NDArray[np.float64]
MONDAY = 20_752
"""2026-10-26, in days since 1970."""
CAMPAIGNS = many(150)
WITHIN = 0.03 + 2 * (LEVEL * (1 - LEVEL) / CAMPAIGNS) ** 0.5
SHAPE = 1 + 0.6 * np.sin(np.arange(24) / 24 * 2 * np.pi)
Levels = Callable[[np.random.Generator, int], tuple[Floats, Floats]]
"""For so many days, and one more: what each brings in the mean, as a share, and what it brings in fact."""


def varied(cv: float, growth: float = 0.0, weekend: float = 1.0) -> Levels:
    def levels(dice: np.random.Generator, days: int) -> tuple[Floats, Floats]:
        number = np.arange(days)
        mean = (1 + growth * number) * np.where(number % 7 >= 5, weekend, 1.0)
        return mean, mean * np.maximum(0.05, 1 + cv * dice.standard_normal(days))

    return levels


KINDS: dict[str, tuple[Levels, float, float]] = {
    "independent": (varied(0.0), 200.0, 1.0),
    "days that vary": (varied(0.15), 2000.0, 1.0),
    "bursts": (varied(0.1), 300.0, 20.0),
    "growing": (varied(0.05, growth=0.01), 1000.0, 1.0),
    "weekends": (varied(0.1, weekend=0.4), 1000.0, 1.0),
}
"""Levels, connections an hour in the mean, and how many come at once."""


def counted(dice: np.random.Generator, expected: Floats, batch: float) -> Floats:
    """Connections of each hour: batches of one size at independent times, with this ratio of variance to mean."""
    return dice.poisson(expected / batch) * batch


@cache
def campaign(seed: int, kind: str, days: int) -> tuple[Days, float, float]:
    """What is found of some days; what days are like after them, and what the next one brought, as found says."""
    levels, per_hour, batch = KINDS[kind]
    dice = np.random.default_rng(seed)
    mean, level = levels(dice, days + 1)
    expected = per_hour * SHAPE * level[:, None]
    hours = (MONDAY * 24 + np.arange(days * 24)).astype(np.int64)
    looked = np.full(hours.size, 3600, dtype=np.int64)
    found = days_of(hours, looked, counted(dice, expected[:days].reshape(-1), batch), Dispersion(batch))
    # What the profile has for the next day, were it like those before: the truth is a multiple of that.
    profile = np.array(found.by_hour)
    own = profile if profile.size == 24 else profile[24 * (days % 7) : 24 * (days % 7) + 24]
    due = float(own.sum()) * 3600
    # Days like these; or, where they are found to grow, as they are after these.
    like = float(mean[days]) if found.trend or kind != "growing" else float(mean[:days].mean())
    return found, per_hour * 24 * like / due, float(counted(dice, expected[days], batch).sum()) / due


class Coverage(unittest.TestCase):
    def test_of_the_mean_day_and_of_the_next(self) -> None:
        for kind in KINDS:
            for days in (1, 2, 3, 7, 28):
                held = np.zeros(2)
                for seed in range(CAMPAIGNS):
                    found, mean, after = campaign(seed, kind, days)
                    for n, (value, (low, high)) in enumerate(((mean, found.mean_day), (after, found.next_day))):
                        held[n] += low <= value <= high
                for name, share in zip(("mean day", "next day"), held / CAMPAIGNS, strict=True):
                    with self.subTest(kind=kind, days=days, what=name):
                        # Within three points, but for what so many campaigns leave to chance.
                        self.assertGreaterEqual(share, LEVEL - WITHIN)
                        # One day says nothing of others: where they are alike, what is assumed is too much.
                        if days > 1:
                            self.assertLessEqual(share, LEVEL + WITHIN)

    def test_what_is_planned_for_holds_the_next_day(self) -> None:
        """The load with 95 % confidence, on the day that 95 % do not exceed, against what the next day brought."""
        for kind in KINDS:
            for days in (1, 2, 3, 7, 28):
                held = 0
                for seed in range(CAMPAIGNS):
                    found, _, after = campaign(seed, kind, days)
                    bounds = {"mean_day_per_s": found.mean_day, "next_day_per_s": found.next_day}
                    entry = {"days": days, "new_per_s": 1.0, "planned_per_s": found.last, **bounds}
                    held += after <= likely_rate(entry)[2] * day_level(found.cv, 0.95) + self.chance(found)
                with self.subTest(kind=kind, days=days):
                    self.assertGreaterEqual(held / CAMPAIGNS, 0.95 - 0.03 - 2 * (0.95 * 0.05 / CAMPAIGNS) ** 0.5)

    @staticmethod
    def chance(found: Days) -> float:
        """What a day may bring more by chance alone, for which ports have room of their own (Erlang)."""
        return float(1.6449 * np.sqrt(found.chance))

    def test_one_day_is_taken_to_vary_as_it_is_said(self) -> None:
        found, _, _ = campaign(1, "days that vary", 1)
        self.assertEqual((found.free, found.cv), (0, 0.0))
        half = (found.mean_day[1] - found.mean_day[0]) / 2
        self.assertAlmostEqual(half, 1.6449 * PRIOR_CV, delta=0.003)
        self.assertAlmostEqual((found.next_day[1] - 1) / half, np.sqrt(2), delta=0.001)

    def test_the_profile_is_as_fine_as_days_bear_out(self) -> None:
        for kind, days, size in (
            ("independent", 28, 24),
            ("weekends", 7, 168),
            ("weekends", 3, 24),
            ("weekends", 28, 168),
        ):
            found, _, _ = campaign(3, kind, days)
            with self.subTest(kind=kind, days=days):
                self.assertEqual(len(found.by_hour), size)
                if size == 168:
                    means = np.array(found.by_hour).reshape(7, 24).mean(axis=1)
                    self.assertAlmostEqual(float(means[5:].mean() / means[:5].mean()), 0.4, delta=0.06)

    def test_an_hour_of_the_week_that_is_like_no_other_is_kept(self) -> None:
        """A job on Tuesdays at three: four of its kind are no chance."""
        dice, hours = np.random.default_rng(5), (MONDAY * 24 + np.arange(28 * 24)).astype(np.int64)
        expected = np.resize(100 * SHAPE, hours.size)
        expected[27::168] += 3000
        found = days_of(hours, np.full(hours.size, 3600), dice.poisson(expected).astype(float), Dispersion())
        self.assertEqual(int(np.argmax(found.shape)), 27)
        self.assertAlmostEqual(found.by_hour[27] * 3600, float(expected[27]), delta=150)

    def test_the_busiest_of_equal_hours_is_busiest_by_chance(self) -> None:
        """Seven days of 2,600 connections, evenly: the plan's peak is the mean, not the busiest of 168 hours."""
        peaks = []
        for seed in range(50):
            dice, hours = np.random.default_rng(seed), (MONDAY * 24 + np.arange(168)).astype(np.int64)
            starts = dice.poisson(2600 / 24, 168).astype(float)
            found = days_of(hours, np.full(168, 3600), starts, Dispersion())
            peaks.append(max(found.shape) * 3600 / (2600 / 24))
        self.assertLess(float(np.mean(peaks)), 1.03)
        self.assertGreater(float(np.mean(peaks)), 0.99)

    def test_growth_is_found_and_goes_on(self) -> None:
        found, mean, _ = campaign(2, "growing", 28)
        self.assertAlmostEqual(found.trend, 0.01 / (1 + 0.01 * 13.5), delta=0.003)
        self.assertAlmostEqual(found.last, mean, delta=0.08)

    def test_the_growth_of_a_month_lies_within_what_is_told(self) -> None:
        """Weeks that grow by a share of what they are, with weekends and days that vary: the truth in nine of ten."""
        for weeks, monthly, vary in ((3, 0.03, 0.1), (6, 0.05, 0.1), (8, -0.02, 0.05)):
            held = 0
            for seed in range(CAMPAIGNS):
                dice, days = np.random.default_rng(seed), np.arange(weeks * 7)
                level = np.where(days % 7 < 5, 1.0, 0.4) * (1 + monthly) ** (days / 30.4375)
                level = level * np.exp(dice.normal(0, vary, days.size))
                hours = (MONDAY * 24 + np.arange(days.size * 24)).astype(np.int64)
                starts = dice.poisson((300 * SHAPE * level[:, None]).reshape(-1)).astype(float)
                growth = days_of(hours, np.full(hours.size, 3600), starts, Dispersion()).growth
                assert growth is not None
                self.assertTrue(growth.low < growth.likely < growth.high)
                held += growth.low <= monthly <= growth.high
            with self.subTest(weeks=weeks, monthly=monthly):
                self.assertAlmostEqual(held / CAMPAIGNS, LEVEL, delta=WITHIN)

    def test_two_weeks_tell_no_growth_of_months(self) -> None:
        self.assertIsNone(campaign(2, "growing", 7)[0].growth)
        self.assertIsNotNone(campaign(2, "growing", 28)[0].growth)
