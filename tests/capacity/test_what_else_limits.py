"""Limits beside ports: few connections on nodes and equal routes, partners, hosts' interfaces, tunnels, directions."""

import random
from collections import Counter
from typing import Any

from fenrask.capacity import Capacity, capacity
from fenrask.checks import check
from fenrask.demand import demand
from fenrask.evaluation import evaluate
from fenrask.routing import flow_paths
from fenrask.teletraffic.spreading import busiest_part
from tests.support import InFolder, merged

GIB_S = 2**30 / (730 * 3600)
STANDING: dict[str, Any] = {
    "flows": {
        "talk": {
            "per_host_per_s": None,
            "duration_s": None,
            "persistent_per_host": 1,
            "out_gib_per_month": 73_000,
            "packet_bytes": 1000,
        }
    },
    "workloads": {"work": {"hosts": 8}},
}


def busiest(connections: int, places: int, times: int = 40_000) -> float:
    """By throwing them."""
    dice = random.Random(connections * 97 + places)
    most = sum(max(Counter(dice.choices(range(places), k=connections)).values()) for _ in range(times))
    return most * places / connections / times


class Spreading(InFolder):
    def sized(self, patch: dict[str, Any], catalogue: dict[str, Any] | None = None) -> Capacity:
        return capacity(demand(flow_paths(self.estate(patch, catalogue))))

    def test_the_busiest_place_of_several(self) -> None:
        for connections, places in ((8, 4), (1, 3), (3, 2), (40, 7), (399, 4), (401, 4), (900, 16)):
            with self.subTest(connections=connections, places=places):
                seen = busiest(connections, places, 40_000 if connections < 100 else 4_000)
                self.assertAlmostEqual(busiest_part(connections, places) / seen, 1.0, delta=0.02)
        self.assertEqual(busiest_part(5, 1), 1.0)

    def test_few_connections_on_nodes(self) -> None:
        """Eight connections that carry the same on four nodes: the busiest has 1.77 times an even part."""
        limits = {"gbit_per_s": 10, "node": {"gbit_per_s": 10, "packets_per_s": 1e6}}
        wall = {"kind": "inspecting-firewall", "offer": "wall", "nodes": 4, "addresses": 1}
        patch = merged(STANDING, {"subnets": {"edge": {"routes": "public"}}, "exits": {"gate": wall}})
        [one] = self.sized(patch, {"offers": {"wall": {"limits": limits}}}).exits
        found = {limit.limit: limit for limit in one.limits}
        whole = 73_000 * GIB_S * 8 / 1e9
        self.assertAlmostEqual(found["bits per second"].use, whole)
        self.assertAlmostEqual(found["bits per second of a node"].use / (whole / 4), busiest(8, 4), delta=0.02)
        self.assertIn("1.77 times an even part (8 connections on 4 nodes)", found["bits per second of a node"].detail)
        many = merged(patch, {"flows": {"talk": {"persistent_per_host": 5000}}})
        [one] = self.sized(many, {"offers": {"wall": {"limits": limits}}}).exits
        found = {limit.limit: limit for limit in one.limits}
        self.assertAlmostEqual(found["bits per second of a node"].use / (whole / 4), 1.0, delta=0.015)

    def test_few_connections_on_equal_routes(self) -> None:
        """Four connections by two gateways with equal routes: three times in eight all but one take the same."""
        second = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": ["203.0.113.2"]}
        routes = {"private": {"0.0.0.0/0": [{"exit": "gate"}, {"exit": "second"}]}}
        patch = merged(
            STANDING, {"exits": {"second": second}, "route_tables": routes, "workloads": {"work": {"hosts": 4}}}
        )
        found = self.sized(patch, {"offers": {"gate": {"limits": {"gbit_per_s": 10}}}}).exits
        for one in found:
            [bits] = [limit for limit in one.limits if limit.limit == "bits per second"]
            half = 73_000 * GIB_S * 8 / 1e9 / 2
            # Binomial(4, 1/2): the larger side has 4, 3 or 2 with 2, 8 and 6 chances of 16.
            self.assertAlmostEqual(bits.use / half, (4 * 2 + 3 * 8 + 2 * 6) / 16 / 2, places=6)

    def test_directions_and_one_connection(self) -> None:
        limits = {"out_gbit_per_s": 1, "in_gbit_per_s": 1, "connection_gbit_per_s": 0.01}
        talk = {"out_kib_per_connection": 1000, "in_kib_per_connection": 100, "packet_bytes": 1000}
        [one] = self.sized({"flows": {"talk": talk}}, {"offers": {"gate": {"limits": limits}}}).exits
        found = {limit.limit: limit.use for limit in one.limits}
        self.assertAlmostEqual(found["bits sent per second"], 10 * 1000 * 1024 * 8 / 1e9)
        self.assertAlmostEqual(found["bits received per second"], 10 * 100 * 1024 * 8 / 1e9)
        # 1,100 KiB in the 2 s that a connection lasts.
        self.assertAlmostEqual(found["bits per second of a connection"], 1100 * 1024 * 8 / 2 / 1e9)

    def test_what_a_partner_takes_from_one_address(self) -> None:
        """500 new ones a second at 100 an address need five addresses; and so do 1,000 open ones at 200."""
        for limit in ({"new_per_s": 100.0}, {"connections": 200}):
            patch = {
                "destinations": {"partner": {"per_source": limit}},
                "workloads": {"work": {"hosts": 500}},
                "exits": {"gate": {"addresses": "auto"}},
            }
            big = {"offers": {"gate": {"ports": {"per_address": 60_000}}}}
            with self.subTest(limit=limit):
                [one] = self.sized(patch, big).exits
                self.assertEqual((one.needed, one.addresses, one.fits), (5, 5, True))
                described = self.estate({**patch, "exits": {"gate": {"addresses": 4}}}, big)
                [one] = capacity(demand(flow_paths(described))).exits
                self.assertFalse(one.fits)
                self.assertIn("partner's limit", one.verdict)
                [found] = [each for each in check(evaluate(described)) if each.rule == "limit-exceeded"]
                cured = capacity(demand(flow_paths(described.patched(found.fix or {}, "fix"))))
                self.assertTrue(cured.fits)
        # A margin for growth counts here too.
        patch["targets"] = {"growth_margin": 0.3}
        [one] = self.sized(patch, big).exits
        self.assertEqual((one.needed_now, one.needed), (5, 7))

    def test_a_hosts_own_interface(self) -> None:
        talk = {"out_kib_per_connection": 1000, "packet_bytes": 1000, "profile": "day"}
        interface = {"gbit_per_s": 0.01, "connections": 10, "packets_per_s": 5000}
        profiles = {"day": [1] * 23 + [3]}
        described = self.estate(
            {"flows": {"talk": talk}, "workloads": {"work": {"interface": interface}}, "profiles": profiles}
        )
        [one] = capacity(demand(flow_paths(described))).hosts
        found = {limit.limit: limit.use for limit in one.limits}
        self.assertAlmostEqual(found["bits per second"], 3 * 1000 * 1024 * 8 / 1e9)
        self.assertAlmostEqual(found["connections"], 3 * 2)
        self.assertAlmostEqual(found["packets per second"], 3 * 1024)
        self.assertEqual([limit.limit for limit in one.exceeded], ["bits per second"])
        page = self.program("capacity")
        self.assertIn("Each host of work exceeds its interface", page.stdout)

    def test_packets_of_a_tunnel(self) -> None:
        """Packets of 1,400 bytes, each with 60 more: 100 KiB take 76 segments of 1,348 bytes, not 71."""
        line = {
            "kind": "tunnel", "network": "net", "third_party": "partner", "received": ["198.51.100.0/24"],
            "advertised": ["10.0.0.0/16"], "offer": "line", "mtu": 1400, "overhead_bytes": 60,
        }  # fmt: skip
        talk = {"out_kib_per_connection": 100, "in_kib_per_connection": 0}
        patch = {
            "exits": {"line": line},
            "route_tables": {"private": {"198.51.100.0/24": "line"}},
            "flows": {"talk": talk},
        }
        offer = {"kind": "tunnel", "limits": {"packets_per_s": 1e6, "gbit_per_s": 1}}
        found = self.sized(patch, {"offers": {"line": offer}}).limits_of("line")
        assert found is not None
        use = {limit.limit: limit.use for limit in found.limits}
        packets = 6 + 76 + 38 + 1 + 1
        self.assertAlmostEqual(use["packets per second"], 10 * packets)
        self.assertAlmostEqual(use["bits per second"], 10 * (100 * 1024 + packets * (52 + 60)) * 8 / 1e9)
