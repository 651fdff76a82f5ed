"""Pools of ports where something else than random load counts: against Erlang's formula, brute force and chance."""

import heapq
import random
import unittest
from dataclasses import replace

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS, Stream
from fenrask.capacity.assignments.contract import Division
from fenrask.capacity.assignments.pools import blocking, least_for
from fenrask.teletraffic import erlang_b
from tests.capacity.loads import level_stream as stream
from tests.capacity.loads import ports


def one_by_one(hosts: int, busy: float, nodes: int, each: int, seed: int, end: float = 400.0) -> float:
    """Hosts of one connection each, each new one sent to a node drawn by chance: the share that finds it full."""
    draw = random.Random(seed)
    rate = busy / (1 - busy)
    events = [(draw.expovariate(rate), host, -1) for host in range(hosts)]
    heapq.heapify(events)
    taken, attempts, failed = [0] * nodes, 0, 0
    while events[0][0] < end:
        now, host, node = heapq.heappop(events)
        if node >= 0:
            taken[node] -= 1
            heapq.heappush(events, (now + draw.expovariate(rate), host, -1))
            continue
        node = draw.randrange(nodes)
        full = taken[node] >= each
        if now > 20:
            attempts, failed = attempts + 1, failed + full
        if full:
            heapq.heappush(events, (now + draw.expovariate(rate), host, -1))
        else:
            taken[node] += 1
            heapq.heappush(events, (now + draw.expovariate(1.0), host, node))
    return failed / attempts


class AlwaysOpen(unittest.TestCase):
    def with_always_open(self, random_load: float, always_open: float) -> Stream:
        one = stream(random_load) if random_load else stream(1.0).scaled(0.0)
        return replace(one, load=replace(one.load, persistent=always_open))

    def test_they_come_off_the_ports_for_good(self) -> None:
        """3,000 of 3,800 ports are taken; what arrives meets 800 (Erlang's formula)."""
        one = self.with_always_open(900.0, 3000.0)
        [found] = blocking(np.array([3900.0]), one, Division(3800), None)
        self.assertAlmostEqual(found, float(erlang_b(800, 900)), places=12)
        self.assertAlmostEqual(found, 0.119, places=3)

    def test_alone_they_fit_exactly(self) -> None:
        for always_open, size, share in ((60, 64, 0.0), (64, 64, 0.0), (80, 64, 16 / 80)):
            one = self.with_always_open(0.0, always_open)
            self.assertAlmostEqual(blocking(np.array([always_open]), one, Division(size), None)[0], share)

    def test_the_least_addresses_hold_both(self) -> None:
        one = self.with_always_open(900.0, 3000.0)
        needed = least_for([one], lambda _, addresses: Division(addresses * 1000), None, 1e-3)
        self.assertEqual(needed, 4)
        self.assertLessEqual(float(erlang_b(1000, 900)), 1e-3)
        self.assertGreater(float(erlang_b(1, 900)), 1e-3)


class Thinned(unittest.TestCase):
    def test_hosts_that_a_hash_thins_as_drawn_one_by_one(self) -> None:
        """100 hosts of one connection each, which want nine in the mean, so that 90 are busy; 4 nodes of 25 ports."""
        how = ports("node-share", 100, nodes=4)
        capped = replace(stream(900.0), sources=100.0)
        use = ASSIGNMENTS["node-share"].use([capped], 1, how, 1e-4)
        drawn = np.array([one_by_one(100, 0.9, 4, 25, seed) for seed in range(12)])
        error = float(drawn.std(ddof=1)) / np.sqrt(drawn.size)
        self.assertLess(abs(use.blocking - float(drawn.mean())) if use else 1.0, 4 * error)
        self.assertGreater(use.blocking if use else 0.0, 0.1)

    def test_few_hosts_by_all_states(self) -> None:
        """Three hosts, two nodes of one port: the chain of (k1, k2) solved by hand, as linear equations."""
        rate, states = 0.5 / 0.5 / 2, [(0, 0), (1, 0), (0, 1), (1, 1)]
        matrix = np.zeros((4, 4))
        for i, (a, b) in enumerate(states):
            for j, other in enumerate(states):
                change = (other[0] - a, other[1] - b)
                if change in ((1, 0), (0, 1)):
                    matrix[i, j] = (3 - a - b) * rate
                elif change in ((-1, 0), (0, -1)):
                    matrix[i, j] = 1.0
        np.fill_diagonal(matrix, -matrix.sum(axis=1))
        system = np.vstack([matrix.T, np.ones(4)])
        chance = np.linalg.lstsq(system, np.array([0, 0, 0, 0, 1.0]), rcond=None)[0]
        arriving = np.array([3 - a - b for a, b in states]) * chance
        full = arriving[1] + arriving[3]
        capped = replace(stream(3.0), sources=3.0)
        [found] = blocking(np.array([3.0]), capped, Division(1, even_cells=2), None)
        self.assertAlmostEqual(found, full / arriving.sum(), places=9)


class Monotone(unittest.TestCase):
    def test_more_load_never_blocks_less_whatever_the_assignment(self) -> None:
        hows = (
            ports("growing-block", 1024, block=16, max_block=256),
            ports("host-block", 1024, block=64),
            ports("shared-once", 1024),
            ports("node-share", 1024, nodes=4),
        )
        for how in hows:
            copies = 20.0 if ASSIGNMENTS[how.assignment].view == "hosts" else 1.0
            last = 0.0
            for load in np.linspace(2, 1200 / copies, 60):
                use = ASSIGNMENTS[how.assignment].use([replace(stream(float(load)), copies=copies)], 2, how, 1e-4)
                self.assertGreaterEqual(use.blocking if use else 0.0, last - 1e-15, (how.assignment, load))
                last = use.blocking if use else last

    def test_retries_are_folded_into_the_target(self) -> None:
        """What meets the target with retries is what their fixed point meets (plain iteration)."""
        for share in (0.3, 0.9):
            one = replace(stream(950.0), retry_share=share)
            needed = least_for([one], lambda _, addresses: Division(addresses * 50), None, 0.01) or 0
            for addresses, meets in ((needed, True), (needed - 1, False)):
                load = 950.0
                for _ in range(500):
                    load = 950 + share * load * float(erlang_b(addresses * 50, load))
                self.assertEqual(float(erlang_b(addresses * 50, load)) <= 0.01, meets)
