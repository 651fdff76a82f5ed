"""What must hold of every port assignment whatever the numbers: by Hypothesis."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrask.capacity import ASSIGNMENTS, Stream
from fenrask.capacity.packing import fewest_boxes
from fenrask.estate import Ports
from tests.capacity.loads import day_stream, level_stream, ports

HOWS: tuple[Ports, ...] = (
    ports(),
    ports(address_choice="in-turn"),
    ports(address_choice="by-host"),
    ports(search_tries=40),
    ports(search_tries=4, address_choice="by-host"),
    ports("shared-once"),
    ports("shared-once", address_choice="by-host-and-destination"),
    ports("host-block", block=100),
    ports("growing-block", block=32, max_block=512),
    ports("node-share", nodes=4),
    ports("node-share", nodes=4, per_node=200, spread="host"),
    ports("node-share", nodes=2, address_choice="by-host"),
)
BUSIEST = st.lists(st.floats(0.5, 4000), min_size=1, max_size=3)
TRAITS = st.sampled_from(({}, {"peakedness": 3.0}, {"retry_share": 0.6}, {"tied": True}, {"hosts": 7.0}))
TARGETS = st.sampled_from([0.1, 1e-2, 1e-4, 1e-9])


def streams_of(how: Ports, busiest: list[float], factor: float = 1.0, traits: object = None) -> list[Stream]:
    """A stream for each number; where hosts have blocks it is one of twenty hosts' load."""
    hosts = ASSIGNMENTS[how.assignment].view == "hosts"
    more = {"hosts": 20.0, **(traits if isinstance(traits, dict) else {})}
    more |= {"copies": 20.0} if hosts else {}
    return [day_stream(factor * one / (20 if hosts else 1), f"d{n}", **more) for n, one in enumerate(busiest)]


def least(how: Ports, streams: list[Stream], target: float) -> float:
    found = ASSIGNMENTS[how.assignment].least_addresses(streams, how, target)
    return float("inf") if found is None else found


def blocked(how: Ports, streams: list[Stream], addresses: int, target: float = 1e-4) -> float:
    found = ASSIGNMENTS[how.assignment].use(streams, addresses, how, target)
    # Where hosts do not fare alike, addresses are as many as those need that fare worst.
    return max(found.blocking, found.worst) if found else 0.0


class EveryAssignment(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from(HOWS), BUSIEST, st.integers(1, 60), st.integers(0, 40), st.integers(1, 8))
    def test_the_same_load_of_more_hosts_never_finds_fewer_ports(
        self, how: Ports, busiest: list[float], hosts: int, more: int, addresses: int
    ) -> None:
        if ASSIGNMENTS[how.assignment].view == "hosts":
            return
        for load in busiest:
            few, many = (streams_of(how, [load], traits={"hosts": float(one)}) for one in (hosts, hosts + more))
            self.assertGreaterEqual(blocked(how, few, addresses) * (1 + 1e-9) + 1e-18, blocked(how, many, addresses))

    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from(HOWS), BUSIEST, st.lists(st.integers(1, 12), min_size=3, max_size=3), TARGETS)
    def test_all_streams_together_need_what_the_hardest_of_them_needs(
        self, how: Ports, busiest: list[float], hosts: list[int], target: float
    ) -> None:
        if ASSIGNMENTS[how.assignment].view == "hosts":
            return
        each = [
            streams_of(how, [load], traits={"hosts": float(number)})[0]
            for load, number in zip(busiest, hosts, strict=False)
        ]
        self.assertEqual(least(how, each, target), max(least(how, [one], target) for one in each))

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(HOWS), BUSIEST, TARGETS, TRAITS, st.floats(1.0, 3.0))
    def test_more_load_never_needs_fewer_addresses(
        self, how: Ports, busiest: list[float], target: float, traits: object, factor: float
    ) -> None:
        fewer = least(how, streams_of(how, busiest, traits=traits), target)
        self.assertLessEqual(fewer, least(how, streams_of(how, busiest, factor, traits), target))

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(HOWS), BUSIEST, TRAITS, st.integers(1, 8))
    def test_more_addresses_never_refuse_more(
        self, how: Ports, busiest: list[float], traits: object, addresses: int
    ) -> None:
        streams = streams_of(how, busiest, traits=traits)
        one, other = blocked(how, streams, addresses), blocked(how, streams, addresses + 1)
        self.assertLessEqual(other, one * (1 + 1e-9) + 1e-15)

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(HOWS), BUSIEST, TARGETS, TRAITS)
    def test_the_least_meets_the_target_and_one_fewer_does_not(
        self, how: Ports, busiest: list[float], target: float, traits: object
    ) -> None:
        streams = streams_of(how, busiest, traits=traits)
        number = least(how, streams, target)
        if number == float("inf"):
            self.assertGreater(blocked(how, streams, 4000, target), target)
            return
        self.assertLessEqual(blocked(how, streams, int(number), target), target * (1 + 1e-9))
        if number > 1:
            self.assertGreater(blocked(how, streams, int(number) - 1, target), target)

    @settings(max_examples=40, deadline=None)
    @given(st.floats(1, 4000), st.integers(1, 6), st.integers(1, 40))
    def test_splitting_a_pool_never_helps(self, concurrent: float, addresses: int, hosts: int) -> None:
        stream = [level_stream(concurrent, hosts=float(hosts))]
        whole = blocked(ports(), stream, addresses)
        for how in (
            ports(address_choice="by-host"),
            ports("node-share", nodes=4),
            ports("node-share", nodes=4, spread="host"),
            ports(search_tries=20),
        ):
            self.assertGreaterEqual(blocked(how, stream, addresses), whole * (1 - 1e-9))

    @settings(max_examples=40, deadline=None)
    @given(BUSIEST, st.integers(1, 8))
    def test_another_destination_never_matters_to_the_busiest_unless_ports_are_used_once(
        self, busiest: list[float], addresses: int
    ) -> None:
        alone = blocked(ports(), streams_of(ports(), [max(busiest)]), addresses)
        self.assertAlmostEqual(blocked(ports(), streams_of(ports(), busiest), addresses), alone, places=12)


class Packing(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(
        st.integers(1, 3).flatmap(
            lambda rows: st.lists(st.lists(st.floats(0.01, 1), min_size=rows, max_size=rows), min_size=1, max_size=7)
        )
    )
    def test_the_fewest_boxes_against_every_division(self, sizes: list[list[float]]) -> None:
        table = np.array(sizes)
        packing = fewest_boxes(table)
        self.assertEqual(sorted(one for box in packing.boxes for one in box), list(range(len(sizes))))
        for box in packing.boxes:
            self.assertTrue(np.all(table[list(box)].sum(axis=0) <= 1 + 1e-6))
        self.assertEqual(len(packing.boxes), packing.at_least)
        self.assertEqual(packing.at_least, _fewest(table.tolist(), []))


def _fewest(rest: list[list[float]], boxes: list[list[float]]) -> int:
    """By trying each thing in each box."""
    if not rest:
        return len(boxes)
    thing, others = rest[0], rest[1:]
    found = [
        _fewest(others, [*boxes[:n], [a + b for a, b in zip(box, thing, strict=True)], *boxes[n + 1 :]])
        for n, box in enumerate(boxes)
        if all(a + b <= 1 + 1e-9 for a, b in zip(box, thing, strict=True))
    ]
    return min([*found, _fewest(others, [*boxes, thing])])
