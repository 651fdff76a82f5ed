"""Erlang's formula against its recursion in exact and in long decimal arithmetic, and published tables."""

import math
import unittest
from decimal import Decimal, localcontext

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.errors import UnusableInput
from fenrask.teletraffic import erlang_b, erlangs_for, log_erlang_b, ports_for


def recursion(ports: int, erlangs: float) -> Decimal:
    """B by the classic recursion B(k) = a B(k-1) / (k + a B(k-1)), in 40 digits: it loses none."""
    with localcontext() as context:
        context.prec, context.Emin = 40, -10_000_000
        load, blocking = Decimal(erlangs), Decimal(1)
        for k in range(1, ports + 1):
            blocking = load * blocking / (k + load * blocking)
        return blocking


class AgainstTheRecursion(unittest.TestCase):
    def test_every_size_and_load(self) -> None:
        relative = np.array([0.05, 0.3, 0.5, 0.7, 0.9, 0.99, 1.0, 1.01, 1.5, 2.69, 2.71, 5.0])
        for ports in (1, 2, 3, 10, 39, 40, 41, 100, 119, 120, 121, 1000, 4096):
            loads = ports * relative
            together, shares = log_erlang_b(np.full(loads.shape, ports), loads), erlang_b(ports, loads)
            for load, log_b, share in zip(loads.tolist(), together.tolist(), shares.tolist(), strict=True):
                exact = recursion(ports, load)
                with self.subTest(ports=ports, load=load):
                    if exact > Decimal("1e-12"):
                        for found in (erlang_b(ports, load), share):
                            self.assertLess(abs(Decimal(float(found)) / exact - 1), 1e-12)
                    for found in (log_erlang_b(ports, load), log_b):
                        error = abs(float(found) - float(exact.ln()))
                        self.assertLess(error, 1e-11 + 4e-16 * abs(float(exact.ln())))

    def test_next_to_no_load_on_many_servers(self) -> None:
        """All but no call is lost: p(c), whose logarithm is below any float's."""
        servers, load = np.array([120.0, 125.0, 140.0]), np.array([0.109375, 0.001, 1.5])
        for found in (log_erlang_b(servers, load), [log_erlang_b(c, a) for c, a in zip(servers, load, strict=True)]):
            for c, a, each in zip(servers, load, np.asarray(found), strict=True):
                self.assertAlmostEqual(float(each) / (c * math.log(a) - a - math.lgamma(c + 1)), 1.0, places=12)

    def test_a_full_address_at_one_in_a_thousand_million(self) -> None:
        load = float(erlangs_for(64_512, 1e-9))
        self.assertLess(abs(recursion(64_512, load) / Decimal("1e-9") - 1), Decimal("1e-10"))

    def test_one_pair_alone_is_as_in_an_array(self) -> None:
        """Scalars have a quicker form of their own: the same to the last digits, wherever either holds."""
        dice = np.random.default_rng(7)
        ports = np.concatenate([np.floor(10 ** dice.uniform(0, 7, 800)), 10 ** dice.uniform(0, 7, 200)])
        load = ports * 10 ** dice.uniform(-4, 1, 1000)
        together = log_erlang_b(ports, load)
        alone = np.array([log_erlang_b(float(c), float(a)) for c, a in zip(ports, load, strict=True)])
        self.assertLess(np.max(np.abs(alone - together) / np.maximum(1.0, np.abs(together))), 5e-13)

    def test_inverses_of_many_meet_their_targets(self) -> None:
        dice = np.random.default_rng(8)
        load = 10 ** dice.uniform(-3, 6.5, 2000)
        for target in (0.9, 0.1, 1e-3, 1e-9, 1e-15):
            ports = ports_for(load, target)
            self.assertTrue(np.all(log_erlang_b(ports, load) <= math.log(target)))
            fewer = ports - 1
            self.assertTrue(np.all(log_erlang_b(fewer, load)[fewer > 0] > math.log(target)))
            found = erlangs_for(np.maximum(1, ports), target)
            self.assertLess(np.max(np.abs(log_erlang_b(np.maximum(1, ports), found) - math.log(target))), 1e-10)


class Published(unittest.TestCase):
    def test_classic_table_at_one_per_cent(self) -> None:
        for ports, load in ((1, 0.0101), (5, 1.361), (10, 4.461), (20, 12.03), (50, 37.90), (100, 84.06)):
            with self.subTest(ports=ports):
                self.assertAlmostEqual(float(erlangs_for(ports, 0.01)) / load, 1, delta=5e-4)
                self.assertAlmostEqual(float(erlang_b(ports, load)), 0.01, delta=1e-4)


class Edges(unittest.TestCase):
    def test_limits(self) -> None:
        self.assertEqual(erlang_b(5, 0.0), 0.0)
        self.assertEqual(erlang_b(0, 3.0), 1.0)
        self.assertEqual(ports_for(0.0, 0.01), 0)
        self.assertEqual(erlangs_for(0, 0.01), 0.0)
        self.assertAlmostEqual(float(erlang_b(1e7, 1e9)), 1 - 1e7 / 1e9, places=6)

    def test_unusable_numbers_are_told(self) -> None:
        for call in (
            lambda: erlang_b(-1, 3),
            lambda: erlang_b(3, math.nan),
            lambda: erlang_b(3, math.inf),
            lambda: ports_for(3, 0),
            lambda: ports_for(3, 1),
            lambda: erlangs_for(3, 2),
        ):
            with self.assertRaises(UnusableInput):
                call()

    def test_shapes_broadcast(self) -> None:
        grid = erlang_b(np.array([[1.0], [10.0]]), np.array([0.5, 5.0, 50.0]))
        self.assertEqual(grid.shape, (2, 3))
        self.assertEqual(float(grid[1, 1]), float(erlang_b(10, 5.0)))


class Properties(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(st.floats(0.01, 1e5), st.sampled_from([0.5, 1e-2, 1e-4, 1e-9, 1e-15]))
    def test_ports_for_is_the_least(self, load: float, target: float) -> None:
        ports = int(ports_for(load, target))
        self.assertLessEqual(float(log_erlang_b(ports, load)), math.log(target))
        self.assertGreater(float(log_erlang_b(ports - 1, load)), math.log(target))

    @settings(max_examples=100, deadline=None)
    @given(st.integers(1, 10**6), st.floats(1e-12, 0.5))
    def test_erlangs_for_inverts(self, ports: int, target: float) -> None:
        load = float(erlangs_for(ports, target))
        self.assertAlmostEqual(float(erlang_b(ports, load)) / target, 1, delta=1e-8)

    @settings(max_examples=50, deadline=None)
    @given(st.integers(1, 2000), st.integers(1, 2000), st.floats(0.1, 3000), st.floats(0.1, 3000))
    def test_splitting_a_pool_never_helps(self, c: int, d: int, a: float, b: float) -> None:
        apart = (a * float(erlang_b(c, a)) + b * float(erlang_b(d, b))) / (a + b)
        self.assertLessEqual(float(erlang_b(c + d, a + b)), apart + 1e-12)
