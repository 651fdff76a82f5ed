"""Hosts that open but so many connections: against sums over all states, Engset's recursion, and Erlang's."""

import math
import unittest
from fractions import Fraction
from itertools import product

import numpy as np

from fenrask.errors import UnusableInput
from fenrask.teletraffic import PortsKept, capped_hosts, capped_hosts_b, capped_peakedness, erlang_b
from fenrask.teletraffic.holding import Exponential
from fenrask.teletraffic.simulation import Calls, Ending, Hosts, drawn
from tests.teletraffic.test_erlang import recursion
from tests.teletraffic.test_simulation import ran


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
                self.assertAlmostEqual(float(capped_hosts(*case).held_back), back, places=12)

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
                    float(capped_hosts(10_000, 30, most, load).held_back), float(recursion(most, load)), places=12
                )


def by_balance(ports: int, hosts: int, most: int, load: float, nodes: int) -> float:
    """Refused at nodes, from the equations of balance of all states: what each host has open at each node."""
    each = [one for one in product(range(most + 1), repeat=nodes) if sum(one) <= most]
    states = [
        one for one in product(each, repeat=hosts) if all(sum(host[n] for host in one) <= ports for n in range(nodes))
    ]
    number = {state: place for place, state in enumerate(states)}
    flow = np.zeros((len(states), len(states)))
    full, able = np.zeros(len(states)), np.zeros(len(states))
    for state, here in number.items():
        for host, node in product(range(hosts), range(nodes)):
            held = state[host][node]
            moved = [list(one) for one in state]
            if held:
                moved[host][node] = held - 1
                there = number[tuple(tuple(one) for one in moved)]
                flow[here, there] += held
                flow[here, here] -= held
            if sum(state[host]) < most:
                able[here] += 1
                moved = [list(one) for one in state]
                moved[host][node] = held + 1
                there_or_none = number.get(tuple(tuple(one) for one in moved))
                if there_or_none is None:
                    full[here] += 1
                else:
                    flow[here, there_or_none] += load / nodes
                    flow[here, here] -= load / nodes
    equations = np.vstack([flow.T, np.ones(len(states))])
    chances = np.linalg.lstsq(equations, np.eye(1, len(states) + 1, len(states))[0], rcond=None)[0]
    return float(chances @ full / (chances @ able))


class KeptAndDivided(unittest.TestCase):
    def test_ports_that_are_fewer_than_a_host_may_open_are_erlangs_with_the_whole_hold(self) -> None:
        for ports, most, load, after in ((3, 5, 2.0, 0.5), (8, 8, 6.0, 3.0), (20, 40, 9.0, 1.0)):
            with self.subTest(ports=ports, most=most):
                found = float(capped_hosts(ports, 1, most, load, PortsKept(after)).refused)
                self.assertAlmostEqual(found / float(recursion(ports, load * (1 + after))), 1, delta=0.02)

    def test_nodes_by_the_balance_of_all_states(self) -> None:
        for case in ((2, 3, 2, 1.5, 2), (1, 2, 2, 0.4, 2), (2, 2, 3, 5.0, 2), (1, 3, 1, 2.0, 3)):
            with self.subTest(case=case):
                found = float(capped_hosts(*case[:4], PortsKept(nodes=case[4])).refused)
                self.assertAlmostEqual(found / by_balance(*case), 1, delta=0.08)

    def test_ports_kept_after_by_drawing_connections(self) -> None:
        """A host's own block, pools of hosts, nodes; each port kept for a fixed time."""
        for ports, hosts, most, load, after, nodes in (
            (18, 1, 15, 12.0, 0.125, 1), (12, 1, 8, 20.0, 0.125, 1), (7, 1, 4, 3.0, 0.5, 1),
            (60, 20, 3, 2.0, 0.5, 1), (70, 15, 4, 3.0, 1.0, 1), (24, 20, 2, 1.2, 1.0, 2),
        ):  # fmt: skip
            with self.subTest(ports=ports, most=most, after=after, nodes=nodes):
                law = [Ending(1.0, Exponential(1.0), after)]
                calls = Calls(drawn([(np.full(1, load * hosts), law)]), 1, 12_000 / hosts)
                found = ran(Hosts(calls, ports, hosts, most, nodes=nodes))
                said = float(capped_hosts(ports, hosts, most, load, PortsKept(after, nodes)).refused)
                self.assertAlmostEqual(said, found.share, delta=0.2 * found.share + found.high - found.share)
                self.assertGreater(found.share, 1e-4)

    def test_they_hold_less_unevenly_than_independent_connections(self) -> None:
        # One connection at most: on or off, so that the variance of one host is p (1 - p).
        for load in (0.2, 1.0, 5.0):
            self.assertAlmostEqual(float(capped_peakedness(1, load)), 1 / (1 + load), places=9)
        self.assertAlmostEqual(float(capped_peakedness(60, 5.0, 2.0)), 1.0, delta=1e-6)
        self.assertLess(float(capped_peakedness(4, 5.0, 1.0)), 0.95)
