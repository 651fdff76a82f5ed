"""Hosts that open but so many connections: against sums over all states, Engset's recursion, and Erlang's."""

import math
import unittest
from fractions import Fraction
from itertools import product

from fenrask.errors import UnusableInput
from fenrask.teletraffic import capped_hosts_b, erlang_b, held_back
from tests.teletraffic.test_erlang import recursion


def by_all_states(ports: int, hosts: int, most: int, load: float) -> tuple[float, float]:
    """Refused of what the first host opens, and held back of what it wants, by the product form, state by state."""
    weights = [load**k / math.factorial(k) for k in range(most + 1)]
    full = able = unable = 0.0
    for state in product(range(most + 1), repeat=hosts):
        if sum(state) <= ports:
            weight = math.prod(weights[k] for k in state)
            able, unable = (able + weight, unable) if state[0] < most else (able, unable + weight)
            full += weight if state[0] < most and sum(state) == ports else 0.0
    return full / able, unable / (able + unable)


def engset_exact(ports: int, sources: int, load: Fraction) -> Fraction:
    """By the definition, in exact fractions: what the other sources leave to an arriving connection."""
    weights = [math.comb(sources - 1, k) * load**k for k in range(ports + 1)]
    return weights[ports] / sum(weights, Fraction(0))


class Capped(unittest.TestCase):
    def test_all_states(self) -> None:
        for case in ((2, 1, 5, 1.0), (3, 3, 2, 1.5), (5, 4, 3, 0.7), (4, 4, 3, 60.0), (12, 4, 3, 6.0), (1, 3, 3, 0.1)):
            with self.subTest(case=case):
                refused, back = by_all_states(*case)
                self.assertAlmostEqual(float(capped_hosts_b(*case)), refused, places=12)
                self.assertAlmostEqual(float(held_back(*case)), back, places=12)

    def test_one_connection_each_is_engsets(self) -> None:
        """The binomial law of the other sources (Engset 1918), in exact fractions."""
        for ports, hosts in ((1, 2), (1, 50), (2, 3), (5, 12), (15, 16), (16, 40), (40, 41), (60, 400), (300, 2000)):
            for load in (Fraction(1, 1000), Fraction(1, 20), Fraction(1, 4), Fraction(1), Fraction(7)):
                with self.subTest(ports=ports, hosts=hosts, load=load):
                    exact = engset_exact(ports, hosts, load)
                    self.assertAlmostEqual(float(capped_hosts_b(ports, hosts, 1, float(load))), float(exact), places=11)

    def test_edges(self) -> None:
        for case, expected in (
            ((0, 5, 1, 1.0), 1.0),
            ((5, 5, 1, 9.0), 0.0),
            ((3, 5, 1, 0.0), 0.0),
            ((2, 0, 1, 1.0), 0.0),
        ):
            self.assertEqual(float(capped_hosts_b(*case)), expected)
        self.assertEqual(capped_hosts_b([1, 2], [[5], [6]], 1, 0.5).shape, (2, 2))
        for bad in ((1.5, 5, 1, 1.0), (1, 5.5, 1, 1.0), (-1, 5, 1, 1.0), (1, 5, 1, math.nan)):
            with self.assertRaises(UnusableInput):
                capped_hosts_b(*bad)

    def test_limits_that_are_never_met_are_erlangs(self) -> None:
        for ports, load in ((100, 80.0), (1000, 900.0), (1000, 1400.0)):
            with self.subTest(ports=ports, load=load):
                found = float(capped_hosts_b(ports, 50, 400, load / 50))
                self.assertAlmostEqual(found, float(erlang_b(ports, load)), places=10)

    def test_ports_that_are_never_met_leave_erlangs_loss_to_the_hosts(self) -> None:
        for most, load in ((5, 4.0), (11, 15.0), (40, 20.0)):
            with self.subTest(most=most):
                self.assertEqual(float(capped_hosts_b(10_000, 30, most, load)), 0.0)
                self.assertAlmostEqual(
                    float(held_back(10_000, 30, most, load)), float(recursion(most, load)), places=12
                )
