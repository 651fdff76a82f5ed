"""Connections held: laws of holds, the mixture of endings, profiles, sums, volumes; recomputed by hand."""

import math
from fractions import Fraction
from typing import Any

import numpy as np

from fenrask.demand import POINTS_PER_STEP, Load, demand, explain_demand, month_volume
from fenrask.errors import UnusableInput
from fenrask.routing import flow_paths
from tests.support import InFolder

# An endpoint keeps no port: nothing is added to the life.
ENDPOINT = {"kind": "routed-endpoint", "offer": "door-to-service", "network": "net", "destination": "store"}
TO_STORE = {"route_tables": {"private": {"store": "in"}}, "exits": {"in": ENDPOINT}}
DAY = [0.5] * 12 + [1.5] * 12


class Held(InFolder):
    def part(self, flow: dict[str, Any], **more: Any) -> Any:
        described = self.estate({"flows": {"talk": flow}, "profiles": {"day": DAY}, **more})
        [part] = demand(flow_paths(described)).parts
        return part

    def test_hold_is_life_and_the_mixture_of_endings(self) -> None:
        cases: tuple[tuple[dict[str, Any], dict[str, Any], float], ...] = (
            ({}, {}, 2 + 60),
            ({"reset_share": 0.25}, {}, 2 + 0.75 * 60 + 0.25 * 10),
            ({"closed_share": 0.5}, {}, 2 + 0.5 * 60 + 0.5 * 300),
            ({"closed_share": 0.5, "reset_share": 0.3}, {}, 2 + 0.5 * 60 + 0.3 * 10 + 0.2 * 300),
            ({"duration_s": {"mean": 7, "shape": "lognormal", "p95": 20}}, {}, 7 + 60),
            ({}, {"destinations": {"partner": {"protocol": "udp"}}}, 2 + 30),
            # Half closed and never answered are kept as if idle, turned away as if reset, where nothing else is said;
            # those that never come about have no life.
            ({"half_closed_share": 0.5}, {}, 2 + 0.5 * 60 + 0.5 * 300),
            ({"rejected_share": 0.4}, {}, 0.6 * (2 + 60) + 0.4 * 10),
            ({"unanswered_share": 0.25, "closed_share": 0.75}, {}, 0.75 * (2 + 60) + 0.25 * 300),
            ({"duration_s": {"mean": 5, "shape": "hyperexponential", "cv": 3}}, {}, 5 + 60),
            ({"duration_s": {"shape": "measured", "values": [1, 2, 9]}}, {}, 4 + 60),
            (
                {
                    "duration_s": {
                        "shape": "mixture",
                        "parts": {"quick": {"mean": 1, "share": 0.75}, "slow": {"mean": 40, "share": 0.25}},
                    }
                },
                {},
                0.75 * 1 + 0.25 * 40 + 60,
            ),
            ({"to": "store"}, TO_STORE, 2),
        )
        for flow, more, holding_time in cases:
            with self.subTest(flow=flow, more=more):
                part = self.part(flow, **more)
                self.assertAlmostEqual(part.holding_s, holding_time, places=12)
                np.testing.assert_allclose(part.concurrent, 10 * holding_time, rtol=1e-14)

    def test_every_time_of_an_offer_and_what_is_given_out_again_early(self) -> None:
        mapping_timeout = {"closed": 60, "reset": 10, "idle": 300, "half_closed": 120, "rejected": 5, "unanswered": 30}
        udp = {"udp_idle": 30, "udp_one_way": 8, "udp_streaming": 180}
        mixed = {"reset_share": 0.1, "half_closed_share": 0.2, "rejected_share": 0.1, "unanswered_share": 0.1}
        to_udp = {"destinations": {"partner": {"protocol": "udp"}}}
        streaming = {"udp_one_way_share": 0.2, "udp_streaming_share": 0.3}
        # 0.4 closed, 0.1 idle; life 2 s for eight tenths.
        plain = 0.4 * 60 + 0.1 * 10 + 0.2 * 120 + 0.1 * 5 + 0.1 * 30 + 0.1 * 300
        ended = 0.5 * (0.4 * 60 + 0.1 * 10 + 0.2 * 120 + 0.1 * 5) + 0.1 * 30 + 0.1 * 300
        cases: tuple[tuple[dict[str, Any], Any, dict[str, Any], float], ...] = (
            ({**mixed, "closed_share": 0.4}, 0.0, {}, 1.6 + plain),
            ({**mixed, "closed_share": 0.4}, 0.5, {}, 1.6 + ended),
            ({**mixed, "closed_share": 0.4}, {"closed": 1.0, "idle": 0.5}, {}, 1.6 + plain - 24 - 15),
            (streaming, 0.9, to_udp, 2 + 0.2 * 8 + 0.5 * 30 + 0.3 * 180),
        )
        for flow, early, more, holding_time in cases:
            with self.subTest(flow=flow, early=early):
                offer = {
                    "offers": {
                        "gate": {"mapping_timeout_s": {**mapping_timeout, **udp}, "ports": {"early_reuse_share": early}}
                    }
                }
                [part] = demand(flow_paths(self.estate({"flows": {"talk": flow}, **more}, offer))).parts
                self.assertAlmostEqual(part.holding_s or 0, holding_time, places=12)
                self.assertAlmostEqual(float(part.concurrent[0]), 10 * holding_time, places=10)

    def test_what_is_held_follows_the_rate_late_by_the_law_of_the_hold(self) -> None:
        """Exponential life, then 60 s for all: m(t) after the step at 12:00, in closed form."""
        part = self.part({"profile": "day", "duration_s": 900})
        noon = 12 * POINTS_PER_STEP
        for quarters in range(8):
            late = max(0.0, quarters * 900.0 - 60)
            # What the step added so far: 60 s whole, and the lives by 1 - e^(-t / life).
            grown = 10 * (min(quarters * 900.0, 60.0) + 900 * (1 - math.exp(-late / 900)))
            self.assertAlmostEqual(float(part.concurrent[noon + quarters]), 10 * 0.5 * 960 + grown, delta=0.1)
        slow = Load.of([self.part({"profile": "day", "duration_s": 20_000})]).peak
        # Half a day is not long enough to reach what the busy rate would hold; at midnight the rate falls.
        self.assertLess(slow.concurrent, 0.95 * 10 * 1.5 * 20_060)
        self.assertEqual((slow.time_s, slow.lag_s), (0.0, 12 * 3600))

    def test_a_peak_inside_an_hour_and_after_midnight(self) -> None:
        late = [0.0] * 23 + [10.0]
        described = self.estate(
            {
                "flows": {
                    "talk": {"profile": "late", "duration_s": {"mean": 5400, "shape": "fixed"}, "closed_share": 0.0},
                },
                "profiles": {"late": late},
            },
            {"offers": {"gate": {"mapping_timeout_s": {"idle": 0}}}},
        )
        load = demand(flow_paths(described))
        peak = load.load(load.parts).peak
        # All that came in one hour are there from midnight until half past.
        self.assertAlmostEqual(peak.concurrent, 100 * 3600.0, places=4)
        self.assertAlmostEqual(peak.time_s, 0.0, delta=1.0)
        self.assertAlmostEqual(peak.lag_s, 3600.0, delta=1.0)

    def test_loads_of_every_kind(self) -> None:
        none = {"per_host_per_s": None}
        rate = self.part({"profile": "day"})
        # A hold of about a minute: a quarter of an hour after each step all is as the rate has it.
        settled = rate.concurrent.reshape(24, -1)[:, 1:]
        np.testing.assert_allclose(settled, [[10 * 62 * m] * 3 for m in DAY], rtol=1e-9)
        users = self.part({**none, "users": 300, "connections_per_user": 4, "duration_s": 30})
        np.testing.assert_allclose(users.concurrent, 300 * 4 / 30 * (30 + 60))
        pool = self.part({**none, "persistent_per_host": 3, "duration_s": None})
        np.testing.assert_allclose(pool.concurrent, 30)
        self.assertIsNone(pool.holding_s)

    def test_a_week_beside_a_day(self) -> None:
        described = self.estate(
            {
                "flows": {
                    "talk": {"profile": "week"},
                    "more": {"from": "work", "to": "partner", "per_host_per_s": 1, "profile": "day"},
                },
                "profiles": {"day": DAY, "week": [1] * 167 + [9]},
            }
        )
        load = demand(flow_paths(described))
        self.assertEqual(load.hours, 168)
        total = load.load(load.at_exit["gate"])
        self.assertTrue(167 * 3600 < total.peak.time_s < 168 * 3600)
        self.assertAlmostEqual(total.peak.concurrent, 10 * 62 * 9 + 10 * 61 * 1.5, delta=1e-5)
        self.assertEqual(total.concurrent.size, 168 * POINTS_PER_STEP)

    def test_steps_of_any_length(self) -> None:
        """The same load in hours, in five minutes, of a week, and beside another: one peak; and steps told apart."""
        shape = [1.0, 2.0, 0.5, 3.0] * 6
        talk = {"flows": {"talk": {"profile": "day"}}}
        peaks = []
        for profiles in (
            {"day": shape},
            {"day": np.repeat(shape, 12).tolist()},
            {"day": np.tile(np.repeat(shape, 2), 7).tolist()},
            {"day": shape, "fine": [1.0] * 1440},
        ):
            patch = {**talk, "profiles": profiles}
            if "fine" in profiles:
                patch["flows"] = {
                    **talk["flows"],
                    "more": {"from": "work", "to": "partner", "per_host_per_s": 1e-9, "profile": "fine"},
                }
            load = demand(flow_paths(self.estate(patch)))
            peaks.append(load.load(load.at_exit["gate"]).peak)
        for one in peaks:
            self.assertAlmostEqual(one.concurrent, peaks[0].concurrent, places=5)
        # Five minutes of ten times the load, and holds of 60 s and a mean of 2 s: all of it is there at the end.
        burst = [1.0] * 288
        burst[100] = 10.0
        load = demand(flow_paths(self.estate({**talk, "profiles": {"day": burst}})))
        peak = load.load(load.at_exit["gate"]).peak
        self.assertAlmostEqual(peak.concurrent, 10 * 10 * 62, places=3)
        self.assertEqual(peak.time_s // 300, 100)
        for wrong in (25, 100_000):
            with self.assertRaises(UnusableInput):
                self.estate({**talk, "profiles": {"day": [1.0] * wrong}})

    def test_shares_of_subnets_and_of_parts_sum_to_the_flow(self) -> None:
        described = self.estate(
            {
                "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
                "workloads": {"work": {"subnets": ["app", "app-b"]}},
                "route_tables": {"private": {"198.51.100.0/26": "old"}},
            }
        )
        load = demand(flow_paths(described))
        self.assertAlmostEqual(load.load(load.parts).busiest_new_per_s, 10 * 0.75)
        [lost] = load.not_counted
        self.assertEqual((lost.flow, lost.subnets, lost.share), ("talk", ("app", "app-b"), Fraction(1, 4)))

    def test_sums_over_flows_destinations_and_subnets_are_the_exits_total(self) -> None:
        described = self.estate(
            {
                "destinations": {"other": {"prefixes": ["203.0.113.64/26"], "port": 53, "protocol": "udp"}},
                "flows": {
                    "talk": {"profile": "day", "duration_s": 900},
                    "ask": {"from": "work", "to": "other", "per_host_per_s": 3, "profile": "late"},
                    "hold": {"from": "work", "to": "partner", "persistent_per_host": 7},
                },
                "profiles": {"day": DAY, "late": [0.0] * 20 + [5.0] * 4},
            }
        )
        load = demand(flow_paths(described))
        total = load.load(load.at_exit["gate"])
        for key in ("flow", "destination", "subnet"):
            groups = load.grouped("gate", lambda part, key=key: getattr(part, key))  # type: ignore[misc]
            summed = sum(load.load(parts).concurrent for parts in groups.values())
            np.testing.assert_allclose(summed, total.concurrent, rtol=1e-12)
        # The busiest moment of the sum is not the sum of the busiest moments.
        peaks = sum(load.load(parts).peak.concurrent for parts in load.grouped("gate", lambda part: part.flow).values())
        self.assertGreaterEqual(peaks * (1 + 1e-9), total.peak.concurrent)


class Explained(InFolder):
    def test_every_step_says_what_it_is_made_of(self) -> None:
        flow = {"profile": "day", "closed_share": 0.5, "reset_share": 0.25}
        described = self.estate({"flows": {"talk": flow}, "profiles": {"day": DAY}})
        steps = {step.figure: step for step in explain_demand(demand(flow_paths(described))) if "talk" in step.about}
        self.assertEqual(steps["new per s"].working, "10 hosts x 1 per s")
        self.assertEqual(
            steps["mean mapping timeout"].working, "0.5 closed x 60 s + 0.25 reset x 10 s + 0.25 idle x 300 s"
        )
        self.assertEqual(steps["mean mapping timeout"].value, "107.5 s")
        self.assertEqual(steps["mean holding time"].value, "109.5 s")
        self.assertIn(
            "10 per s x 1.5 x 109.5 s = 1,642.5 if the peak rate were constant", steps["concurrent at the peak"].working
        )
        self.assertIn("1993", steps["concurrent at the peak"].source)


class Volumes(InFolder):
    def test_bytes_of_a_month_are_exact(self) -> None:
        described = self.estate(
            {
                "flows": {"talk": {"per_host_per_s": 0.1, "profile": "day", "out_kib_per_connection": 0.3,
                                   "in_gib_per_month": 0.7}},
                "profiles": {"day": [0.1] * 24},
            }
        )  # fmt: skip
        [path] = flow_paths(described).paths
        volume = month_volume(described, path)
        connections = Fraction(1, 10) * 10 * Fraction(1, 10) * 3600 * 730
        self.assertEqual(volume.out_bytes, connections * Fraction(3, 10) * 1024)
        self.assertEqual(volume.in_bytes, Fraction(7, 10) * 2**30)


class SomeFlows(InFolder):
    def test_some_flows_in_any_order_lay_what_they_lay_among_all(self) -> None:
        flow = {"from": "work", "to": "partner", "duration_s": 2}
        rates = {"talk": 1, "ask": 3, "tell": 7}
        described = self.estate({"flows": {name: {**flow, "per_host_per_s": rate} for name, rate in rates.items()}})
        whole = {(part.flow, part.exit): part.rate_per_s for part in demand(flow_paths(described)).parts}
        for some in (("tell", "talk"), ("ask",), ("ask", "tell", "talk")):
            found = {(part.flow, part.exit): part.rate_per_s for part in demand(flow_paths(described, some)).parts}
            self.assertEqual(found, {key: rate for key, rate in whole.items() if key[0] in some})
