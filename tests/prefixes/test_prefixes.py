"""Prefixes, against the standard library's `ipaddress` by brute force."""

import random
import unittest
from ipaddress import IPv4Address, IPv4Network, ip_network

from fenrask.prefixes import PrefixTable, fewest_prefixes, first_free, overlaps, parse_prefix


class LongestMatch(unittest.TestCase):
    def test_a_hundred_thousand_look_ups_against_brute_force(self) -> None:
        dice = random.Random(20261125)
        look_ups = 0
        for _ in range(100):
            nets = {
                IPv4Network((dice.getrandbits(16) << 16, length := dice.randint(0, 32)), strict=False): length
                for _ in range(dice.randint(1, 40))
            }
            table = PrefixTable(nets.items())
            for _ in range(1000):
                near = dice.choice([*nets])
                address = IPv4Address(int(near.network_address) ^ dice.getrandbits(dice.choice([4, 16, 32])))
                holding = [net for net in nets if address in net]
                best = max(holding, key=lambda net: net.prefixlen, default=None)
                found = table.match(address)
                self.assertEqual(found and found[0], best)
                look_ups += 1
        self.assertEqual(look_ups, 100_000)

    def test_families_are_apart(self) -> None:
        table = PrefixTable([(ip_network("::/0"), 6), (ip_network("0.0.0.0/1"), 4)])
        self.assertEqual(table.match(IPv4Address("1.2.3.4")), (ip_network("0.0.0.0/1"), 4))
        self.assertIsNone(table.match(IPv4Address("200.0.0.1")))


class Overlaps(unittest.TestCase):
    def test_pairs_against_every_pair(self) -> None:
        dice = random.Random(7)
        for _ in range(50):
            nets = [IPv4Network((dice.getrandbits(8) << 24, dice.randint(4, 10)), strict=False) for _ in range(12)]
            labelled = [(net, number) for number, net in enumerate(nets)]
            found = {frozenset((one[1], other[1])) for one, other in overlaps(labelled)}
            every = {
                frozenset((i, j)) for i, a in enumerate(nets) for j, b in enumerate(nets) if i < j and a.overlaps(b)
            }
            self.assertEqual(found, every)


class Blocks(unittest.TestCase):
    def test_first_free_is_the_lowest_aligned_gap(self) -> None:
        cases = (
            (["10.0.0.0/24"], [], 28, "10.0.0.0/28"),
            (["10.0.0.0/24"], ["10.0.0.0/25"], 28, "10.0.0.128/28"),
            (["10.0.0.0/24"], ["10.0.0.0/30"], 28, "10.0.0.16/28"),
            (["10.0.0.0/28"], ["10.0.0.8/30"], 28, None),
            (["10.0.0.0/28", "10.0.1.0/24"], ["10.0.0.0/28"], 26, "10.0.1.0/26"),
            (["10.0.0.4/31"], ["10.0.0.4/32"], 32, "10.0.0.5/32"),
            (["10.0.0.4/31"], ["10.0.0.4/32", "10.0.0.5/32"], 32, None),
        )
        for pools, taken, length, expected in cases:
            with self.subTest(pools=pools, taken=taken):
                found = first_free([*map(ip_network, pools)], [*map(ip_network, taken)], length)
                self.assertEqual(found and str(found), expected)

    def test_fewest_prefixes_hold_exactly_the_addresses(self) -> None:
        dice = random.Random(3)
        for _ in range(30):
            addresses = {IPv4Address(0xC0000200 + dice.randrange(32)) for _ in range(dice.randint(1, 20))}
            prefixes = fewest_prefixes(addresses)
            self.assertEqual({one for prefix in prefixes for one in prefix}, addresses)

    def test_a_prefix_with_host_bits_names_the_one_meant(self) -> None:
        with self.assertRaisesRegex(ValueError, "10.40.0.0/16"):
            parse_prefix("10.40.0.1/16")
