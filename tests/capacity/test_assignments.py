"""Every port assignment against brute force: each way that hosts can fall, each way that blocks can lie."""

import unittest
from collections import Counter
from itertools import product

import numpy as np

from fenrask.capacity import ASSIGNMENTS, PortUse, Stream
from fenrask.capacity.assignments.host_block import packed
from fenrask.estate import Ports
from fenrask.teletraffic import limited_search_b
from tests.capacity.loads import day_stream, level_stream, ports
from tests.teletraffic.test_erlang import recursion


def use(how: Ports, streams: list[Stream], addresses: int, target: float = 1e-4) -> PortUse:
    found = ASSIGNMENTS[how.assignment].use(streams, addresses, how, target)
    assert found is not None
    return found


def least(how: Ports, streams: list[Stream], target: float = 1e-4) -> int | None:
    return ASSIGNMENTS[how.assignment].least_addresses(streams, how, target)


def by_every_fall(hosts: int, cells: int, size: int, concurrent: float) -> float:
    """The share refused, over every way that hosts can fall into cells, each as likely."""
    lost = total = 0.0
    for fall in product(range(cells), repeat=hosts):
        for number in Counter(fall).values():
            load = number * concurrent / hosts
            total += load
            lost += load * float(recursion(size, load))
    return lost / total


class Shared(unittest.TestCase):
    def test_a_port_serves_every_tuple_at_once_or_only_one(self) -> None:
        tuples = [level_stream(700.0, "a"), level_stream(500.0, "b")]
        self.assertEqual(use(ports(), tuples, 1).binding, "a")
        self.assertAlmostEqual(use(ports(), tuples, 1).blocking, float(recursion(1000, 700)), places=15)
        whole = [level_stream(1200.0, "all tcp connections")]
        once = ports("shared-once")
        self.assertAlmostEqual(use(once, whole, 1).blocking / float(recursion(1000, 1200)), 1, places=10)
        expected = next(n for n in range(1, 9) if float(recursion(1000 * n, 1200)) <= 1e-4)
        self.assertEqual(least(once, whole), expected)

    def test_hosts_hashed_to_addresses_against_every_way_they_can_fall(self) -> None:
        for hosts, addresses, size, concurrent in (
            (1, 3, 20, 15.0),
            (3, 2, 10, 14.0),
            (5, 3, 12, 30.0),
            (6, 2, 40, 55.0),
        ):
            how = ports(per_address=size, address_choice="by-host")
            stream = level_stream(concurrent, hosts=float(hosts))
            with self.subTest(hosts=hosts, addresses=addresses):
                exact = by_every_fall(hosts, addresses, size, concurrent)
                self.assertAlmostEqual(use(how, [stream], addresses).blocking / exact, 1, places=9)

    def test_a_need_of_one_source_ties_hosts_as_a_hash_does(self) -> None:
        tied = [level_stream(1500.0, hosts=9.0, tied=True)]
        hashed = [level_stream(1500.0, hosts=9.0)]
        by_host = ports(address_choice="by-host")
        self.assertEqual(use(ports(), tied, 2).blocking, use(by_host, hashed, 2).blocking)
        self.assertEqual(least(ports(), tied), least(by_host, hashed))
        self.assertGreater(least(ports(), tied) or 0, least(ports(), hashed) or 0)
        # One host has one address, however many there are: 1,500 do not fit 1,000 ports.
        self.assertIsNone(least(by_host, [level_stream(1500.0, hosts=1.0)]))

    def test_a_limited_search_refuses_before_the_range_is_full(self) -> None:
        stream = [level_stream(900.0)]
        how = ports(search_tries=16)
        self.assertAlmostEqual(use(how, stream, 1).blocking, float(limited_search_b(1000, 900, 16)), places=14)
        self.assertGreater(use(how, stream, 1).blocking, 100 * use(ports(), stream, 1).blocking)

    def test_bursts_caps_and_retries(self) -> None:
        plain = use(ports(per_address=100), [level_stream(80.0)], 1).blocking
        burst = use(ports(per_address=100), [level_stream(80.0, peakedness=2.0)], 1).blocking
        self.assertAlmostEqual(burst / float(recursion(50, 40)), 1, places=9)
        # 120 hosts of one connection each, which want two in the mean: binomial of the other 119 (Engset 1918).
        capped = use(ports(per_address=100), [level_stream(240.0, sources=120.0)], 1).blocking
        weights = [1.0]
        for k in range(1, 101):
            weights.append(weights[-1] * (119 - k + 1) / k * 2.0)
        self.assertAlmostEqual(capped / (weights[-1] / sum(weights)), 1, places=9)
        self.assertEqual(use(ports(per_address=100), [level_stream(80.0, sources=100.0)], 1).blocking, 0.0)
        again = use(ports(per_address=100), [level_stream(80.0, retry_share=0.5)], 1).blocking
        load = 80.0
        for _ in range(500):
            load = 80.0 + 0.5 * load * float(recursion(100, load))
        self.assertAlmostEqual(again / float(recursion(100, load)), 1, places=8)
        self.assertLess(plain, again)

    def test_exactly_full_and_no_load(self) -> None:
        self.assertEqual(least(ports(), []), 0)
        self.assertEqual(least(ports(), [level_stream(0.0)]), 0)
        self.assertEqual(use(ports(), [level_stream(10.0)], 0).blocking, 1.0)

    def test_the_busiest_moment_is_named_and_the_time_from_which_it_is_short(self) -> None:
        found = use(ports(per_address=600), [day_stream(10.0, "a"), day_stream(700.0, "b"), day_stream(30.0, "c")], 1)
        self.assertEqual(found.binding, "b")
        self.assertAlmostEqual(found.concurrent, 700.0, delta=1e-6)
        self.assertTrue(17 * 3600 < found.time_s <= 18 * 3600)
        begins = found.begins_s
        assert begins is not None
        self.assertTrue(17 * 3600 <= begins <= found.time_s)
        # Refused connections of a day: the hour's rate times B(m(t)), by a fine sum of our own.
        fine = np.linspace(17 * 3600, 18 * 3600, 2001)
        concurrent = np.array([700.0 + (210.0 - 700.0) * np.exp(-(t - 17 * 3600) / 60.0) for t in fine])
        lost = 700 / 60 * float(np.mean([float(recursion(600, one)) for one in concurrent[::20]])) * 3600
        self.assertAlmostEqual(found.blocked_per_day / lost, 1, delta=0.15)


class NodeShare(unittest.TestCase):
    def test_each_node_has_its_part_of_the_ports_and_of_the_load(self) -> None:
        how = ports("node-share", nodes=4)
        self.assertAlmostEqual(use(how, [level_stream(1500.0)], 2).blocking, float(recursion(500, 375)), places=14)
        expected = next(n for n in range(1, 20) if float(recursion(250 * n, 1500 / 4)) <= 1e-4)
        self.assertEqual(least(how, [level_stream(1500.0)]), expected)

    def test_hashing_hosts_is_worse_than_hashing_connections(self) -> None:
        by_host = ports("node-share", per_address=60, nodes=3, spread="host")
        stream = level_stream(50.0, hosts=6.0)
        found = use(by_host, [stream], 1).blocking
        self.assertAlmostEqual(found / by_every_fall(6, 3, 20, 50.0), 1, places=9)
        self.assertGreater(found, use(ports("node-share", per_address=60, nodes=3), [stream], 1).blocking)

    def test_ports_of_a_node_may_be_stated(self) -> None:
        how = ports("node-share", nodes=4, per_node=100)
        self.assertAlmostEqual(use(how, [level_stream(320.0)], 1).blocking, float(recursion(100, 80)), places=14)


class Blocks(unittest.TestCase):
    def test_addresses_hold_whole_blocks(self) -> None:
        # 1,000 // 300 = 3 blocks to an address, whatever hosts x block / ports says.
        for hosts, expected in ((1, 1), (3, 1), (4, 2), (10, 4)):
            streams = [level_stream(200.0, copies=float(hosts))]
            self.assertEqual(least(ports("host-block", block=300), streams), expected)

    def test_a_block_too_small_is_cured_by_no_address(self) -> None:
        streams = [level_stream(250.0, copies=2.0)]
        self.assertIsNone(least(ports("host-block", block=256), streams))
        self.assertAlmostEqual(
            use(ports("host-block", block=256), streams, 9).blocking, float(recursion(256, 250)), places=12
        )

    def test_hosts_without_a_block_are_refused_everything_and_the_others_not(self) -> None:
        """Three blocks for five hosts: two fifths of all connections come from hosts that have none."""
        found = use(ports("host-block", block=300), [level_stream(100.0, copies=5.0)], 1)
        self.assertEqual((found.worst, found.capacity, found.without), (1.0, 0, "2 of 5 hosts get no block"))
        self.assertFalse(found.at_most)
        self.assertAlmostEqual(found.blocking, 0.4 + 0.6 * float(recursion(300, 100)), places=12)
        self.assertIn("no block is left", found.suffers)

    def test_a_growing_block_is_the_least_doubling_that_keeps_to_the_target(self) -> None:
        how = ports("growing-block", per_address=64_512, block=256, max_block=32_768)
        for concurrent, block in ((10.0, 256), (230.0, 512), (900.0, 1024), (20_000.0, 32_768)):
            sized = next(size for size in (2**n for n in range(8, 16)) if float(recursion(size, concurrent)) <= 1e-4)
            self.assertEqual(sized, block)
            each = 64_512 // block
            for hosts in (1, each, each + 1):
                streams = [level_stream(concurrent, copies=float(hosts))]
                self.assertEqual(least(how, streams), -(-hosts // each))

    def test_two_blocks_of_half_do_not_fit_one_address(self) -> None:
        self.assertEqual(packed(Counter({32_768: 2}), 1, 64_512), {32_768: 1})
        self.assertEqual(packed(Counter({32_768: 2}), 2, 64_512), {32_768: 2})

    def test_blocks_that_divide_each_other_against_every_way_to_lay_them(self) -> None:
        for per_address, wanted in (
            (10, {4: 3, 2: 1, 1: 2}),
            (7, {4: 2, 2: 2, 1: 3}),
            (12, {8: 2, 4: 2, 2: 1, 1: 1}),
            (5, {4: 3, 1: 5}),
        ):
            fewest = _fewest_bins(sorted(Counter(wanted).elements(), reverse=True), per_address, ())
            for addresses in range(1, fewest + 2):
                with self.subTest(wanted=wanted, addresses=addresses):
                    fits = packed(Counter(wanted), addresses, per_address) == Counter(wanted)
                    self.assertEqual(fits, addresses >= fewest)

    def test_where_room_is_short_the_last_hosts_make_do_with_less(self) -> None:
        how = ports("growing-block", per_address=1024, block=64, max_block=1024)
        found = use(how, [level_stream(200.0, copies=5.0)], 1)
        # Four hosts get the 256 they want, and grow no further than the largest; nothing is left for the fifth.
        self.assertEqual((found.worst, found.without), (1.0, "up to 1 of 5 hosts get no block"))
        self.assertAlmostEqual(found.blocking, 0.2, places=9)
        self.assertTrue(found.at_most)
        roomy = ports("growing-block", per_address=1152, block=64, max_block=1024)
        found = use(roomy, [level_stream(200.0, copies=5.0)], 1)
        self.assertAlmostEqual(found.worst / float(recursion(128, 200)), 1, places=9)
        self.assertAlmostEqual(found.blocking / float(recursion(128, 200)), 0.2, places=6)


def _fewest_bins(blocks: list[int], size: int, bins: tuple[int, ...]) -> int:
    """The fewest addresses, by laying each block on each."""
    if not blocks:
        return len(bins)
    first, rest = blocks[0], blocks[1:]
    options = [_fewest_bins(rest, size, (*bins, size - first))]
    for number in range(len(bins)):
        if bins[number] >= first:
            laid = (*bins[:number], bins[number] - first, *bins[number + 1 :])
            options.append(_fewest_bins(rest, size, laid))
    return min(options)
