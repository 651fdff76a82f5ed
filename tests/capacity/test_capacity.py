"""Ports and limits of exits, against Erlang's recursion and figures made by hand."""

from typing import Any

from fenrask.capacity import Capacity, capacity
from fenrask.demand import demand
from fenrask.routing import flow_paths
from tests.support import InFolder
from tests.teletraffic.test_erlang import recursion


class Sizing(InFolder):
    def sized(self, patch: dict[str, Any], catalogue: Any = None) -> Capacity:
        return capacity(demand(flow_paths(self.estate(patch, catalogue))))

    def test_auto_is_the_least_that_meets_the_target(self) -> None:
        for hosts in (0, 1, 10, 15, 16, 17, 40, 100):
            with self.subTest(hosts=hosts):
                patch = {"workloads": {"work": {"hosts": hosts}}, "exits": {"gate": {"addresses": "auto"}}}
                [one] = self.sized(patch).exits
                load = hosts * 62.0
                least = next(n for n in range(1, 50) if float(recursion(n * 1000, load)) <= 1e-4)
                self.assertEqual(one.addresses, least)
                self.assertTrue(one.fits)

    def test_refusals_of_a_stated_count(self) -> None:
        [one] = self.sized({"workloads": {"work": {"hosts": 17}}}).exits
        exact = float(recursion(1000, 17 * 62.0))
        self.assertAlmostEqual(one.blocking / exact, 1, places=10)
        self.assertAlmostEqual(one.ports.blocked_per_day if one.ports else 0, exact * 17 * 86400, places=4)
        self.assertEqual((one.needed, one.fits), (2, False))
        self.assertIn("gate needs 2 addresses; it has 1: ports for partner:443/tcp run out", one.verdict)

    def test_distinct_addresses_widen_the_room_but_only_those_that_are_reached(self) -> None:
        wide = {"destinations": {"partner": {"distinct_addresses": 4}}}
        for patch, expected in (
            ({}, 620.0),
            (wide, 155.0),
            # Half of the prefix is lost: the other half's connections go to half of the addresses.
            ({**wide, "route_tables": {"private": {"198.51.100.0/25": "old"}}}, 155.0),
        ):
            with self.subTest(patch=patch):
                [one] = self.sized(patch).exits
                self.assertAlmostEqual(one.ports.concurrent if one.ports else 0, expected)

    def test_the_binding_tuple_is_the_busiest(self) -> None:
        patch = {
            "destinations": {"other": {"prefixes": ["203.0.113.64/26"], "port": 53, "protocol": "udp"}},
            "flows": {"ask": {"from": "work", "to": "other", "per_host_per_s": 3, "duration_s": 0.1}},
        }
        [one] = self.sized(patch).exits
        self.assertEqual(one.ports.binding if one.ports else "", "other:53/udp")

    def test_every_limit_the_tightest_first(self) -> None:
        limits = {"addresses": 4, "connections": 700, "new_per_s": 11, "gbit_per_s": 1, "subnets": 8}
        [one] = self.sized(
            {"flows": {"talk": {"out_kib_per_connection": 1000, "in_kib_per_connection": 24}}},
            {"offers": {"gate": {"limits": limits}}},
        ).exits
        found = {limit.limit: (limit.use, limit.headroom) for limit in one.limits}
        # On the wire: 708 and 17 segments, 354 and 9 acknowledgements, 6 packets to open and close, 52 bytes on each.
        gbit = 10 * (1024 * 1024 + (708 + 17 + 354 + 9 + 6) * 52) * 8 / 1e9
        expected = {
            "ports": (620.0, 0.38),
            "addresses": (1, 0.75),
            "connections": (620.0, 80 / 700),
            "new per second": (10.0, 1 / 11),
            "bits per second": (gbit, 1 - gbit),
            "subnets": (1, 7 / 8),
        }
        for name, (use, headroom) in expected.items():
            with self.subTest(name):
                self.assertAlmostEqual(found[name][0], use)
                self.assertAlmostEqual(found[name][1], headroom)
        self.assertEqual([limit.limit for limit in one.limits][:2], ["new per second", "connections"])

    def test_exactly_full_is_feasible_and_one_over_is_not(self) -> None:
        for cap, fits in ((620, True), (619, False)):
            [one] = self.sized({}, {"offers": {"gate": {"limits": {"connections": cap}}}}).exits
            self.assertEqual(one.fits, fits)

    def test_more_addresses_than_the_offer_takes_are_told(self) -> None:
        patch = {"workloads": {"work": {"hosts": 100}}, "exits": {"gate": {"addresses": "auto"}}}
        [one] = self.sized(patch, {"offers": {"gate": {"limits": {"addresses": 2}}}}).exits
        self.assertEqual((one.addresses, one.needed, one.fits), (2, 7, False))
        self.assertIn("but its offer allows 2", one.verdict)

    def test_a_stated_count_above_the_offers_limit_does_not_fit(self) -> None:
        [one] = self.sized(
            {"exits": {"gate": {"addresses": 3}}}, {"offers": {"gate": {"limits": {"addresses": 2}}}}
        ).exits
        self.assertFalse(one.fits)
