"""Ways out of small estates whose answers are known, one a row."""

from typing import Any

from fenrask.errors import UnusableInput
from fenrask.evaluation import broken_needs
from fenrask.routing import flow_paths, trace_from
from tests.support import InFolder, merged

GONE: Any = None
HOST = "host's private address"

# name, patch over the small estate, where to, verdict, exits in order, what the far side sees
TOPOLOGIES: tuple[tuple[str, dict[str, Any], str, str, tuple[str, ...], str], ...] = (
    ("by the gateway", {}, "partner", "arrives", ("gate", "door"), "203.0.113.1"),
    ("inside the network", {}, "10.0.9.7", "arrives", (), HOST),
    ("inside the network, where no subnet is", {}, "10.0.7.7", "address in no subnet", (), HOST),
    (
        "a reply whose route is to an exit that is gone",
        {"route_tables": {"public": {"10.0.1.0/24": "nowhere"}}},
        "partner",
        "no return",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "a reply whose route is to a line with its session down",
        {
            "route_tables": {"public": {"10.0.1.0/24": "line"}},
            "exits": {
                "line": {
                    "kind": "circuit",
                    "network": "net",
                    "received": ["172.16.0.0/12"],
                    "routers": {"r": {"session": "down"}},
                }
            },
        },
        "partner",
        "no return",
        ("gate", "door"),
        "203.0.113.1",
    ),
    ("no table at all", {"subnets": {"app": {"routes": GONE}}}, "partner", "no route", (), HOST),
    ("no default", {"route_tables": {"private": {"0.0.0.0/0": GONE}}}, "partner", "no route", (), HOST),
    (
        "a lent address where no route matches",
        {
            "route_tables": {"private": {"0.0.0.0/0": GONE}},
            "exits": {"lent": {"kind": "dynamic-address", "network": "net"}},
        },
        "partner",
        "arrives",
        ("lent",),
        "addresses of lent",
    ),
    (
        "a lent address is no rival to a route",
        {"exits": {"lent": {"kind": "dynamic-address", "network": "net"}}},
        "partner",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "a default to an exit that is gone",
        {"exits": {"gate": GONE}},
        "partner",
        "black hole",
        ("gate",),
        HOST,
    ),
    (
        "a dead route hides the live default",
        {"route_tables": {"private": {"198.51.100.0/25": "old"}}},
        "198.51.100.9",
        "black hole",
        ("old",),
        HOST,
    ),
    (
        "the live default beside a dead route",
        {"route_tables": {"private": {"198.51.100.0/25": "old"}}},
        "198.51.100.200",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "straight to the door without a public address",
        {"subnets": {"app": {"routes": "public"}}},
        "partner",
        "no public source",
        ("door",),
        HOST,
    ),
    (
        "a gateway in a private subnet sends to itself",
        {"subnets": {"edge": {"routes": "private"}}},
        "partner",
        "loop",
        ("gate", "gate"),
        "203.0.113.1",
    ),
    (
        "a firewall in front of a gateway, inspecting only",
        {
            "subnets": {
                "wall": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"},
            },
            "route_tables": {
                "private": {"0.0.0.0/0": "wall"},
                "walled": {"0.0.0.0/0": "gate"},
                "public": {"10.0.1.0/24": "wall"},
            },
            "exits": {
                "wall": {
                    "kind": "inspecting-firewall",
                    "offer": "wall",
                    "subnet": "wall",
                    "rewrites_toward": [],
                }
            },
        },
        "partner",
        "arrives",
        ("wall", "gate", "door"),
        "203.0.113.1",
    ),
    (
        "two appliances that send to each other",
        {
            "subnets": {"wall": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"}},
            "route_tables": {
                "private": {"0.0.0.0/0": "wall"},
                "walled": {"0.0.0.0/0": "gate"},
                "public": {"0.0.0.0/0": "wall"},
            },
            "exits": {
                "wall": {
                    "kind": "inspecting-firewall",
                    "offer": "wall",
                    "subnet": "wall",
                    "rewrites_toward": [],
                }
            },
        },
        "partner",
        "loop",
        ("wall", "gate", "wall"),
        "203.0.113.1",
    ),
    (
        "a translator host",
        {"exits": {"gate": {"kind": "translator-host", "offer": "host"}}},
        "partner",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "a gateway of the whole network",
        {"exits": {"gate": {"subnet": GONE, "network": "net"}}},
        "partner",
        "arrives",
        ("gate",),
        "203.0.113.1",
    ),
    (
        "a routed endpoint wins by longest prefix over the default",
        {
            "route_tables": {"private": {"store": "private-door"}},
            "exits": {
                "private-door": {
                    "kind": "routed-endpoint",
                    "offer": "door-to-service",
                    "network": "net",
                    "destination": "store",
                }
            },
        },
        "store",
        "arrives",
        ("private-door",),
        HOST,
    ),
    (
        "a routed endpoint does not carry another destination",
        {
            "route_tables": {"private": {"partner": "private-door"}},
            "exits": {
                "private-door": {
                    "kind": "routed-endpoint",
                    "offer": "door-to-service",
                    "network": "net",
                    "destination": "store",
                }
            },
        },
        "partner",
        "not carried",
        ("private-door",),
        HOST,
    ),
    (
        "an in-subnet endpoint is found by name",
        {
            "exits": {
                "inner": {
                    "kind": "in-subnet-endpoint",
                    "offer": "inner",
                    "subnets": ["app"],
                    "destination": "store",
                }
            }
        },
        "store",
        "arrives",
        ("inner",),
        HOST,
    ),
    (
        "an in-subnet endpoint whose names still resolve publicly is not taken",
        {
            "exits": {
                "inner": {
                    "kind": "in-subnet-endpoint",
                    "offer": "inner",
                    "subnets": ["app"],
                    "destination": "store",
                    "names": "public",
                }
            }
        },
        "store",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "static wins over learned at equal length",
        {
            "route_tables": {
                "private": {"0.0.0.0/0": [{"exit": "old", "origin": "learned"}, {"exit": "gate", "origin": "static"}]}
            }
        },
        "partner",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "a longer learned prefix wins over a shorter static one",
        {"route_tables": {"private": {"198.51.100.0/24": {"exit": "old", "origin": "learned"}}}},
        "partner",
        "black hole",
        ("old",),
        HOST,
    ),
    (
        "learned wins over injected",
        {
            "route_tables": {
                "private": {
                    "0.0.0.0/0": [
                        {"exit": "old", "origin": "injected"},
                        {"exit": "gate", "origin": "learned"},
                    ]
                }
            }
        },
        "partner",
        "arrives",
        ("gate", "door"),
        "203.0.113.1",
    ),
    (
        "the network's own prefixes win over everything",
        {"route_tables": {"private": {"10.0.0.0/8": "old"}}},
        "10.0.9.1",
        "arrives",
        (),
        HOST,
    ),
)


class Topologies(InFolder):
    def test_a_reply_by_equal_routes(self) -> None:
        """Of two firewalls one saw the request: the half of the replies that the other gets is lost."""
        wall = {"kind": "inspecting-firewall", "offer": "wall", "subnet": "walls", "rewrites_toward": []}
        back = [{"exit": "wall"}, {"exit": "twin"}]
        two = {
            "subnets": {"walls": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"}},
            "route_tables": {
                "private": {"0.0.0.0/0": "wall"},
                "walled": {"0.0.0.0/0": "gate"},
                "public": {"10.0.1.0/24": back},
            },
            "exits": {"wall": wall, "twin": wall},
        }
        found = {
            path.example.verdict.value: (float(path.share), path.trace.why)
            for path in flow_paths(self.estate(two)).paths
        }
        self.assertEqual(found["arrives"][0], 0.5)
        self.assertEqual(found["asymmetric return"], (0.5, "the reply meets twin, which never saw the request"))

    def test_each(self) -> None:
        for name, patch, target, verdict, exits, seen in TOPOLOGIES:
            with self.subTest(name):
                [(trace, share)] = trace_from(self.estate(patch), "app", target)
                self.assertEqual((trace.verdict.value, trace.exits, str(trace.source)), (verdict, exits, seen))
                self.assertEqual(share, 1)

    def test_a_host_with_a_public_address_leaves_by_the_door(self) -> None:
        [(trace, _)] = trace_from(self.estate({"subnets": {"app": {"routes": "public"}}}), "app", "partner", True)
        self.assertEqual((trace.verdict.value, str(trace.source)), ("arrives", "host's own public address"))

    def test_a_destination_in_parts_is_walked_in_parts(self) -> None:
        described = self.estate({"route_tables": {"private": {"198.51.100.0/26": "old"}}})
        found = {(trace.verdict.value, str(share)) for trace, share in trace_from(described, "app", "partner")}
        self.assertEqual(found, {("black hole", "1/4"), ("arrives", "3/4")})

    def test_zone_crossings_are_marked(self) -> None:
        [(trace, _)] = trace_from(self.estate({"subnets": {"app": {"zone": "b"}}}), "app", "partner")
        self.assertEqual([hop.crosses_zone for hop in trace.hops], [True, False])

    def test_unknown_names_are_told_together_with_near_ones(self) -> None:
        with self.assertRaises(UnusableInput) as caught:
            trace_from(self.estate(), "ap", "partnr")
        text = str(caught.exception)
        self.assertIn("'app'", text)
        self.assertIn("'partner'", text)


class Needs(InFolder):
    LENT: dict[str, Any] = {
        "route_tables": {"private": {"0.0.0.0/0": GONE}},
        "exits": {"lent": {"kind": "dynamic-address", "network": "net"}},
    }
    WALL: dict[str, Any] = {"exits": {"gate": {"kind": "inspecting-firewall", "offer": "wall"}}}

    def test_each_need_broken_and_met(self) -> None:
        cases: tuple[tuple[str, Any, dict[str, Any], bool], ...] = (
            ("fixed_source", True, self.LENT, True),
            ("fixed_source", True, {}, False),
            ("inspected", True, {}, True),
            ("inspected", True, self.WALL, False),
            ("off_internet", True, {}, True),
            (
                "max_source_addresses",
                1,
                {"exits": {"gate": {"addresses": ["203.0.113.1", "203.0.113.2"]}}},
                True,
            ),
            (
                "max_source_addresses",
                1,
                {"exits": {"gate": {"addresses": ["203.0.113.2", "203.0.113.3"]}}},
                False,
            ),
            ("max_source_addresses", 2, {"exits": {"gate": {"addresses": 3}}}, True),
            ("one_source_per_host", True, {"exits": {"gate": {"addresses": 2}}}, True),
            ("one_source_per_host", True, {}, False),
        )
        for need, value, patch, broken in cases:
            with self.subTest(need=need, patch=patch):
                described = self.estate(patch).patched({"destinations": {"partner": {"needs": {need: value}}}}, "need")
                found = [one.need for one in broken_needs(flow_paths(described), "talk")]
                self.assertEqual(found, [need] if broken else [])

    def test_a_gateway_that_keeps_each_host_to_an_address_shows_one_source(self) -> None:
        needs = {"destinations": {"partner": {"needs": {"one_source_per_host": True}}}}
        two = merged(needs, {"exits": {"gate": {"addresses": 2}}})
        for choice, broken in (("by-host", []), ("any-free", ["one_source_per_host"])):
            described = self.estate(two, {"offers": {"gate": {"ports": {"address_choice": choice}}}})
            with self.subTest(choice):
                self.assertEqual([one.need for one in broken_needs(flow_paths(described), "talk")], broken)

    def test_a_way_that_is_lost_breaks_arrival(self) -> None:
        found = broken_needs(flow_paths(self.estate({"exits": {"gate": GONE}})), "talk")
        self.assertEqual([one.need for one in found], ["arrives"])
