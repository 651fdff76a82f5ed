"""Connections held over time: closed forms, numerical integration, properties of every hold law."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.errors import UnusableInput
from fenrask.teletraffic import Summands, concurrent, concurrent_each, concurrent_sum, peak_concurrent
from fenrask.teletraffic.holding import (
    Delayed,
    Empirical,
    Exponential,
    Fixed,
    HoldingTime,
    Lognormal,
    Mixture,
    balanced,
    hyperexponential,
)

LAWS: tuple[HoldingTime, ...] = (
    Exponential(3.0),
    Fixed(4.0),
    Lognormal(5.0, 1.2),
    Lognormal.of_percentile(0.4, 1.3),
    hyperexponential([0.7, 0.3], [1.0, 20.0]),
    Delayed(Exponential(2.0), 60.0),
    Mixture(((0.55, Delayed(Lognormal(0.4, 0.9), 75.0)), (0.45, Delayed(Lognormal(0.4, 0.9), 300.0)))),
    Empirical((1.0, 2.0, 2.0, 9.0)),
)


class Laws(unittest.TestCase):
    def test_integrated_survival_against_numerical_integration(self) -> None:
        for law in LAWS:
            for end in (0.5, 3.0, 40.0):
                edges = np.linspace(0, end, 400_001)
                middles = (edges[1:] + edges[:-1]) / 2
                expected = float(np.sum(law.survival(middles)) * (edges[1] - edges[0]))
                with self.subTest(law=law, end=end):
                    found = float(law.integrated_survival(np.array([end]))[0])
                    self.assertAlmostEqual(found / expected, 1, delta=1e-5)

    def test_all_reach_their_mean_and_begin_at_nothing(self) -> None:
        for law in LAWS:
            with self.subTest(law=law):
                self.assertAlmostEqual(float(law.integrated_survival(np.array([1e7]))[0]) / law.mean_s, 1, places=9)
                self.assertEqual(float(law.integrated_survival(np.array([0.0]))[0]), 0.0)

    def test_a_lognormal_of_a_percentile_has_it(self) -> None:
        for mean, p95 in ((0.4, 1.3), (10.0, 30.0), (5.0, 5.0), (5.0, 2.0)):
            law = Lognormal.of_percentile(mean, p95)
            with self.subTest(mean=mean, p95=p95):
                self.assertAlmostEqual(law.mean_s, mean)
                if law.sigma:
                    self.assertAlmostEqual(float(law.survival(np.array([p95]))[0]), 0.05, places=12)
        with self.assertRaises(UnusableInput):
            Lognormal.of_percentile(1.0, 4.0)

    def test_balanced_means_have_the_variation_asked_for(self) -> None:
        for mean, cv in ((3.0, 1.0), (0.4, 2.0), (60.0, 8.0)):
            law = balanced(mean, cv)
            # E X^2 = sum of share x 2 mean^2 for exponentials.
            second = sum(float(share) * 2 * float(part.mean_s) ** 2 for share, part in law.parts)
            with self.subTest(mean=mean, cv=cv):
                self.assertAlmostEqual(float(law.mean_s), mean)
                self.assertAlmostEqual((second - mean**2) / mean**2 / cv**2, 1, places=9)
        with self.assertRaises(UnusableInput):
            balanced(1.0, 0.5)

    def test_unusable_laws(self) -> None:
        with self.assertRaises(UnusableInput):
            Mixture(((0.5, Exponential(1.0)),))
        with self.assertRaises(UnusableInput):
            Empirical.of([])
        self.assertEqual(Empirical.of([[1, 3], [2, 2]]).mean_s, 2.0)


class Held(unittest.TestCase):
    def test_level_rates_are_littles_law_whatever_the_law(self) -> None:
        for law in LAWS:
            for step, steps in ((1.0, 1), (3600.0, 24), (7.0, 3)):
                with self.subTest(law=law, step=step):
                    found = concurrent([0.0, 1.7, 12_345.6], [2.5] * steps, step, law)
                    np.testing.assert_allclose(found, 2.5 * law.mean_s, rtol=1e-12)

    def test_a_sine_against_its_closed_form(self) -> None:
        """Exponential holds, rate 1 + sin(w t): m = h + h (sin wt - w h cos wt) / (1 + w^2 h^2) (Eick et al. 1993)."""
        period, holding_time = 1000.0, 150.0
        n, w = 4000, 2 * math.pi / 1000.0
        middles = (np.arange(n) + 0.5) * period / n
        times = np.linspace(0, period, 13)
        found = concurrent(times, 1 + np.sin(w * middles), period / n, Exponential(holding_time))
        exact = holding_time + holding_time * (np.sin(w * times) - w * holding_time * np.cos(w * times)) / (
            1 + (w * holding_time) ** 2
        )
        np.testing.assert_allclose(found, exact, rtol=1e-6)
        peak = peak_concurrent(1 + np.sin(w * middles), period / n, Exponential(holding_time))
        self.assertAlmostEqual(peak.lag_s, math.atan(w * holding_time) / w, delta=period / n)

    def test_exponential_holds_against_the_exact_recursion_of_steps(self) -> None:
        rates, step, holding_time = [0.0, 5.0, 1.0, 8.0], 10.0, 17.0
        decay = math.exp(-step / holding_time)
        # m at step ends: m' = m e^(-s/h) + rate h (1 - e^(-s/h)); periodic, so solved for m(0).
        gain = 0.0
        for rate in rates:
            gain = gain * decay + rate * holding_time * (1 - decay)
        m = gain / (1 - decay**4)
        for number, rate in enumerate(rates):
            with self.subTest(number=number):
                self.assertAlmostEqual(concurrent(number * step, rates, step, Exponential(holding_time)), m, places=10)
            m = m * decay + rate * holding_time * (1 - decay)

    def test_what_lies_years_back_is_summed_as_if_it_were_followed(self) -> None:
        """Against every step back until nothing is left; and a day is a week of seven such days."""
        rates, step = np.array([0.2, 3.0, 1.0, 0.6]), 21_600.0
        times = np.array([0.0, 9000.0, 50000.0])
        for law in (
            Lognormal(1e6, 1.0),
            Delayed(Lognormal(4e5, 1.1), 9e5),
            Mixture(((0.5, Fixed(3e6)), (0.5, Lognormal(1e6, 0.7)))),
            # All end within hours of one another, weeks after they began: far away, and yet not smooth.
            *(Lognormal(40.3 * 86400, sigma) for sigma in (0.0, 0.001, 0.004, 0.01, 0.03, 0.05, 0.08, 0.1, 0.2)),
        ):
            with self.subTest(law):
                edges = times[:, None] % step + step * np.arange(-1, 40_000)
                held = np.diff(law.integrated_survival(np.maximum(edges, 0.0)))
                which = (times // step).astype(int)[:, None] - np.arange(held.shape[1])
                rest = (law.mean_s - held.sum(axis=1)) * rates.mean()
                followed = np.sum(held * rates[which % 4], axis=1) + rest
                np.testing.assert_allclose(concurrent(times, rates, step, law), followed, rtol=1e-12)
        heavy = Lognormal.of_percentile(0.4, 0.0013)
        week = concurrent(times, np.tile(rates, 7), step, heavy)
        np.testing.assert_allclose(week, concurrent(times, rates, step, heavy), rtol=1e-12)

    def test_fixed_holds_count_the_arrivals_of_their_length(self) -> None:
        rates = [1.0, 4.0, 2.0]
        self.assertAlmostEqual(concurrent(25.0, rates, 10.0, Fixed(12.0)), 5 * 2.0 + 7 * 4.0)
        self.assertAlmostEqual(concurrent(5.0, rates, 10.0, Fixed(40.0)), 5 * 1.0 + 10 * (2 + 4 + 1) + 5 * 2.0)

    def test_a_peak_after_midnight_and_between_steps(self) -> None:
        rates = [0.0] * 23 + [10.0]
        law = Delayed(Fixed(0.0), 5400.0)
        peak = peak_concurrent(rates, 3600.0, law)
        self.assertAlmostEqual(peak.concurrent, 36_000.0)
        later = peak_concurrent(rates, 3600.0, Mixture(((0.5, Fixed(3600.0)), (0.5, Fixed(7200.0)))))
        self.assertAlmostEqual(later.time_s, 0.0, delta=1.0)
        self.assertAlmostEqual(later.lag_s, 3600.0, delta=1.0)

    def test_many_laws_at_once_are_each_as_alone(self) -> None:
        rates, times = [0.0, 5.0, 1.0, 8.0], np.array([0.0, 3.3, 17.0, 39.9])
        laws = [*LAWS, Exponential(900.0), Fixed(0.2), Delayed(Exponential(0.1), 7.0), Lognormal(30.0, 0.0), *LAWS[:3]]
        together = concurrent_each(times, rates, 10.0, laws)
        for number, law in enumerate(laws):
            with self.subTest(law=law):
                np.testing.assert_allclose(
                    together[number], concurrent(times, rates, 10.0, law), rtol=1e-12, atol=1e-12
                )

    def test_loads_of_many_profiles_together_are_the_sum_of_each_alone(self) -> None:
        profiles, times = (
            [[0.0, 5.0, 1.0, 8.0], [2.0] * 4, [9.0, 0.0, 0.0, 0.0]],
            np.array([0.0, 3.3, 17.0, 39.9, -4.0]),
        )
        laws = [*LAWS, Exponential(900.0), Fixed(0.2), *LAWS[:3]]
        which, factors = [number % 3 for number in range(len(laws))], np.linspace(0.5, 4.0, len(laws))
        each = [
            factor * concurrent(times, profiles[one], 10.0, law)
            for one, factor, law in zip(which, factors, laws, strict=True)
        ]
        together = concurrent_sum(times, profiles, 10.0, Summands(which, factors, laws))
        np.testing.assert_allclose(together, sum(each), rtol=1e-12)

    def test_of_a_level_top_the_beginning_is_told(self) -> None:
        peak = peak_concurrent([1.0, 4.0, 2.0], 3600.0, Fixed(600.0))
        self.assertAlmostEqual(peak.time_s, 4200.0, delta=0.1)
        self.assertAlmostEqual(peak.lag_s, 600.0, delta=0.1)

    def test_unusable_numbers(self) -> None:
        for times, rates, step in (
            ([0.0], [1.0], 0.0),
            ([0.0], [], 1.0),
            ([0.0], [-1.0], 1.0),
            ([math.nan], [1.0], 1.0),
        ):
            with self.assertRaises(UnusableInput):
                concurrent(times, rates, step, Exponential(1.0))

    @settings(max_examples=40, deadline=None)
    @given(
        st.lists(st.floats(0, 100), min_size=1, max_size=12),
        st.floats(0.5, 500),
        st.sampled_from(LAWS),
        st.floats(-1e4, 1e4),
    )
    def test_repeats_adds_and_never_passes_the_highest_rate(
        self, rates: list[float], step: float, law: HoldingTime, time: float
    ) -> None:
        one = float(concurrent(time, rates, step, law))
        period = len(rates) * step
        self.assertAlmostEqual(one, float(concurrent(time + period, rates, step, law)), delta=1e-6 * (1 + one))
        doubled = float(concurrent(time, [2 * rate for rate in rates], step, law))
        self.assertAlmostEqual(doubled, 2 * one, delta=1e-9 * (1 + one))
        self.assertLessEqual(one, max(rates) * law.mean_s * (1 + 1e-9) + 1e-9)
        self.assertLessEqual(one, peak_concurrent(rates, step, law).concurrent * (1 + 1e-6) + 1e-9)
