"""What is to stand in the kernel, before it stands: whole and without contradiction, for random estates."""

import unittest
from collections import Counter

from fenrask.rehearsal.building import build
from fenrask.rehearsal.choosing import classes_of
from fenrask.rehearsal.laboratory import Space
from tests.routing.test_every_packet import described, estate


def devices(space: Space) -> set[str]:
    """The interfaces that its routes and rules name."""
    words = [line.split() for line in (*space.routes, *space.rules)]
    return {after for line in words for word, after in zip(line, line[1:], strict=False) if word in ("dev", "iif")}


class TheLaboratory(unittest.TestCase):
    def test_wires_have_two_ends_and_routes_lead_somewhere(self) -> None:
        for seed in range(12):
            one = described(estate(seed), seed)
            tries = [each for group in classes_of(one) for each in group.tries]
            spaces = build(one, tries).laboratory.spaces
            with self.subTest(seed=seed):
                ends = Counter(wire.name for space in spaces.values() for wire in space.wires)
                self.assertEqual(set(ends.values()), {1})
                self.assertEqual(ends.keys(), {wire.peer for space in spaces.values() for wire in space.wires})
                for name, space in spaces.items():
                    self.assertLessEqual(devices(space), {wire.name for wire in space.wires}, name)
                    # The kernel refuses a second route to a prefix with the same table and metric.
                    routes = Counter(
                        (line.removeprefix("blackhole ").removeprefix("throw ").split()[0], *_told(line))
                        for line in space.routes
                    )
                    self.assertEqual([one for one, times in routes.items() if times > 1], [], name)

    def test_it_is_the_same_each_time(self) -> None:
        one = described(estate(3), 3)
        tries = [each for group in classes_of(one) for each in group.tries]
        first, second = (build(one, tries).laboratory.spaces for _ in range(2))
        self.assertEqual(first, second)


def _told(line: str) -> tuple[str, str]:
    words = line.split()
    return words[words.index("table") + 1], words[words.index("metric") + 1]
