"""Classes of addresses against membership, address by address."""

import random
import unittest
from ipaddress import ip_address, ip_network

from fenrask.prefixes import Block, Partition, usable


class Partitions(unittest.TestCase):
    def test_one_class_is_membership_of_the_same_sets(self) -> None:
        """Two addresses are of one class exactly where they lie in the prefixes of the same labels."""
        dice = random.Random(3)
        for _ in range(200):
            labelled = [
                (ip_network((0x0A000000 + dice.randrange(64) // 2 ** (32 - n) * 2 ** (32 - n), n)), dice.choice("abcd"))
                for n in dice.choices(range(26, 33), k=dice.randint(0, 9))
            ]
            partition = Partition(labelled)
            by_kind: dict[int, frozenset[str]] = {}
            whole = Block(4, 0x0A000000 - 3, 0x0A000000 + 70)
            pieces = partition.pieces([whole])
            self.assertEqual(sum(piece.size for piece in pieces), whole.size)
            for piece in pieces:
                for block in piece.blocks:
                    for number in range(block.first, block.last + 1):
                        address = ip_address(number)
                        members = frozenset(label for prefix, label in labelled if address in prefix)
                        self.assertEqual(by_kind.setdefault(piece.kind, members), members)
                        self.assertEqual(partition.kind_of(address), piece.kind)
            self.assertEqual(len(set(by_kind.values())), len(by_kind))

    def test_usable_addresses_are_those_that_hosts_may_have(self) -> None:
        for text in (
            "192.0.2.0/24",
            "192.0.2.4/30",
            "192.0.2.4/31",
            "192.0.2.4/32",
            "2001:db8::/120",
            "2001:db8::4/127",
        ):
            with self.subTest(text):
                prefix = ip_network(text)
                block = usable(prefix)
                self.assertEqual([*range(block.first, block.last + 1)], [int(one) for one in prefix.hosts()])

    def test_joined_blocks_hold_the_same_addresses(self) -> None:
        blocks = [Block(4, 8, 11), Block(4, 0, 3), Block(4, 4, 7), Block(4, 20, 20), Block(6, 4, 5)]
        self.assertEqual(Block.joined(blocks), (Block(4, 0, 11), Block(4, 20, 20), Block(6, 4, 5)))
