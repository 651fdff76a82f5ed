"""What must hold of sizing whatever the numbers: by Hypothesis, on the port assignment itself."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.capacity.assignments import ASSIGNMENTS, PortUse, TupleLoad

LOADS = st.lists(st.floats(0, 20_000), min_size=1, max_size=4)
PORTS = st.integers(1, 5000)
TARGETS = st.sampled_from([0.1, 1e-2, 1e-4, 1e-9])


def loads_of(busiest: list[float], factor: float = 1.0) -> list[TupleLoad]:
    """A load for each number, held through a day with one busy hour."""
    day = np.array([0.3] * 17 + [1.0] + [0.5] * 6)
    return [
        TupleLoad(f"d{number}", 443, "tcp", one * factor * day, one * factor * day / 60)
        for number, one in enumerate(busiest)
    ]


class SharedPerDestination(unittest.TestCase):
    assignment = ASSIGNMENTS["shared-per-destination"]

    def use(self, loads: list[TupleLoad], addresses: int, ports: int) -> PortUse:
        found = self.assignment.use(loads, addresses, ports)
        assert found is not None
        return found

    @settings(max_examples=80, deadline=None)
    @given(LOADS, PORTS, TARGETS, st.floats(1.0, 3.0))
    def test_more_load_never_needs_fewer_addresses(
        self, busiest: list[float], ports: int, target: float, factor: float
    ) -> None:
        fewer = self.assignment.least_addresses(loads_of(busiest), ports, target)
        more = self.assignment.least_addresses(loads_of(busiest, factor), ports, target)
        self.assertLessEqual(fewer, more)

    @settings(max_examples=80, deadline=None)
    @given(LOADS, PORTS, st.integers(1, 30))
    def test_more_addresses_never_refuse_more(self, busiest: list[float], ports: int, addresses: int) -> None:
        loads = loads_of(busiest)
        one, other = self.use(loads, addresses, ports), self.use(loads, addresses + 1, ports)
        self.assertLessEqual(other.refused_share, one.refused_share)
        self.assertLessEqual(other.refused_per_day, one.refused_per_day * (1 + 1e-12))
        self.assertLessEqual(one.headroom, other.headroom)

    @settings(max_examples=80, deadline=None)
    @given(LOADS, PORTS, TARGETS)
    def test_the_least_meets_the_target_and_one_fewer_does_not(
        self, busiest: list[float], ports: int, target: float
    ) -> None:
        loads = loads_of(busiest)
        least = self.assignment.least_addresses(loads, ports, target)
        if least == 0:
            self.assertEqual(max(busiest), 0)
            return
        self.assertLessEqual(self.use(loads, least, ports).refused_share, target * (1 + 1e-12))
        if least > 1:
            self.assertGreater(self.use(loads, least - 1, ports).refused_share, target)

    @settings(max_examples=40, deadline=None)
    @given(LOADS, PORTS, st.integers(1, 30))
    def test_another_destination_never_helps_nor_hurts_the_busiest(
        self, busiest: list[float], ports: int, addresses: int
    ) -> None:
        """A port serves every destination at once: only the busiest tuple counts."""
        alone = self.use(loads_of([max(busiest)]), addresses, ports)
        together = self.use(loads_of(busiest), addresses, ports)
        self.assertEqual((alone.held, alone.refused_share), (together.held, together.refused_share))

    def test_the_busiest_moment_is_named(self) -> None:
        found = self.use(loads_of([10.0, 700.0, 30.0]), 1, 600)
        self.assertEqual((found.binding, found.hour, found.held), ("d1:443/tcp", 17, 700.0))
        self.assertIsNone(self.assignment.use([], 1, 600))
        self.assertEqual(self.assignment.least_addresses([], 600, 0.01), 0)
