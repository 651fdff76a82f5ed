"""Expected downtime against a simulation of failures and repairs, and by hand."""

import random
from collections.abc import Iterator
from itertools import chain, combinations
from math import comb, prod
from typing import Any

from fenrask.estate import Case, Described, read_estate
from fenrask.evaluation import evaluate
from fenrask.evaluation.availability import availability_of, flow_availability
from fenrask.evaluation.faults import case_patch
from fenrask.routing import flow_paths
from tests.situations.base import CATALOGUE, Situation
from tests.support import InFolder, merged


def simulated(units: list[list[float]], dice: random.Random, cycles: int) -> float:
    """The share of time in which every group has a unit that works: units fail and are repaired, one by one.

    units: by group, the availability of each unit; times up and down are exponential, a mean repair takes 1.
    """
    flat = [(group, share) for group, shares in enumerate(units) for share in shares]
    works = [True] * len(flat)
    up = [len(shares) for shares in units]
    rates = [(1.0 - share) / share for _, share in flat]
    now = good = 0.0
    for _ in range(cycles):
        leaving = [rate if works[n] else 1.0 for n, rate in enumerate(rates)]
        stay = dice.expovariate(sum(leaving))
        good += stay if all(up) else 0.0
        now += stay
        [number] = dice.choices(range(len(flat)), leaving)
        works[number] = not works[number]
        up[flat[number][0]] += 1 if works[number] else -1
    return good / now


class Availability(InFolder):
    CHAIN = {
        "subnets": {"wall": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"}},
        "route_tables": {"private": {"0.0.0.0/0": "wall"}, "walled": {"0.0.0.0/0": "gate"}},
        "exits": {
            "wall": {
                "kind": "inspecting-firewall",
                "offer": "wall",
                "subnet": "wall",
                "nodes": 2,
                "rewrites_toward": [],
            },
            "gate": {"subnet": "edge"},
        },
    }

    def offers(self, wall: float, gate: float) -> dict[str, object]:
        return {"offers": {"wall": {"availability": wall}, "gate": {"availability": gate}}}

    def test_series_and_parallel_against_failures_and_repairs(self) -> None:
        routes = {"route_tables": {"public": {"0.0.0.0/0": "door", "10.0.1.0/24": "wall"}}}
        for seed, (wall, gate) in enumerate(((0.9, 0.95), (0.7, 0.8), (0.98, 0.6))):
            described = self.estate(
                {**self.CHAIN, "route_tables": {**self.CHAIN["route_tables"], **routes["route_tables"]}},
                self.offers(wall, gate),
            )
            found = flow_availability(evaluate(described).paths)["talk"]
            # By hand: the gateway, and one of two nodes.
            self.assertAlmostEqual(found, gate * (1 - (1 - wall) ** 2), places=12)
            self.assertAlmostEqual(found, simulated([[wall, wall], [gate]], random.Random(seed), 200_000), delta=0.01)

    def test_half_of_the_hosts_count_half(self) -> None:
        both = {
            "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "bare"}},
            "route_tables": {"bare": {}},
            "workloads": {"work": {"subnets": ["app", "app-b"]}},
        }
        described = self.estate(both, self.offers(1.0, 0.9))
        self.assertAlmostEqual(flow_availability(evaluate(described).paths)["talk"], 0.45, places=12)
        minutes = evaluate(described).down_minutes["talk"]
        self.assertAlmostEqual(minutes, 0.55 * float(described.catalogue.hours_per_month) * 60, places=6)

    def test_a_need_is_broken_by_the_minute(self) -> None:
        for wanted, broken in ((0.999, True), (0.99, False)):
            need = {"destinations": {"partner": {"needs": {"availability": wanted}}}}
            evaluation = evaluate(self.estate(need, self.offers(1.0, 0.995)))
            self.assertEqual([one.need for one in evaluation.broken], ["availability"] if broken else [])


LINES: dict[str, Any] = {
    "exits": {
        name: {
            "kind": "circuit",
            "offer": "line",
            "network": "plant",
            "third_party": "Meteo",
            "received": ["172.25.0.0/16"],
            "advertised": ["10.60.0.0/16"],
            "local_preference": preference,
            "routers": {"one": {}, "two": {}} if name == "first" else {},
        }
        for name, preference in (("first", 200), ("second", 100))
    },
    "destinations": {"grid": {"prefixes": ["172.25.3.0/28"], "port": 443}},
    "flows": {"readings": {"from": "pumps", "to": "grid", "per_host_per_s": 1}},
}
"""A second line takes over where the first is down."""
PAIR: dict[str, Any] = {
    "exits": {
        "box": {
            "kind": "translator-host",
            "offer": "box",
            "subnet": "edge-a",
            "standby_subnet": "edge-b",
            "machines": 2,
        }
    },
    "route_tables": {"plant-b": {"0.0.0.0/0": "box"}},
}
PROMISES: dict[str, Any] = {
    "zone_availability": 0.97,
    "offers": {"line": {"availability": 0.9, "shared_availability": 0.95}, "nat": {"availability": 0.93}},
}


def every_state(described: Described) -> Iterator[tuple[float, tuple[str, ...], tuple[str, ...]]]:
    """Every state of zones and exits, lost or not, with its probability: brute force, whatever is on any path."""
    zones = sorted({one.zone for one in described.estate.subnets.values() if one.zone})
    works = described.catalogue.zone_availability or 1.0
    for lost in subsets(zones):
        once = prod(1 - works if one in lost else works for one in zones)
        left = described.struck(case_patch(described, Case(lose_zones=lost)), "zones")
        sure = {name: availability_of(left, name) for name in left.estate.exits}
        for gone in subsets([name for name, share in sure.items() if share < 1]):
            yield once * prod(1 - share if name in gone else share for name, share in sure.items()), lost, gone


def subsets(names: list[str]) -> Iterator[tuple[str, ...]]:
    return chain.from_iterable(combinations(names, number) for number in range(len(names) + 1))


class WhatFailsTogether(Situation):
    def read(self, *patches: dict[str, Any]) -> Described:
        self.put(*patches)
        self.write("catalogue.yaml", merged(CATALOGUE, PROMISES))
        return read_estate(self.folder / "estate.yaml")

    def test_against_every_state(self) -> None:
        for words, patches in (("lines", [LINES]), ("a pair over zones", [PAIR]), ("both", [LINES, PAIR])):
            with self.subTest(words):
                described = self.read(*patches)
                reached, there = dict.fromkeys(described.estate.flows, 0.0), dict.fromkeys(described.estate.flows, 0.0)
                for share_of_time, zones, exits in every_state(described):
                    case = case_patch(described, Case(lose_zones=zones, lose_exits=exits))
                    paths = flow_paths(described.struck(case, "state"))
                    for flow, own in paths.by_flow.items():
                        if paths.described.estate.workloads["pumps"].hosts:
                            there[flow] += share_of_time
                            reached[flow] += share_of_time * sum(
                                float(one.share) for one in own if one.example.verdict.arrives
                            )
                for flow, found in flow_availability(flow_paths(described)).items():
                    self.assertAlmostEqual(found, reached[flow] / there[flow], places=12)

    def test_by_hand(self) -> None:
        """What takes over is not down; hosts that are lost with their zone are not cut off."""
        alone = {"exits": {"second": None}}
        line = 0.95 * (1 - 0.1**2)
        two = line + (1 - line) * 0.95 * 0.9
        zones = {"zone_availability": None}
        for words, patches, promises, flow, expected in (
            ("one line, two routers", [LINES, alone], zones, "readings", line),
            ("two lines", [LINES], zones, "readings", two),
            ("a gateway in each zone", [], zones, "forecast", 0.93),
            ("a gateway in each zone, which may be lost", [], {}, "forecast", 0.93),
            # Of four states of two zones the one in which hosts are left in b alone, which the lost one cuts off.
            (
                "one gateway for both zones",
                [{"route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}}}],
                {},
                "forecast",
                0.93 * 0.97 / (1 - 0.03**2),
            ),
        ):
            with self.subTest(words):
                self.read(*patches)
                self.write("catalogue.yaml", merged(merged(CATALOGUE, PROMISES), promises))
                described = read_estate(self.folder / "estate.yaml")
                self.assertAlmostEqual(flow_availability(flow_paths(described))[flow], expected, places=12)

    def test_what_is_not_looked_at_of_many_zones_counts_as_down(self) -> None:
        """Eight zones of 0.97: states with four lost or more are none of those that are looked at."""
        more = {
            f"spare-{zone}": {"network": "plant", "zone": zone, "prefix": f"10.60.{number}.0/24", "routes": "edge"}
            for number, zone in enumerate("cdefgh", 10)
        }
        described = self.read({"subnets": more})
        # With hosts left in a or in b, their own gateway works 0.93 of the time.
        looked_at = sum(
            0.03**lost * 0.97 ** (8 - lost) * (comb(8, lost) - (comb(6, lost - 2) if lost > 1 else 0))
            for lost in range(4)
        )
        skipped = sum(0.03**lost * 0.97 ** (8 - lost) * comb(8, lost) for lost in range(4, 9))
        found = flow_availability(flow_paths(described))["forecast"]
        self.assertAlmostEqual(found, 0.93 * looked_at / (looked_at + skipped), places=12)
