"""Facts that one number or one comparison decides, each by hand: what no other test would miss if it were changed."""

from fractions import Fraction
from itertools import product

from fenrask.capacity import capacity
from fenrask.demand import demand
from fenrask.evaluation import evaluate
from fenrask.routing import flow_paths
from tests.support import InFolder

THREE_ZONES = {
    "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"},
    "app-c": {"network": "net", "zone": "c", "prefix": "10.0.3.0/26", "routes": "private"},
}


class SmallFacts(InFolder):
    def test_bits_go_with_the_profile_whatever_its_mean(self) -> None:
        """The month's bytes go with a mean multiplier of 1.25: an hour of multiplier 2 has 1.6 of the mean."""
        limit = {"offers": {"gate": {"limits": {"gbit_per_s": 1}}}}
        flow = {"out_gib_per_month": 730, "in_gib_per_month": 0, "profile": "day"}
        for day, factor in (([1.0] * 24, 1.0), ([2.0] * 12 + [0.5] * 12, 1.6)):
            described = self.estate({"profiles": {"day": day}, "flows": {"talk": flow}}, limit)
            [gate] = capacity(demand(flow_paths(described))).exits
            [bits] = [one for one in gate.limits if one.limit == "bits per second"]
            # One GiB an hour, and headers: between 2^33 / 3600 bits a second and a tenth more.
            mean = 2**33 / 3600 / 1e9
            self.assertGreater(bits.use, mean * factor)
            self.assertLess(bits.use, mean * factor * 1.1)

    def test_hosts_are_spread_by_usable_addresses(self) -> None:
        """254 of a /24 and 62 of a /26: the network's and the broadcast address are no host's."""
        described = self.estate({"subnets": THREE_ZONES, "workloads": {"work": {"subnets": ["app-b", "app-c"]}}})
        shares = described.estate.host_shares("work")
        self.assertEqual(shares, {"app-b": Fraction(254, 316), "app-c": Fraction(62, 316)})

    def test_an_endpoint_in_two_zones_is_in_another_zone_for_the_third_alone(self) -> None:
        inner = {"kind": "in-subnet-endpoint", "offer": "inner", "subnets": ["app", "app-b"], "destination": "store"}
        described = self.estate(
            {
                "subnets": THREE_ZONES,
                "exits": {"inner": inner},
                "workloads": {"work": {"subnets": ["app", "app-b", "app-c"]}},
                "flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}},
            }
        )
        crossing = {
            path.subnet: any(hop.crosses_zone for hop in path.trace.hops)
            for path in evaluate(described).paths.by_flow["save"]
        }
        self.assertEqual(crossing, {"app": False, "app-b": False, "app-c": True})

    def test_a_line_that_announces_a_part_gets_replies_for_that_part(self) -> None:
        """Of 10.0.1.0/24 the lower half is told, which is 127 of the 254 hosts: .1 to .127."""
        line = {"kind": "circuit", "network": "net", "received": ["172.20.0.0/16"], "advertised": ["10.0.1.0/25"]}
        described = self.estate(
            {
                "exits": {"line": line},
                "destinations": {"pilots": {"prefixes": ["172.20.0.0/16"]}},
                "flows": {"pilot": {"from": "work", "to": "pilots", "per_host_per_s": 1}},
            }
        )
        paths = evaluate(described).paths.by_flow["pilot"]
        arriving = sum((one.share for one in paths if one.trace.verdict.arrives), Fraction(0))
        self.assertEqual(arriving, Fraction(127, 254))

    def test_ipv6_hosts_reach_public_addresses_by_a_gateway_and_private_ones_by_none(self) -> None:
        """Asked for as 64:ff9b::/96 (RFC 6052), which is public whatever IPv4 address it holds."""
        six = {"app": {"prefix": "2001:db8:1::/64"}}
        routes = {"private": {"0.0.0.0/0": None, "::/0": "gate"}}
        verdicts = {
            "203.0.113.0/28": "arrives",
            "192.168.9.0/28": "private destination",
            "100.64.9.0/28": "private destination",
        }
        in_subnet, of_network = {"nat64": True}, {"nat64": True, "subnet": None, "network": "net"}
        for gate, (prefix, verdict) in product((in_subnet, of_network), verdicts.items()):
            described = self.estate(
                {
                    "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:1::/56"]}},
                    "subnets": six,
                    "route_tables": routes,
                    "exits": {"gate": gate},
                    "destinations": {"partner": {"prefixes": [prefix]}},
                }
            )
            with self.subTest(gate=gate, prefix=prefix):
                [path] = evaluate(described).paths.by_flow["talk"]
                self.assertEqual(path.trace.verdict.value, verdict)

    def test_what_a_hub_injects_is_known_in_the_networks_that_it_joins_alone(self) -> None:
        described = self.estate(
            {
                "networks": {"isle": {"prefixes": ["10.1.0.0/16"]}},
                "subnets": {"far": {"network": "isle", "zone": "a", "prefix": "10.1.1.0/24", "routes": "far"}},
                "route_tables": {"far": {}},
                "exits": {
                    "hub": {"kind": "hub", "networks": ["net"], "injects": ["172.20.0.0/16"]},
                    "line": {
                        "kind": "circuit",
                        "hub": "hub",
                        "received": ["172.20.0.0/16"],
                        "advertised": ["10.0.0.0/15"],
                    },
                },
                "destinations": {"pilots": {"prefixes": ["172.20.7.0/24"]}},
                "workloads": {"batch": {"subnets": ["far"], "hosts": 2}},
                "flows": {
                    "near": {"from": "work", "to": "pilots", "per_host_per_s": 1},
                    "far": {"from": "batch", "to": "pilots", "per_host_per_s": 1},
                },
            }
        )
        paths = evaluate(described).paths.by_flow
        told = {name: [(one.trace.verdict.value, one.trace.exits) for one in paths[name]] for name in ("near", "far")}
        self.assertEqual(told["near"], [("arrives", ("hub", "line"))])
        self.assertEqual(told["far"], [("no route", ())])
