"""Hayward, retries, limited search and shared limits, against brute-force chains and exact sums."""

import itertools
import math
import unittest
from decimal import Decimal, localcontext

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from fenrask.errors import NoAnswer, UnusableInput
from fenrask.teletraffic import (
    batches_b,
    erlang_b,
    hayward_b,
    kaufman_roberts,
    limited_search_b,
    refusal_when,
    with_retries,
)


def stationary(births: list[float], deaths: list[float]) -> list[float]:
    """The stationary distribution of a birth-death chain, by solving its balance equations as a matrix."""
    n = len(births) + 1
    rates = np.zeros((n, n))
    for k, rate in enumerate(births):
        rates[k, k + 1], rates[k + 1, k] = rate, deaths[k]
    rates -= np.diag(rates.sum(axis=1))
    system = np.vstack([rates.T, np.ones(n)])
    found = np.linalg.lstsq(system, np.concatenate([np.zeros(n), [1.0]]), rcond=None)[0]
    return [float(one) for one in found]


class Batches(unittest.TestCase):
    def test_exponential_holds_against_the_cuts_between_states(self) -> None:
        """n p(n) = rate of batches x sum of p(j) P(batch >= n - j): what goes up past each state comes down."""
        for batch, load, servers in ((5.0, 6.2, 20), (4.0, 37.0, 80), (2.0, 300.0, 340), (3.0, 0.5, 4)):
            chances, above = [1.0], 0.0
            q = 1 - 1 / batch
            for n in range(1, servers + 1):
                above = above * q + chances[-1]
                chances.append(load / batch * above / n)
            served = sum(n * one for n, one in enumerate(chances)) / sum(chances)
            with self.subTest(batch=batch, load=load):
                self.assertAlmostEqual(float(batches_b(servers, load, batch, 0.5)) / (1 - served / load), 1.0, places=6)

    def test_edges(self) -> None:
        self.assertEqual(float(batches_b(10, 0.0, 3.0, 0.5)), 0.0)
        self.assertEqual(float(batches_b(10**6, 10.0, 3.0, 0.9)), 0.0)
        self.assertAlmostEqual(float(batches_b(0, 10.0, 3.0, 0.7)), 1.0)
        # Of very many, as Hayward has it.
        self.assertAlmostEqual(float(batches_b(60_000, 59_500.0, 4.0, 0.5) / hayward_b(60_000, 59_500.0, 4.0)), 1.0)


class Peaked(unittest.TestCase):
    def test_hayward_is_the_continued_erlang_function(self) -> None:
        """1 / B = a times the integral of e^(-a t) (1 + t)^c, here by Simpson's rule in 60,000 steps."""
        for ports, load, z in ((100, 80, 1.7), (37, 30, 3.0), (64_512, 60_000, 2.3), (10, 3, 1.0), (25, 40, 1.3)):
            c, a = ports / z, load / z
            end = max(60.0 / a, (c - a) / a + 60 * math.sqrt(c + 1) / a + 60 / a)
            t = np.linspace(0, end, 60_001)
            log_f = -a * t + c * np.log1p(t)
            top = float(np.max(log_f))
            weights = np.ones(t.size)
            weights[1:-1:2], weights[2:-1:2] = 4, 2
            integral = float(np.dot(weights, np.exp(log_f - top))) * (t[1] - t[0]) / 3
            expected = math.exp(-top) / (a * integral)
            with self.subTest(ports=ports, z=z):
                self.assertAlmostEqual(float(hayward_b(ports, load, z)) / expected, 1, delta=1e-6)

    def test_no_peakedness_is_erlang_and_none_at_all_is_refused(self) -> None:
        self.assertEqual(float(hayward_b(50, 40, 1)), float(erlang_b(50, 40)))
        with self.assertRaises(UnusableInput):
            hayward_b(50, 40, 0)


class Retries(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(1, 500), st.floats(0.1, 1.4), st.floats(0, 0.99))
    @example(1, 0.5, 1.192092896e-07)
    def test_the_fixed_point_holds(self, ports: int, relative: float, share: float) -> None:
        fresh = ports * relative
        found = with_retries(ports, fresh, share)
        self.assertAlmostEqual(
            found.erlangs, fresh + share * found.erlangs * found.blocking, delta=1e-9 * found.erlangs
        )
        self.assertGreaterEqual(found.blocking, float(erlang_b(ports, fresh)) - 1e-12)

    def test_retries_without_end_have_no_answer(self) -> None:
        self.assertGreater(float(with_retries(10, 9.0, 1.0).erlangs), 9.0)
        with self.assertRaises(NoAnswer):
            with_retries(10, 10.0, 1.0)


class Searching(unittest.TestCase):
    def test_a_search_against_counting_every_case(self) -> None:
        for ports, tries in ((5, 1), (5, 2), (6, 3), (6, 6)):
            for taken in range(ports + 1):
                picks = list(itertools.combinations(range(ports), tries))
                missed = sum(all(one < taken for one in pick) for pick in picks) / len(picks)
                self.assertAlmostEqual(float(refusal_when(taken, ports, tries)), missed)

    def test_the_chain_against_its_balance_equations(self) -> None:
        for ports, load, tries in ((6, 4.0, 2), (12, 15.0, 3), (30, 20.0, 1), (20, 12.0, 20)):
            blocked = [float(refusal_when(k, ports, tries)) for k in range(ports + 1)]
            births = [load * (1 - one) for one in blocked[:-1]]
            p = stationary(births, [float(k) for k in range(1, ports + 1)])
            expected = sum(a * b for a, b in zip(p, blocked, strict=True))
            with self.subTest(ports=ports, tries=tries):
                self.assertAlmostEqual(float(limited_search_b(ports, load, tries)), expected, places=10)

    def test_many_loads_at_once_against_all_states_of_each(self) -> None:
        dice = np.random.default_rng(11)
        for _ in range(40):
            ports = int(10 ** dice.uniform(0, 3.5))
            tries = max(1, int(ports ** dice.uniform(0, 1)))
            loads = [0.0, *(10 ** dice.uniform(-2, np.log10(ports) + 0.3, 12)).tolist()]
            k = np.arange(ports + 1.0)
            blocked = refusal_when(k, ports, tries)
            found = limited_search_b(ports, loads, tries)
            self.assertEqual(found[0], 0.0)
            for load, share in zip(loads[1:], found[1:], strict=True):
                steps = np.log(load) + np.log1p(-blocked[:-1]) - np.log(k[1:])
                log_p = np.concatenate([[0.0], np.cumsum(steps)])
                weight = np.exp(log_p - log_p.max())
                expected = float(weight @ blocked / weight.sum())
                with self.subTest(ports=ports, tries=tries, load=load):
                    self.assertAlmostEqual(share, expected, delta=1e-9 * expected + 1e-290)

    def test_a_full_search_is_erlang_and_fewer_tries_refuse_more(self) -> None:
        for ports, load in ((50, 45.0), (500, 480.0)):
            self.assertAlmostEqual(
                float(limited_search_b(ports, load, ports)) / float(erlang_b(ports, load)), 1, places=9
            )
            by_tries = [float(limited_search_b(ports, load, tries)) for tries in (1, 2, 8, 32, ports)]
            self.assertEqual(by_tries, sorted(by_tries, reverse=True))

    def test_a_large_range_refuses_before_it_is_full(self) -> None:
        nearly_full = 0.93 * 63_000
        self.assertGreater(float(limited_search_b(63_000, nearly_full, 128)), 1e-5)
        self.assertLess(float(erlang_b(63_000, nearly_full)), 1e-60)

    def test_few_tries_on_a_large_range_against_the_whole_chain(self) -> None:
        # With one try the refused share at k is k / ports: births a (1 - k/c), deaths k, a binomial with p = a/(a+c).
        for ports in (1_000, 64_512, 300_000):
            for relative in (0.5, 1.0, 3.0, 500.0):
                load = ports * relative
                self.assertAlmostEqual(float(limited_search_b(ports, load, 1)), load / (load + ports), places=9)


class SharedLimits(unittest.TestCase):
    def test_against_every_state(self) -> None:
        for capacity, load, size in ((6, (1.0, 0.7), (1, 2)), (9, (2.0, 0.5, 0.3), (1, 3, 4)), (5, (1.5,), (2,))):
            ranges = [range(capacity // b + 1) for b in size]
            states = [
                s for s in itertools.product(*ranges) if sum(n * b for n, b in zip(s, size, strict=True)) <= capacity
            ]
            weight = {s: math.prod(a**n / math.factorial(n) for a, n in zip(load, s, strict=True)) for s in states}
            total = sum(weight.values())
            for number, b in enumerate(size):
                full = [s for s in states if sum(n * w for n, w in zip(s, size, strict=True)) + b > capacity]
                expected = sum(weight[s] for s in full) / total
                with self.subTest(capacity=capacity, size=b):
                    self.assertAlmostEqual(float(kaufman_roberts(capacity, load, size)[number]), expected, places=13)

    def test_one_class_is_erlang(self) -> None:
        for ports, load in ((10, 4.461), (2000, 1950.0)):
            self.assertAlmostEqual(
                float(kaufman_roberts(ports, [load], [1])[0]) / float(erlang_b(ports, load)), 1, places=11
            )

    def test_edges(self) -> None:
        self.assertEqual([*kaufman_roberts(0, [1.0, 2.0], [1, 3])], [1.0, 1.0])
        self.assertEqual([*kaufman_roberts(4, [0.0, 2.0], [1, 5])][1], 1.0)
        with localcontext() as context:
            context.prec = 30
            self.assertGreater(Decimal(float(kaufman_roberts(3000, [9000.0], [1])[0])), Decimal("0.6"))
        for sizes in ([0], [1.5], [-1]):
            with self.assertRaises(UnusableInput):
                kaufman_roberts(5, [1.0], sizes)
