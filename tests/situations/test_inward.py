"""Situations in which the other end opens the connections: published services, platforms, partners, other networks."""

import json
from typing import Any

from tests.situations.base import CATALOGUE, ESTATE, Situation
from tests.support import merged

VISITS = {"per_host_per_s": 12, "duration_s": 2, "out_kib_per_connection": 50, "in_kib_per_connection": 2}
PORTAL: dict[str, Any] = {
    "subnets": {"portal-a": {"network": "plant", "zone": "a", "prefix": "10.60.20.0/26", "routes": "portal"}},
    "route_tables": {"portal": {"0.0.0.0/0": "front"}},
    "workloads": {"portal": {"subnets": ["portal-a"], "hosts": 6, "public_address": True}},
    "flows": {"bills": {"from": "internet", "to": "portal", "port": 443, **VISITS}},
}
WALL: dict[str, Any] = {
    "subnets": {"wall-a": {"network": "plant", "zone": "a", "prefix": "10.60.250.0/28", "routes": "edge"}},
    "exits": {
        "wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "wall-a", "addresses": ["203.0.113.40"]}
    },
}
# The pumps' hosts report to a wall, which publishes them to the internet.
PUBLISHED: dict[str, Any] = merged(
    WALL,
    {
        "exits": {"wall": {"publishes": {"status": {"port": 443, "to": "pumps", "to_port": 8443}}}},
        "flows": {"status": {"from": "internet", "to": "pumps", "port": 8443, **VISITS}},
    },
)
LINE: dict[str, Any] = {
    "exits": {
        "wire": {
            "kind": "circuit",
            "offer": "line",
            "network": "plant",
            "third_party": "the lab",
            "received": ["172.25.0.0/20"],
            "advertised": ["10.60.1.0/24"],
        }
    },
    "flows": {"probes": {"from": "the lab", "to": "pumps", "port": 22, "per_host_per_s": 0.1}},
}


class Inward(Situation):
    """Flows that come in, at a provider whose network behaves as told."""

    def at(self, behaviour: dict[str, Any], *changes: Any) -> None:
        self.put(*changes)
        self.write("catalogue.yaml", merged(CATALOGUE, {"behaviour": behaviour}))

    def of(self, flow: str, *more: str) -> list[tuple[str, list[str], float]]:
        """The paths of a flow: verdict, exits, share; what is lost first."""
        done = self.json("path", *more, status=None)
        return [(one["verdict"], one["exits"], one["share"]) for one in done["paths"] if one["flow"] == flow]

    def cured(self, flow: str, *more: str) -> str:
        """The remedy of a flow that is lost, which brings all of it in; the name of its file."""
        patch = self.remedy("inward-lost", *more)
        self.assertEqual({verdict for verdict, *_ in self.of(flow, *more, "--patch", patch)}, {"arrives"})
        self.assertNotIn("inward-lost", self.rules(*more, "--patch", patch))
        return patch


class APublicPortal(Inward):
    """A portal with public addresses: its visitors, and what a route, a rule or a need makes of them."""

    def test_its_visitors_and_their_bill(self) -> None:
        self.at({}, PORTAL)
        self.assertEqual(self.of("bills"), [("arrives", ["front"], 1.0)])
        bill = self.json("charges")
        # 6 hosts x 12/s x 50 KiB for 730 hours, in GB, at 0.071; and an address of each host, at 0.0063 an hour.
        sent = 6 * 12 * 50 * 1024 * 730 * 3600 / 1e9
        by_flow = {one["flow"]: one["amount"] for one in bill["flows"]}
        self.assertAlmostEqual(by_flow["bills"], sent * 0.071 + 6 * 730 * 0.0063, places=6)

    def test_replies_through_a_firewall_that_saw_no_request(self) -> None:
        self.at({}, PORTAL, WALL)
        self.assertEqual(self.of("bills")[0][0], "arrives")
        self.at({}, PORTAL, WALL, {"route_tables": {"portal": {"0.0.0.0/0": "wall"}}})
        self.assertEqual(self.of("bills")[0][0], "asymmetric return")
        self.cured("bills")

    def test_half_of_the_replies_by_an_equal_route(self) -> None:
        self.at({}, PORTAL, WALL)
        both = ("--set", "route_tables.portal={0.0.0.0/0: [{exit: front}, {exit: wall}]}")
        self.assertEqual(
            [(verdict, share) for verdict, _, share in self.of("bills", *both)],
            [("asymmetric return", 0.5), ("arrives", 0.5)],
        )

    def test_a_partner_whose_prefix_is_routed_elsewhere(self) -> None:
        """Visitors from a partner get their replies from another address, and all others do not."""
        self.at({}, PORTAL, {"route_tables": {"portal": {"weather": "nat-a"}}})
        found = self.of("bills")
        self.assertEqual([verdict for verdict, *_ in found], ["asymmetric return", "arrives"])
        whole = self.json("check", status=1)["findings"]
        [told] = [one["cause"] for one in whole if one["rule"] == "inward-lost"]
        self.assertIn("(from 198.51.100.64/28; <0.1% of it)", told)

    def test_filters_inward(self) -> None:
        group = {"in": {"web": {"action": "allow", "ports": [443]}}}
        self.at({}, PORTAL, {"workloads": {"portal": {"filters": {"group": group}}}})
        self.assertEqual(self.of("bills")[0][0], "arrives")
        # Used by visitors: before, the rule was advised to be removed.
        self.assertNotIn("filter-rule-unused", self.all_rules())
        self.assertIn("filter-rule-unused", self.all_rules("--set", "flows.bills=null"))
        wrong = ("--set", "workloads.portal.filters.group.in.web.ports=[80]")
        self.assertEqual(self.of("bills", *wrong)[0][0], "denied")
        self.cured("bills", *wrong)

    def test_a_public_ipv6_prefix_is_open_to_the_internet(self) -> None:
        """Hosts need no address of another kind to be reached: an exit that lets nobody in has to be theirs."""
        six = {
            "networks": {"plant": {"prefixes": ["10.60.0.0/16", "2001:db8:60::/48"]}},
            "subnets": {"pumps-a": {"prefix_v6": "2001:db8:60:1::/64"}},
            "workloads": {"pumps": {"subnets": ["pumps-a"], "needs": {"outbound_only": True}}},
        }
        self.at({}, six)
        [row] = self.json("path", "--inward", status=1)["inward"]
        self.assertEqual((row["origin"], row["exit"], row["open"]), ("the internet", "front", True))
        self.assertIn("need-not-met", self.rules())
        # A list of one's own, or addresses that are not public, keep them out.
        shut = {"workloads": {"pumps": {"filters": {"g": {"out_default": "allow"}}}}}
        self.at({}, six, shut)
        self.assertEqual([one["open"] for one in self.json("path", "--inward")["inward"]], [False])
        local = {"networks": {"plant": {"prefixes": ["10.60.0.0/16", "fd00:60::/48"]}}}
        self.at({}, six, local, {"subnets": {"pumps-a": {"prefix_v6": "fd00:60:1::/64"}}})
        self.assertEqual(self.json("path", "--inward")["inward"], [])
        self.assertNotIn("need-not-met", self.rules())

    def test_only_outbound(self) -> None:
        self.at({}, PORTAL)
        closed = ("--set", "workloads.portal.needs={outbound_only: true}")
        self.assertIn("need-not-met", self.rules(*closed))
        self.assertNotIn("need-not-met", self.rules())

    def all_rules(self, *more: str) -> set[str]:
        found = self.json("check", *more)["findings"]
        return {one["rule"] for one in found}


class APublishedService(Inward):
    """A service behind a firewall that publishes its port: rules, replies, and who pays for what."""

    def test_replies_have_to_come_back_through_it(self) -> None:
        self.at({}, PUBLISHED)
        self.assertEqual(self.of("status")[0][0], "asymmetric return")
        self.cured("status")
        through = ("--set", "route_tables.plant-a={0.0.0.0/0: wall}", "--set", "route_tables.plant-b={0.0.0.0/0: wall}")
        self.assertEqual(self.of("status", *through), [("arrives", ["front", "wall"], 1.0)])
        rewritten = ("--set", "exits.wall.publishes.status.rewrites_source=true")
        self.assertEqual(self.of("status", *rewritten), [("arrives", ["front", "wall"], 1.0)])

    def test_its_rules_judge_what_it_forwards(self) -> None:
        rules = {"web": {"action": "allow", "ports": [8443], "prefixes": ["10.60.0.0/16"]}}
        own = {"exits": {"wall": {"rules": rules, "publishes": {"status": {"rewrites_source": True}}}}}
        self.at({}, PUBLISHED, own)
        self.assertEqual(self.of("status")[0][0], "arrives")
        half = ("--set", "exits.wall.rules.web.prefixes=[10.60.1.0/24]")
        self.assertEqual([one[0] for one in self.of("status", *half)], ["denied", "arrives"])
        self.cured("status", *half)

    def test_it_takes_connections_and_no_ports(self) -> None:
        limits = {"offers": {"wall": {"limits": {"connections": 1000}}}}
        own = {"exits": {"wall": {"publishes": {"status": {"rewrites_source": True}}}}}
        self.put(PUBLISHED, own)
        self.write("catalogue.yaml", merged(CATALOGUE, limits))
        rows = {one["limit"]: one for one in self.json("capacity")["limits"] if one["exit"] == "wall"}
        # 20 hosts x 12/s x 2 s, and no time after: 480 connections; of ports none.
        self.assertAlmostEqual(rows["connections"]["use"], 480, delta=1)
        self.assertEqual(rows["ports"]["use"], 0)
        short = ("--set", "catalogue.offers.wall.limits.connections=400")
        self.assertIn("limit-exceeded", self.rules(*short))

    def test_a_port_that_no_exit_publishes(self) -> None:
        self.at({}, PUBLISHED, {"exits": {"wall": {"publishes": {"status": {"rewrites_source": True}}}}})
        other = ("--set", "flows.status.port=9000")
        self.assertEqual(self.of("status", *other)[0][0], "no route")
        self.assertIn("published-unused", self.rules(*other))

    def test_a_gateway_publishes_where_the_provider_lets_it(self) -> None:
        one = {"exits": {"nat-a": {"publishes": {"status": {"port": 443, "to": "pumps", "to_port": 8443}}}}}
        flow = {"flows": {"status": {"from": "internet", "to": "pumps", "port": 8443, **VISITS}}}
        zone_a = {"workloads": {"pumps": {"subnets": ["pumps-a"]}}}
        self.at({}, one, flow, zone_a)
        self.assertEqual(self.of("status")[0][0], "not carried")
        self.at({"gateways_publish": True}, one, flow, zone_a)
        self.assertEqual(self.of("status"), [("arrives", ["front", "nat-a"], 1.0)])

    def test_a_firewall_before_the_one_that_publishes_sees_the_published_port(self) -> None:
        guard = {"kind": "inspecting-firewall", "offer": "wall", "subnet": "guard-a", "rewrites_toward": []}
        before = {
            "subnets": {"guard-a": {"network": "plant", "zone": "a", "prefix": "10.60.251.0/28", "routes": "guard"}},
            "route_tables": {
                "in": {"10.60.250.0/28": "guard"},
                "guard": {"0.0.0.0/0": "front"},
                "walled": {"0.0.0.0/0": "guard"},
            },
            "exits": {
                "front": {"routes": "in"},
                "guard": {**guard, "rules": {"web": {"action": "allow", "ports": [443]}}},
                "wall": {"publishes": {"status": {"rewrites_source": True}}},
            },
        }
        self.at({}, PUBLISHED, before, {"subnets": {"wall-a": {"routes": "walled"}}})
        self.assertEqual(self.of("status"), [("arrives", ["front", "guard", "wall"], 1.0)])
        # Hosts' port is not what it sees.
        self.assertEqual(self.of("status", "--set", "exits.guard.rules.web.ports=[8443]")[0][0], "denied")
        # Replies have to pass it too.
        self.assertEqual(self.of("status", "--set", "subnets.wall-a.routes=edge")[0][0], "asymmetric return")

    def test_losing_it(self) -> None:
        self.at({}, PUBLISHED, {"exits": {"wall": {"publishes": {"status": {"rewrites_source": True}}}}})
        cases = {one["case"]: one for one in self.json("stress")["cases"]}
        self.assertIn("status", cases["wall lost"]["cut_off"])


class APlatform(Inward):
    """A platform that watches hosts from the provider's own service: replies by their routes, or straight back."""

    HEALTH: dict[str, Any] = {
        "destinations": {"health": {"prefixes": ["192.0.2.32/28"], "port": 443, "service": True}},
        "flows": {"watch": {"from": "health", "to": "pumps", "port": 10250, "persistent_per_host": 1}},
    }

    def test_its_replies(self) -> None:
        self.at({}, self.HEALTH)
        # The default sends them through a gateway that never saw the request.
        self.assertEqual(self.of("watch")[0][0], "asymmetric return")
        endpoint = {
            "exits": {"way": {"kind": "routed-endpoint", "offer": "way", "network": "plant", "destination": "health"}}
        }
        self.at({}, self.HEALTH, endpoint)
        self.cured("watch")
        self.at({"service_replies": "direct"}, self.HEALTH)
        self.assertEqual(self.of("watch"), [("arrives", [], 1.0)])

    def test_hosts_with_public_addresses_reply_to_services_otherwise(self) -> None:
        """Through the internet exit a reply would come from the public address, which the service did not ask."""
        watch = {"flows": {"watch": {"to": "portal"}}}
        self.at({}, PORTAL, self.HEALTH, watch)
        self.assertEqual(self.of("watch")[0][0], "asymmetric return")
        endpoint = {
            "exits": {"way": {"kind": "routed-endpoint", "offer": "way", "network": "plant", "destination": "health"}}
        }
        self.at({}, PORTAL, WALL, self.HEALTH, watch, endpoint)
        by_endpoint = ("--set", "route_tables.portal.health=way")
        self.assertEqual(self.of("watch", *by_endpoint)[0][0], "arrives")
        walled = ("--set", "route_tables.portal={0.0.0.0/0: wall}")
        self.assertEqual(self.of("watch", *walled)[0][0], "asymmetric return")
        self.assertEqual(self.of("watch", *walled, *by_endpoint)[0][0], "arrives")


class APartnerThatCallsUs(Inward):
    """A third party that opens connections over its line: to what is advertised to it, and who else could."""

    def test_rules_that_name_destinations_open_to_some_of_the_senders_or_hosts(self) -> None:
        """Whoever has an address that a rule means, at either end and in whatever part, is let in by it."""
        ways = {
            "a sender": "172.25.3.128/26", "the last host": "10.60.1.63/32", "nobody of these": "198.51.100.0/24",
        }  # fmt: skip
        for name, prefix in ways.items():
            rule = {"in": {"some": {"action": "allow", "destinations": ["some"]}}, "in_default": "deny"}
            some = {
                "destinations": {"some": {"prefixes": [prefix], "port": 443}},
                "workloads": {"pumps": {"subnets": ["pumps-a"], "filters": {"guard": rule}}},
                "flows": {"probes": None},
            }
            self.at({}, merged(LINE, some))
            [row] = [one for one in self.json("path", "--inward")["inward"] if one["origin"] == "the lab"]
            with self.subTest(name):
                self.assertEqual(row["open"], name != "nobody of these", row)

    def test_a_firewall_that_lets_in_a_part(self) -> None:
        """One sender, one port, half of the hosts: that can be opened, whatever the first address meets."""
        for prefixes, port, sender, is_open in (
            (["10.60.1.128/25"], 443, "172.25.3.0/24", True),
            (["10.60.1.0/25"], 443, "172.25.3.0/24", True),
            (["10.60.2.0/25"], 443, "172.25.3.0/24", False),
            (["10.60.1.0/24"], 443, "172.30.0.0/24", False),
        ):
            rule = {"action": "allow", "prefixes": prefixes, "ports": [port], "sources": [sender]}
            between = {
                "exits": {"wall": {"rules": {"some": rule}}, "wire": {"routes": "in"}},
                "route_tables": {"in": {"10.60.1.0/24": "wall"}},
                "workloads": {"pumps": {"subnets": ["pumps-a"]}},
                "flows": {"probes": None},
            }
            self.at({}, merged(merged(WALL, LINE), between))
            [row] = [one for one in self.json("path", "--inward")["inward"] if one["origin"] == "the lab"]
            with self.subTest(prefixes=prefixes, sender=sender):
                self.assertEqual(row["open"], is_open, row)

    def test_a_part_of_the_hosts_is_advertised(self) -> None:
        self.at({}, LINE)
        self.assertEqual(self.of("probes"), [("no route", [], 0.5), ("arrives", ["wire"], 0.5)])
        patch = self.cured("probes")
        self.assertEqual(self.of("probes", "--patch", patch), [("arrives", ["wire"], 1.0)])

    def test_half_of_a_subnet_is_advertised(self) -> None:
        self.at({}, LINE, {"workloads": {"pumps": {"subnets": ["pumps-a"]}}})
        half = ("--set", "exits.wire.advertised=[10.60.1.0/25]")
        self.assertEqual([verdict for verdict, *_ in self.of("probes", *half)], ["no route", "arrives"])

    def test_who_could_and_who_does(self) -> None:
        self.at({}, LINE, {"flows": {"probes": {"to": "pumps"}}, "workloads": {"pumps": {"subnets": ["pumps-a"]}}})
        [row] = [one for one in self.json("path", "--inward")["inward"] if one["origin"] == "the lab"]
        self.assertEqual((row["open"], row["told"], row["flows"]), (True, True, ["probes"]))
        [row] = self.json("path", "--inward", "--set", "flows.probes=null")["inward"]
        self.assertEqual((row["open"], row["flows"]), (True, []))
        # Not told of the prefix, they may still write a route of their own.
        [row] = self.json("path", "--inward", "--set", "flows.probes=null", "--set", "exits.wire.advertised=[]")[
            "inward"
        ]
        self.assertEqual((row["open"], row["told"]), (True, False))
        self.assertIn("a static route of theirs suffices", row["why"])
        # Unless they route by what is announced alone: that keeps them out, and is what the answer rests on.
        alone = ("--set", "flows.probes=null", "--set", "exits.wire.advertised=[]")
        alone = (*alone, "--set", "exits.wire.routes_by=announcement-only")
        found = self.json("path", "--inward", *alone)
        self.assertEqual([one["open"] for one in found["inward"]], [False])
        self.assertIn("It rests on this: wire does not announce it", found["summary"][1])
        outward = ("--set", "workloads.pumps.needs.outbound_only=true")
        self.assertEqual(self.json("path", "--inward", *alone, *outward)["open"], 0)
        self.assertIn("need-not-met", self.rules(*alone[:4], *outward))
        self.assertNotIn("need-not-met", self.rules(*alone, *outward))

    def test_a_line_at_a_hub_is_charged_at_the_hub(self) -> None:
        hub = {
            "exits": {
                "joint": {"kind": "hub", "offer": "joint", "networks": ["plant"]},
                "wire": {"network": None, "hub": "joint", "advertised": ["10.60.0.0/16"]},
            },
            "flows": {"probes": {"out_kib_per_connection": 100, "in_kib_per_connection": 900}},
        }
        self.at({}, LINE, hub)
        self.assertEqual(self.of("probes"), [("arrives", ["wire", "joint"], 1.0)])
        # 20 hosts x 0.1/s x 1,000 KiB for 730 hours, in GB, at 0.018.
        carried = 20 * 0.1 * 1000 * 1024 * 730 * 3600 / 1e9
        lines = {(one["item"], one["about"]): one["amount"] for one in self.json("charges")["lines"]}
        self.assertAlmostEqual(lines["processed", "joint"], carried * 0.018, places=4)

    def test_open_ports_of_a_line(self) -> None:
        one = {"workloads": {"pumps": {"subnets": ["pumps-a"]}}}
        self.at({}, LINE, one, {"exits": {"wire": {"open_ports": [22, 443]}}})
        self.assertEqual(self.of("probes"), [("arrives", ["wire"], 1.0)])
        self.assertEqual({row["open"] for row in self.json("path", "--inward")["inward"]}, {True})
        self.at({}, LINE, one, {"exits": {"wire": {"open_ports": [443]}}})
        self.assertEqual(self.of("probes")[0][0], "denied")
        self.cured("probes")
        # With none open, no connection comes in, and the need is met.
        self.at({}, LINE, one, {"exits": {"wire": {"open_ports": []}}, "flows": {"probes": None}})
        self.assertEqual({row["open"] for row in self.json("path", "--inward")["inward"]}, {False})

    def test_another_line_takes_over(self) -> None:
        spare = {"kind": "circuit", "offer": "line", "network": "plant", "third_party": "the lab"}
        spare |= {"received": ["172.25.0.0/20"], "advertised": ["10.60.0.0/16"], "local_preference": 50}
        self.at({}, LINE, {"exits": {"spare": spare}}, {"exits": {"wire": {"advertised": ["10.60.0.0/16"]}}})
        self.assertEqual({exits[0] for _, exits, _ in self.of("probes")}, {"wire", "spare"})
        cases = {one["case"]: one for one in self.json("stress")["cases"]}
        self.assertNotIn("probes", cases["wire lost"]["cut_off"])


class OneNetworkCallsAnother(Inward):
    """Hosts of a joined network that open connections to ours."""

    OTHER: dict[str, Any] = {
        "networks": {"lab": {"region": "mid", "prefixes": ["10.61.0.0/16"]}},
        "subnets": {"lab-a": {"network": "lab", "zone": "a", "prefix": "10.61.1.0/24"}},
        "exits": {"join": {"kind": "peering", "networks": ["plant", "lab"]}},
        "flows": {"query": {"from": "lab", "to": "pumps", "port": 5432, "per_host_per_s": 1}},
    }

    def test_over_the_peering(self) -> None:
        self.at({}, self.OTHER)
        self.assertEqual(self.of("query"), [("arrives", ["join"], 1.0)])
        self.at({"peering_routes": "stated"}, self.OTHER)
        self.assertEqual(self.of("query")[0][0], "no route")
        group = {"workloads": {"pumps": {"filters": {"g": {"in": {"db": {"action": "allow", "ports": [3306]}}}}}}}
        self.at({}, self.OTHER, group)
        self.assertEqual(self.of("query")[0][0], "denied")
        self.cured("query")

    def test_what_rules_let_in_for_a_part_is_open(self) -> None:
        """One port, half of the hosts or of the senders: by a filter at either end, or a firewall between."""
        rule = {"action": "allow", "ports": [5432], "sources": ["10.61.1.128/25"], "prefixes": ["10.60.1.192/26"]}
        at_hosts = {"workloads": {"pumps": {"filters": {"g": {"in": {"db": rule}}}}}}
        at_senders = {"subnets": {"lab-a": {"filters": {"g": {"out": {"db": rule}, "in_default": "allow"}}}}}
        between = {
            "subnets": {
                "lab-a": {"routes": "lab"}, "guard": {"network": "lab", "zone": "a", "prefix": "10.61.9.0/28"},
            },
            "route_tables": {"lab": {"10.60.1.0/24": "wall"}},
            "exits": {
                "wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "guard", "rules": {"db": rule}},
                "join": {"sources": "any"},
            },
        }  # fmt: skip
        one = {"workloads": {"pumps": {"subnets": ["pumps-a"]}}, "flows": {"query": None}}
        for changes in (at_hosts, at_senders, between):
            for wrong in ({}, {"sources": ["10.62.0.0/16"]}, {"prefixes": ["10.60.2.0/24"]}, {"protocol": "udp"}):
                [section] = changes if len(changes) == 1 else ["exits"]
                self.at({}, self.OTHER, one, changes)
                path = {"workloads": "pumps.filters.g.in", "subnets": "lab-a.filters.g.out", "exits": "wall.rules"}
                more = [f"{section}.{path[section]}.db.{key}={json.dumps(value)}" for key, value in wrong.items()]
                asked = [word for each in more for word in ("--set", each)]
                found = self.json("path", "--inward", "pumps-a", *asked)["inward"]
                with self.subTest(section=section, wrong=wrong):
                    is_open = not wrong or "protocol" in wrong
                    at = "join" if is_open or section != "exits" else "wall"
                    self.assertEqual(
                        [(row["origin"], row["exit"], row["open"]) for row in found], [("lab", at, is_open)]
                    )

    def test_a_filter_that_lets_in_what_a_firewall_between_shows(self) -> None:
        """Hosts see the firewall's own pool, not the senders: their list is of that one."""
        between = {
            "subnets": {
                "lab-a": {"routes": "lab"}, "guard": {"network": "lab", "zone": "a", "prefix": "10.61.9.0/28"},
            },
            "route_tables": {"lab": {"10.60.1.0/24": "wall"}},
            "exits": {
                "wall": {
                    "kind": "inspecting-firewall", "offer": "wall", "subnet": "guard", "addresses": "auto",
                    "private_pool": "100.64.7.0/29", "rewrites_toward": ["private"],
                },
                "join": {"sources": "any"},
            },
            "flows": {"query": None},
        }  # fmt: skip
        for prefix, is_open in (("100.64.7.0/29", True), ("10.61.0.0/16", False), ("100.64.8.0/29", False)):
            rule = {"in": {"wall": {"action": "allow", "sources": [prefix]}}}
            hosts = {"workloads": {"pumps": {"subnets": ["pumps-a"], "filters": {"g": rule}}}}
            self.at({}, self.OTHER, between, hosts)
            [row] = self.json("path", "--inward")["inward"]
            with self.subTest(prefix=prefix):
                self.assertEqual(row["open"], is_open, row)

    def test_what_passes_one_filter_has_to_pass_the_other(self) -> None:
        """Each of two lists lets something in; nothing passes both."""
        some = [{"in": {"a": {"action": "allow", "ports": [port]}}} for port in (22, 443)]
        both = {"pumps-a": {"filters": {"g": some[0]}}}
        self.at(
            {},
            self.OTHER,
            {"subnets": both, "workloads": {"pumps": {"subnets": ["pumps-a"], "filters": {"h": some[1]}}}},
        )
        self.assertEqual([row["open"] for row in self.json("path", "--inward")["inward"]], [False])
        widened = ("--set", "subnets.pumps-a.filters.g.in.a.ports=[22, 400-500]")
        self.assertEqual([row["open"] for row in self.json("path", "--inward", *widened)["inward"]], [True])


class Mistakes(Inward):
    """Flows that come in and are written wrongly: each error is told at its place."""

    def test_errors(self) -> None:
        self.at({}, PUBLISHED)
        for setting, expected in (
            ("flows.status.port=null", "without a `port`"),
            ("flows.status.from=nowhere", "`internet`, a third party, a destination or a network"),
            ("flows.status.to=nowhere", "a name from `workloads`"),
            ("flows.forecast.protocol=udp", "`port` beside `protocol`"),
            ("exits.wall.publishes.status.to=nowhere", "a name from `workloads`"),
            ("exits.wall.publishes.status.address=203.0.113.99", "one of its addresses, 203.0.113.40"),
            ("exits.wall.publishes.more={port: 443, to: pumps}", "each port of an address once"),
        ):
            with self.subTest(setting):
                done = self.program("check", "--set", setting)
                self.assertEqual(done.returncode, 2)
                self.assertIn(expected, done.stderr.replace("\n", " "))

    def test_the_estate_itself_is_sound(self) -> None:
        self.at({}, {})
        self.assertEqual(self.rules() & {"inward-lost", "published-unused"}, set())
        self.assertNotIn("flows", {key for key in ESTATE if key.startswith("in")})


class WhatMustNotArrive(Inward):
    """Hosts that must not reach something, and hosts whose names somebody has to answer."""

    def test_a_vault_that_reaches_the_internet(self) -> None:
        closed = {"workloads": {"pumps": {"must_not_reach": ["mirror"]}}}
        self.at({}, closed, {"destinations": {"mirror": {"prefixes": ["198.51.100.128/28"], "port": 443}}})
        self.assertIn("reaches-forbidden", self.rules())
        patch = self.remedy("reaches-forbidden")
        self.assertNotIn("reaches-forbidden", self.rules("--patch", patch))
        self.assertEqual(self.of("forecast", "--patch", patch)[0][0], "arrives")
        # A rule that covers half of it leaves the other half.
        half = {"out": {"no": {"action": "deny", "prefixes": ["198.51.100.128/29"]}}, "out_default": "allow"}
        self.write("half.yaml", {"workloads": {"pumps": {"filters": {"half": {**half, "in_default": "allow"}}}}})
        self.assertIn("reaches-forbidden", self.rules("--patch", "half.yaml"))

    def test_a_resolver_behind_a_firewall(self) -> None:
        resolver = {
            "destinations": {"names": {"prefixes": ["198.51.100.53"], "port": 53, "protocol": "udp"}},
            "workloads": {"pumps": {"resolver": "names"}},
        }
        self.at({}, resolver)
        self.assertNotIn("required-unreachable", self.rules())
        lost = {"route_tables": {"plant-a": {"names": "wire"}}}
        self.at({}, resolver, LINE, {"flows": {"probes": None}}, lost)
        self.assertIn("required-unreachable", self.rules())
        # Without a name to ask for, none is missed.
        self.assertNotIn("required-unreachable", self.rules("--set", "destinations.weather.names=[]"))
