"""Every limit of an offer, the growth it allows, and subnets divided over gateways: figures made by hand."""

from itertools import combinations
from typing import Any

from fenrask.capacity import Capacity, ExitCapacity, capacity, translators
from fenrask.demand import demand
from fenrask.routing import flow_paths
from fenrask.teletraffic.spreading import busiest_part
from tests.support import InFolder


def estate_of(hosts: dict[str, int], zones: dict[str, str] | None = None) -> dict[str, Any]:
    """Subnets with so many hosts each, all behind one gateway; a host holds 62 connections to the partner."""
    names = list(hosts)
    subnets = {
        name: {
            "network": "net",
            "zone": (zones or {}).get(name, "a"),
            "prefix": f"10.0.{20 + number}.0/24",
            "routes": "private",
        }
        for number, name in enumerate(names)
    }
    return {
        "subnets": {**subnets, "app": None},
        "exits": {"gate": {"addresses": "auto"}},
        "workloads": {"work": None, **{f"w-{name}": {"subnets": [name], "hosts": hosts[name]} for name in names}},
        "flows": {
            "talk": None,
            **{
                f"f-{name}": {"from": f"w-{name}", "to": "partner", "per_host_per_s": 1, "duration_s": 2}
                for name in names
            },
        },
    }


class Sized(InFolder):
    def sized(self, patch: dict[str, Any], catalogue: Any = None) -> Capacity:
        return capacity(demand(flow_paths(self.estate(patch, catalogue))))

    def gate(self, patch: dict[str, Any], **offer: Any) -> ExitCapacity:
        [one] = self.sized(patch, {"offers": {"gate": offer}}).exits
        return one


class Ladder(Sized):
    TALK = {"flows": {"talk": {"out_kib_per_connection": 1000, "in_kib_per_connection": 24, "packet_bytes": 512}}}

    def test_each_limit_with_use_headroom_and_growth(self) -> None:
        limits = {
            "addresses": 4,
            "connections": 700,
            "connections_per_tuple": 500,
            "new_per_s": 11,
            "gbit_per_s": 1,
            "packets_per_s": 30_000,
            "hosts": 12,
            "subnets": 8,
            "node": {"connections": 300, "new_per_s": 4, "gbit_per_s": 0.1, "packets_per_s": 5500},
        }
        patch = {
            "subnets": {"edge": {"routes": "public"}},
            "exits": {"gate": {"kind": "inspecting-firewall", "offer": "wall", "nodes": 4, "addresses": 1}},
            **self.TALK,
        }
        mapping_timeout = {"mapping_timeout_s": {"closed": 60}}
        [one] = self.sized(patch, {"offers": {"wall": {"limits": limits, **mapping_timeout}}}).exits
        bits = 10 * 1024 * 1024 * 8 / 1e9
        # Twenty open ones, and 3,000 new in five minutes, each on one of four nodes.
        uneven = busiest_part(20 + 3000, 4)
        expected = {
            "ports": (620.0, 1000.0),
            "addresses": (1, 4),
            "connections": (620.0, 700),
            "connections of a tuple": (620.0, 500),
            "new per second": (10.0, 11),
            "bits per second": (bits, 1),
            "packets per second": (10 * 1024 * 2, 30_000),
            "hosts": (10, 12),
            "subnets": (1, 8),
            "connections of a node": (155.0, 300),
            "new per second of a node": (2.5, 4),
            "bits per second of a node": (bits / 4 * uneven, 0.1),
            "packets per second of a node": (10 * 1024 * 2 / 4 * uneven, 5500),
        }
        found = {limit.limit: limit for limit in one.limits}
        self.assertEqual(sorted(found), sorted(expected))
        for name, (use, most) in expected.items():
            with self.subTest(name):
                limit = found[name]
                self.assertAlmostEqual(limit.use, use)
                self.assertAlmostEqual(limit.headroom, (most - use) / most)
                if name in ("hosts", "subnets"):
                    self.assertIsNone(limit.growth)
                elif name not in ("ports", "addresses"):
                    self.assertAlmostEqual((limit.growth or 0) + 1, most / use)
        self.assertEqual(one.limits[0].limit, "connections of a tuple")
        self.assertFalse(one.fits)

    def test_ended_connections_stay_in_a_table_until_their_timers_end(self) -> None:
        """Ports that are given out again early are free, their entries are not: 3,000 a second for 2 and 119 s."""
        patch = {
            "workloads": {"work": {"hosts": 300}},
            "exits": {"gate": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}},
            "flows": {"talk": {"per_host_per_s": 10, "duration_s": 2, "closed_share": 1}},
        }
        ports = {"per_address": 64_512, "early_reuse_share": {"closed": 0.95}}
        offer = {"ports": ports, "limits": {"connections": 262_144}, "mapping_timeout_s": {"closed": 119}}
        found = self.sized(patch, {"offers": {"host": offer}})
        [one] = found.exits
        # Open ones for 2 s, ended ones for their timer, whoever has their ports by then.
        rows = {(row["state"], row["timer_s"]): row["entries"] for row in self.json("capacity", status=1)["entries"]}
        self.assertEqual(
            {key: round(value) for key, value in rows.items()}, {("closed", 119.0): 357_000, ("open", None): 6000}
        )
        limits = {limit.limit: limit for limit in one.limits}
        self.assertAlmostEqual(limits["ports"].use, 3000 * (2 + 0.05 * 119))
        self.assertAlmostEqual(limits["connections"].use, 3000 * (2 + 119))
        self.assertIn("ended ones included", limits["connections"].detail)
        self.assertFalse(one.fits)
        [translator] = translators(found)
        # The next power of two above half as many again.
        self.assertEqual(translator.table, 2**20)
        few = self.sized({**patch, "workloads": {"work": {"hosts": 3}}}, {"offers": {"host": offer}})
        # Never below what the kernel has by itself.
        self.assertEqual([one.table for one in translators(few)], [262_144])

    def test_load_grown_by_what_the_ports_still_allow_is_at_the_target(self) -> None:
        for choice in ("any-free", "by-host"):
            with self.subTest(choice=choice):
                offer = {"ports": {"address_choice": choice}}
                patch = {"exits": {"gate": {"addresses": 2}}, "workloads": {"work": {"hosts": 16}}}
                growth = self.gate(patch, **offer).port_limit.growth
                assert growth is not None
                for factor, fits in ((1 + growth * 0.999, True), (1 + growth * 1.01, False)):
                    more = {**patch, "flows": {"talk": {"per_host_per_s": factor}}}
                    self.assertEqual(self.gate(more, **offer).enough_addresses, fits)

    def test_room_for_growth_is_a_policy(self) -> None:
        patch = {"exits": {"gate": {"addresses": "auto"}}, "workloads": {"work": {"hosts": 14}}}
        today = self.gate(patch)
        grown = self.gate({**patch, "targets": {"growth_margin": 0.5}})
        self.assertEqual((today.needed, today.addresses), (1, 1))
        self.assertEqual((grown.needed_now, grown.needed, grown.addresses), (1, 2, 2))
        self.assertIn("needs 2 addresses (1 today)", grown.verdict)
        # A stated count that does today is not found wanting for want of room.
        stated = self.gate({**patch, "exits": {"gate": {"addresses": 1}}, "targets": {"growth_margin": 0.5}})
        self.assertTrue(stated.fits)

    def test_shares_of_distinct_addresses_may_be_uneven(self) -> None:
        patch = {"destinations": {"partner": {"distinct_addresses": [0.5, 0.3, 0.2]}}}
        one = self.gate(patch)
        self.assertAlmostEqual(one.ports.concurrent if one.ports else 0, 310.0)
        self.assertIn("an address with 0.5 of it", one.ports.binding if one.ports else "")

    def test_one_source_per_host_splits_the_pool_unless_one_address_does(self) -> None:
        patch = {"exits": {"gate": {"addresses": "auto"}}, "workloads": {"work": {"hosts": 30}}}
        free = self.gate(patch)
        tied = self.gate({**patch, "destinations": {"partner": {"needs": {"one_source_per_host": True}}}})
        self.assertLess(free.needed or 0, tied.needed or 0)

    def test_tcp_and_udp_have_ports_of_their_own(self) -> None:
        patch = {
            "destinations": {"names": {"prefixes": ["203.0.113.64/26"], "port": 53, "protocol": "udp"}},
            "flows": {"ask": {"from": "work", "to": "names", "per_host_per_s": 2, "duration_s": 1}},
        }
        once = self.gate(patch, ports={"assignment": "shared-once"})
        self.assertEqual({stream.label for stream in once.streams}, {"all tcp connections", "all udp connections"})
        self.assertAlmostEqual(once.ports.concurrent if once.ports else 0, 620.0)


class Splitting(Sized):
    LIMITS = {"limits": {"addresses": 2}}

    def test_the_fewest_gateways_for_subnets_of_unequal_load(self) -> None:
        # 2,000 ports within 1e-4 hold about 1,870 connections: thirty hosts of 62 each.
        hosts = {"app0": 20, "app1": 17, "app2": 12, "app3": 10, "app4": 9, "app5": 9, "app6": 8, "app7": 5}
        one = self.gate(estate_of(hosts), **self.LIMITS)
        assert one.split is not None
        self.assertTrue(one.split.proven)
        self.assertEqual(len(one.split.shares), 3)
        seen = sorted(name for share in one.split.shares for name in share.subnets)
        self.assertEqual(seen, sorted(hosts))
        for share in one.split.shares:
            self.assertLessEqual(sum(hosts[name] for name in share.subnets), 30)
            self.assertEqual(share.addresses, 2 if sum(hosts[name] for name in share.subnets) > 14 else 1)
        # By hand: no two sets of thirty hold all ninety but for three.
        self.assertGreater(sum(hosts.values()), 2 * 30)

    def test_no_split_where_one_gateway_does(self) -> None:
        self.assertIsNone(self.gate(estate_of({"app0": 10, "app1": 12}), **self.LIMITS).split)

    def test_zones_are_kept_by_an_offer_for_a_zone_and_not_by_one_for_a_region(self) -> None:
        hosts, zones = (
            {"app0": 10, "app1": 10, "app2": 11, "app3": 10},
            {"app0": "a", "app1": "b", "app2": "c", "app3": "a"},
        )
        by_zone = self.gate(estate_of(hosts, zones), **self.LIMITS).split
        by_region = self.gate(estate_of(hosts, zones), scope="region", **self.LIMITS).split
        assert by_zone is not None and by_region is not None
        self.assertEqual({share.zone for share in by_zone.shares}, {"a", "b", "c"})
        self.assertEqual((len(by_zone.shares), len(by_region.shares)), (3, 2))

    def test_a_subnet_that_is_too_much_alone_is_named_with_its_numbers(self) -> None:
        one = self.gate(estate_of({"app0": 40, "app1": 10, "app2": 12}), **self.LIMITS)
        assert one.split is not None
        [much] = one.split.too_much
        self.assertEqual(much.subnet, "app0")
        self.assertIn("needs 3 addresses and a gateway takes 2 (2,480 held toward partner:443/tcp)", much.why)
        self.assertIn("app0 is too much for any gateway", str(one.split))

    def test_every_limit_divides(self) -> None:
        hosts = {f"app{n}": 6 for n in range(7)}
        for limits, expected in (
            ({"subnets": 3}, 3),
            ({"hosts": 13}, 4),
            ({"new_per_s": 18.5}, 3),
            ({"connections": 800}, 4),
        ):
            with self.subTest(limits=limits):
                split = self.gate(estate_of(hosts), limits=limits).split
                assert split is not None
                self.assertEqual((len(split.shares), split.proven), (expected, True))

    def test_loads_that_peak_at_other_times_share_a_gateway(self) -> None:
        patch = estate_of({"app0": 28, "app1": 28})
        patch["profiles"] = {"early": [1.0] * 12 + [0.01] * 12, "late": [0.01] * 12 + [1.0] * 12}
        level = self.gate(patch, **self.LIMITS)
        self.assertEqual(len(level.split.shares if level.split else ()), 2)
        patch["flows"]["f-app0"]["profile"], patch["flows"]["f-app1"]["profile"] = "early", "late"
        self.assertIsNone(self.gate(patch, **self.LIMITS).split)

    def test_connections_that_are_always_open_fill_all_ports(self) -> None:
        """980 of them for each subnet, and 2,000 ports hold two such: of what comes and goes they would hold 1,870."""
        patch = estate_of({f"app{n}": 10 for n in range(4)})
        load = {"per_host_per_s": None, "duration_s": None, "persistent_per_host": 98.0}
        patch["flows"] = {name: flow and {**flow, **load} for name, flow in patch["flows"].items()}
        for limit, gateways in ((1, 4), (2, 2)):
            with self.subTest(limit=limit):
                split = self.gate(patch, limits={"addresses": limit}).split
                assert split is not None
                self.assertEqual((len(split.shares), split.proven), (gateways, True))

    def test_hosts_tied_to_addresses_are_divided_too(self) -> None:
        hosts = {f"app{n}": 12 for n in range(4)}
        one = self.gate(estate_of(hosts), ports={"address_choice": "by-host"}, **self.LIMITS)
        assert one.split is not None
        for pair in combinations(hosts, 2):
            fits = self.gate(estate_of({name: 12 for name in pair}), ports={"address_choice": "by-host"}, **self.LIMITS)
            self.assertFalse(fits.fits)
        self.assertEqual(len(one.split.shares), 4)
