"""Connections held: Little's law, the mixture of endings, rhythms, volumes; recomputed by hand."""

from fractions import Fraction
from typing import Any

import numpy as np

from fenrask.demand import demand, month_volume
from fenrask.routing import flow_ways
from tests.support import InFolder

# An endpoint keeps no port: nothing is added to the life.
ENDPOINT = {"kind": "routed-endpoint", "offer": "door-to-service", "network": "net", "destination": "store"}
TO_STORE = {"route_tables": {"private": {"store": "in"}}, "exits": {"in": ENDPOINT}}
DAY = [0.5] * 12 + [1.5] * 12


class Held(InFolder):
    def part(self, flow: dict[str, Any], **more: Any) -> Any:
        described = self.estate({"flows": {"talk": flow}, "rhythms": {"day": DAY}, **more})
        [part] = demand(flow_ways(described)).parts
        return part

    def test_hold_is_life_and_the_mixture_of_endings(self) -> None:
        cases: tuple[tuple[dict[str, Any], dict[str, Any], float], ...] = (
            ({}, {}, 2 + 60),
            ({"reset_share": 0.25}, {}, 2 + 0.75 * 60 + 0.25 * 10),
            ({"orderly_share": 0.5}, {}, 2 + 0.5 * 60 + 0.5 * 300),
            ({"orderly_share": 0.5, "reset_share": 0.3}, {}, 2 + 0.5 * 60 + 0.3 * 10 + 0.2 * 300),
            ({"life_s": {"mean": 7, "shape": "lognormal", "p95": 20}}, {}, 7 + 60),
            ({}, {"destinations": {"partner": {"protocol": "udp"}}}, 2 + 30),
            ({"to": "store"}, TO_STORE, 2),
        )
        for flow, more, hold in cases:
            with self.subTest(flow=flow, more=more):
                part = self.part(flow, **more)
                self.assertAlmostEqual(part.hold_s, hold, places=12)
                np.testing.assert_allclose(part.held, 10 * hold, rtol=1e-14)

    def test_loads_of_every_kind(self) -> None:
        none = {"per_host_per_s": None}
        rate = self.part({"rhythm": "day"})
        np.testing.assert_allclose(rate.held, [10 * 62 * m for m in DAY])
        people = self.part({**none, "people": 300, "connections_per_person": 4, "life_s": 30})
        np.testing.assert_allclose(people.held, 300 * 4 / 30 * (30 + 60))
        pool = self.part({**none, "pool_per_host": 3, "life_s": None})
        np.testing.assert_allclose(pool.held, 30)
        self.assertIsNone(pool.hold_s)

    def test_a_week_beside_a_day(self) -> None:
        described = self.estate(
            {
                "flows": {
                    "talk": {"rhythm": "week"},
                    "more": {"from": "work", "to": "partner", "per_host_per_s": 1, "rhythm": "day"},
                },
                "rhythms": {"day": DAY, "week": [1] * 167 + [9]},
            }
        )
        load = demand(flow_ways(described))
        self.assertEqual(load.hours, 168)
        total = load.load(load.at_exit["gate"])
        self.assertEqual(total.busiest_hour, 167)
        self.assertAlmostEqual(total.busiest_held, 10 * 62 * 9 + 10 * 61 * 1.5)

    def test_shares_of_subnets_and_of_parts_sum_to_the_flow(self) -> None:
        described = self.estate(
            {
                "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
                "workloads": {"work": {"subnets": ["app", "app-b"]}},
                "route_tables": {"private": {"198.51.100.0/26": "old"}},
            }
        )
        load = demand(flow_ways(described))
        self.assertAlmostEqual(load.load(load.parts).busiest_new_per_s, 10 * 0.75)
        [lost] = load.left_out
        self.assertEqual((lost.flow, lost.subnets, lost.share), ("talk", ("app", "app-b"), Fraction(1, 4)))


class Volumes(InFolder):
    def test_bytes_of_a_month_are_exact(self) -> None:
        described = self.estate(
            {
                "flows": {"talk": {"per_host_per_s": 0.1, "rhythm": "day", "out_kib_per_connection": 0.3,
                                   "in_gib_per_month": 0.7}},
                "rhythms": {"day": [0.1] * 24},
            }
        )  # fmt: skip
        [way] = flow_ways(described).ways
        volume = month_volume(described, way)
        connections = Fraction(1, 10) * 10 * Fraction(1, 10) * 3600 * 730
        self.assertEqual(volume.out_bytes, connections * Fraction(3, 10) * 1024)
        self.assertEqual(volume.in_bytes, Fraction(7, 10) * 2**30)
