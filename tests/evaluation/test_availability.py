"""Expected downtime against a simulation of failures and repairs, and by hand."""

import random

from fenrask.evaluation import evaluate
from fenrask.evaluation.availability import flow_availability
from tests.support import InFolder


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
