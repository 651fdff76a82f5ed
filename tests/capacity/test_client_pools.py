"""Requests over connections that clients keep, against events one by one: see `events.client`."""

import math
from typing import Any

import numpy as np

from fenrask.capacity import capacity
from fenrask.demand import demand
from fenrask.errors import UnusableInput
from fenrask.evaluation import evaluate
from fenrask.routing import flow_paths
from fenrask.teletraffic.client_pools import pool_use
from tests.capacity import events
from tests.support import InFolder

REGIMES: tuple[tuple[float, float, float, int | None, int], ...] = (
    (50.0, 0.2, 60.0, None, 1),
    (50.0, 0.2, 1.0, None, 1),
    (5.0, 1.0, 10.0, None, 1),
    (0.2, 0.3, 30.0, None, 1),
    (40.0, 0.25, 20.0, 13, 1),
    (8.0, 0.5, 30.0, 5, 1),
    (60.0, 0.3, 20.0, None, 10),
)
"""Requests per s, seconds of one, idle time, most, at once."""


class Pools(InFolder):
    def test_open_connections_new_ones_and_waits(self) -> None:
        dice = np.random.default_rng(5)
        laws = {
            "exponential": lambda mean, size: dice.exponential(mean, size),
            "fixed": lambda mean, size: np.full(size, mean),
            "lognormal": lambda mean, size: mean * events.lognormal(dice, 1.3, size),
        }
        for per_s, request_s, idle_s, most, at_once in REGIMES:
            for law, lasts in laws.items():
                size = int(min(60_000, max(20_000, 300 * idle_s * per_s)))
                own = lasts(request_s, size).tolist()
                spans, waited = events.client(dice, per_s, own, idle_s, most or 10**9, at_once)
                end = size / per_s
                found = pool_use(per_s, request_s, idle_s, most, at_once)
                with self.subTest(per_s=per_s, idle_s=idle_s, law=law):
                    seen = sum(close - begin for begin, close in spans) / end
                    self.assertAlmostEqual(found.open / seen, 1.0, delta=0.05)
                    opened = len(spans) / end
                    chance = 4 / math.sqrt(len(spans))
                    self.assertAlmostEqual(found.opened_per_s / opened, 1.0, delta=0.2 + chance)
                    if most is not None and law == "exponential":
                        self.assertAlmostEqual(found.wait_s / waited, 1.0, delta=0.15)

    def test_edges(self) -> None:
        self.assertEqual(pool_use(0.0, 1.0, 60.0).open, 0.0)
        full = pool_use(50.0, 0.2, 60.0, most=10)
        self.assertEqual((full.open, full.opened_per_s, full.wait_s), (10.0, 0.0, math.inf))
        # Kept for no time: as many as there are requests in progress, each on a connection of its own.
        least = pool_use(50.0, 0.2, 1e-9)
        self.assertAlmostEqual(least.open, 10.0, places=3)
        # A client of very many: the maximum of a normal deviate, far less than in proportion.
        self.assertLess(pool_use(5000.0, 0.2, 60.0).open, 1000 * 1.2)

    def pooled(self, **more: Any) -> dict[str, Any]:
        pool = {"requests_per_host_per_s": 50.0, "duration_s": 0.2, "pool_idle_s": 60.0, "per_host_per_s": None}
        return {"flows": {"talk": {**pool, **more}}}

    def test_ports_of_many_hosts(self) -> None:
        """What the translator sees of 40 hosts: ports held at a level load, and the share that finds none."""
        described = self.estate({**self.pooled(), "workloads": {"work": {"hosts": 40}}})
        [one] = capacity(demand(flow_paths(described))).exits
        dice = np.random.default_rng(7)
        spans = []
        # Hosts are alike, and know nothing of each other: of 16 of them 40 are two and a half times as many.
        for _ in range(16):
            lasts = dice.exponential(0.2, 60_000).tolist()
            spans += events.client(dice, 50.0, lasts, 60.0)[0]
        end = 60_000 / 50.0
        held = 40 / 16 * sum(min(close + 60, end) - begin for begin, close in spans) / end
        self.assertAlmostEqual(one.streams[0].load.peak.concurrent / held, 1.0, delta=0.06)

    def test_a_profile_of_requests_is_not_one_of_connections(self) -> None:
        """Three times the requests are 1.9 times the connections; what they carry goes with the requests."""
        profile = [1.0] * 12 + [3.0] * 12
        patch = {**self.pooled(profile="day", out_kib_per_connection=2.0), "profiles": {"day": profile}}
        described = self.estate(patch)
        traffic = described.traffic
        low, high = (pool_use(50.0 * times, 0.2, 60.0).open for times in (1, 3))
        [one] = capacity(demand(flow_paths(described))).exits
        hosts = float(traffic.hosts[0])
        [pool] = one.streams
        self.assertAlmostEqual(pool.load.peak.concurrent / (hosts * high), 1.0, delta=0.05)
        self.assertAlmostEqual(float(pool.load.concurrent.min()) / (hosts * low), 1.0, delta=0.05)
        sent = float(traffic.bytes_per_s[0])
        self.assertAlmostEqual(sent, hosts * 50 * 2 * 2 * 1024, places=3)
        month = described.catalogue.hours_per_month * 3600
        billed = sum(float(line.quantity) for line in evaluate(described).bill.lines if line.item == "processed")
        self.assertAlmostEqual(billed, sent * float(month) / 1e9, places=3)

    def test_twice_the_load_is_looked_up_again(self) -> None:
        described = self.estate(self.pooled())
        first = float(described.traffic.rate_per_s[0])
        twice = described.patched({"flows": {"talk": {"requests_per_host_per_s": 100.0}}}, "twice")
        self.assertLess(
            float(twice.traffic.rate_per_s[0] * twice.traffic.duration_s[0]),
            1.75 * first * float(described.traffic.duration_s[0]),
        )

    def test_what_is_always_open_is_opened_again_where_keep_alives_are_late(self) -> None:
        """Each of N connections is dropped by the idle timeout before each probe, which opens it again."""
        for keepalive_s, again in ((60, 0.0), (600, 5 * 3 / 600)):
            talk = {"per_host_per_s": None, "persistent_per_host": 3, "keepalive_s": keepalive_s}
            described = self.estate({"flows": {"talk": talk}, "workloads": {"work": {"hosts": 5}}})
            found = demand(flow_paths(described)).load(demand(flow_paths(described)).at_exit["gate"])
            with self.subTest(keepalive_s=keepalive_s):
                self.assertAlmostEqual(found.busiest_new_per_s, again, places=9)
                self.assertAlmostEqual(found.peak.concurrent, 15.0, places=9)

    def test_what_hangs_together(self) -> None:
        for more in ({"pool_idle_s": None}, {"max_per_host": 3}, {"duration_s": 0}, {"per_host_per_s": 1}):
            with self.subTest(more=more), self.assertRaises(UnusableInput):
                self.estate(self.pooled(**more))
        with self.assertRaises(UnusableInput):
            self.estate({"flows": {"talk": {"pool_max": 3}}})
