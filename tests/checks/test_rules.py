"""Each rule: one estate that triggers it, and its near miss that does not."""

from datetime import date, timedelta
from pathlib import Path
from typing import Any

import yaml

from fenrask.checks import RULES, check, without_remedies
from fenrask.demo import VELLMOUTH
from fenrask.estate import Described, read_estate
from fenrask.evaluation import comes_next, evaluate, harm
from fenrask.findings import Severity
from fenrask.views.patch_words import patch_words
from tests.routing.test_topologies import MORE
from tests.support import CATALOGUE, InFolder, merged

WALL: dict[str, Any] = {"kind": "inspecting-firewall", "offer": "wall", "subnet": "app", "addresses": 1}
LENT: dict[str, Any] = {"lent": {"kind": "dynamic-address", "network": "net"}}
NO_DEFAULT: dict[str, Any] = {"private": {"0.0.0.0/0": None}}
FIXED: dict[str, Any] = {"partner": {"needs": {"fixed_source": True}}}
LATE = {"catalogue": {"read_on": str(date.today() - timedelta(days=366))}}
RECENT = {"catalogue": {"read_on": str(date.today() - timedelta(days=364))}}

LINE: dict[str, Any] = {
    "kind": "circuit",
    "network": "net",
    "received": ["172.20.0.0/16"],
    "advertised": ["10.0.1.0/24"],
}
TO_PILOTS: dict[str, Any] = {
    "destinations": {"pilots": {"prefixes": ["172.20.0.0/16"]}},
    "flows": {"pilot": {"from": "work", "to": "pilots", "per_host_per_s": 1}},
}
OTHER_NET: dict[str, Any] = {"networks": {"other": {"prefixes": ["10.7.0.0/16"]}}}
FIREWALL: dict[str, Any] = {"kind": "inspecting-firewall", "offer": "wall", "subnet": "wall"}
# A firewall in a subnet of its own in front of the gateway.
WALLED: dict[str, Any] = {
    "subnets": {"wall": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"}},
    "route_tables": {
        "private": {"0.0.0.0/0": "wall"},
        "walled": {"0.0.0.0/0": "gate"},
        "public": {"10.0.1.0/24": "wall"},
    },
    "exits": {"wall": {**FIREWALL, "rewrites_toward": []}},
}
STORE_DOOR: dict[str, Any] = {
    "kind": "routed-endpoint",
    "offer": "door-to-service",
    "network": "net",
    "destination": "store",
}
INNER: dict[str, Any] = {"kind": "in-subnet-endpoint", "offer": "inner", "subnets": ["app"], "destination": "store"}
PUBLISHED: dict[str, Any] = {"web": {"port": 443, "to": "work", "to_port": 8443}}
VISITS: dict[str, Any] = {
    "exits": {"wall": {**FIREWALL, "subnet": "edge"}},
    "flows": {"visits": {"from": "internet", "to": "work", "port": 8443, "per_host_per_s": 1}},
}
# A gateway in each of two zones, with too few addresses for its own hosts.
SURVIVING: dict[str, Any] = {
    "subnets": {
        "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"},
        "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
    },
    "route_tables": {"private-b": {"0.0.0.0/0": "gate-b"}},
    "exits": {
        "gate": {"addresses": 1},
        "gate-b": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge-b", "addresses": 1},
    },
    "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": 60, "needs": {"survives": "zone-loss"}}},
}
SAVE: dict[str, Any] = {"flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}}}


TWO_REGIONS: dict[str, Any] = {
    "networks": {"net": {"region": "north"}, "far": {"region": "south", "prefixes": ["10.5.0.0/16"]}},
    "subnets": {"far-app": {"network": "far", "zone": "a", "prefix": "10.5.1.0/24", "routes": "far-table"}},
    "route_tables": {"far-table": {"0.0.0.0/0": "far-wall"}, "walled": {"0.0.0.0/0": "gate"}},
    "exits": {
        "join": {"kind": "peering", "networks": ["far", "net"], "sources": "any"},
        "far-wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "edge", "addresses": 1},
    },
    "workloads": {"far-work": {"subnets": ["far-app"], "hosts": 1}},
    "flows": {"far-talk": {"from": "far-work", "to": "partner", "per_host_per_s": 1, "duration_s": 1}},
}


def walled(rules: dict[str, Any], **more: Any) -> dict[str, Any]:
    """The firewall in front of the gateway, with these rules."""
    return merged(WALLED, {"exits": {"wall": {"rules": rules, **more}}})


SELF_RUN = {
    "catalogue": {"offers": {"host": {"upkeep_hours": 5}}},
    "exits": {"gate": {"kind": "translator-host", "offer": "host"}},
    "wage_per_hour": 40,
}


def listed(rules: dict[str, Any]) -> dict[str, Any]:
    """A stateless filter at the subnet of the hosts."""
    return {"subnets": {"app": {"filters": {"list": {"stateful": False, **rules}}}}}


# rule: a patch that triggers it, the path of the place it is told at, and a patch that nearly does
NO_ICMP = {"subnets": {"app": {"filters": {"list": {"drops_icmp": True}}}}}
ASKING = {
    "flows": {"talk": {"per_host_per_s": None, "requests_per_host_per_s": 50, "duration_s": 0.2, "pool_idle_s": 60}}
}
BOTH_VERSIONS = {
    "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:1::/48"]}},
    "subnets": {"app": {"prefix_v6": "2001:db8:1:1::/64"}},
    "destinations": {"partner": {"prefixes": ["198.51.100.0/24", "2001:db8:ff::/64"]}},
}
CASES: dict[str, tuple[dict[str, Any], str, dict[str, Any]]] = {
    "black-hole": (
        {"route_tables": {"private": {"198.51.100.0/25": "gat"}}},
        "route_tables.private.198.51.100.0/25",
        {"route_tables": {"private": {"198.51.100.0/25": "gate"}}},
    ),
    "unreachable": (
        {"route_tables": NO_DEFAULT},
        "route_tables.private",
        {"route_tables": {"private": {"0.0.0.0/0": None, "198.51.100.0/24": "gate"}}},
    ),
    "route-loop": (
        {"subnets": {"edge": {"routes": "private"}}},
        "subnets.edge.routes",
        {"route_tables": {"private": {"0.0.0.0/0": "gate"}}},
    ),
    "gateway-without-internet-route": (
        {"route_tables": {"public": {"0.0.0.0/0": None, "192.0.2.0/24": "other"}}},
        "exits.gate.subnet",
        {"route_tables": {"public": {"0.0.0.0/0": None, "198.51.0.0/16": "door"}}},
    ),
    "source-may-change": (
        {"route_tables": NO_DEFAULT, "exits": LENT, "destinations": FIXED},
        "flows.talk",
        {"exits": LENT, "destinations": FIXED},
    ),
    "need-not-met": (
        {"destinations": {"partner": {"needs": {"off_internet": True}}}},
        "flows.talk",
        {"destinations": {"store": {"needs": {"off_internet": True}}}},
    ),
    "overlapping-prefixes": (
        {"subnets": {"twin": {"network": "net", "prefix": "10.0.1.128/25"}}},
        "subnets.twin",
        {"subnets": {"twin": {"network": "net", "prefix": "10.0.2.0/25"}}},
    ),
    "subnet-outside-network": (
        {"subnets": {"app": {"prefix": "10.1.1.0/24"}}},
        "subnets.app.prefix",
        {"subnets": {"app": {"prefix": "10.0.255.0/24"}}},
    ),
    "address-used-twice": (
        {"exits": {"more": {**WALL, "addresses": ["203.0.113.9", "203.0.113.1"]}}},
        "exits.more.addresses.1",
        {"exits": {"more": {**WALL, "addresses": ["203.0.113.9", "203.0.113.2"]}}},
    ),
    "client-pool-too-small": (
        merged(ASKING, {"flows": {"talk": {"pool_max": 10}}}),
        "flows.talk.pool_max",
        merged(ASKING, {"flows": {"talk": {"pool_max": 11}}}),
    ),
    "keepalive-exceeds-idle-timeout": (
        {"flows": {"talk": {"keepalive_s": 300}}},
        "flows.talk.keepalive_s",
        {"flows": {"talk": {"keepalive_s": 299}}},
    ),
    "idle-exit": ({"exits": {"spare": WALL}}, "exits.spare", {"exits": LENT}),
    "exit-out-of-reach": (
        merged(OTHER_NET, {"exits": {"door": {"network": "other"}}}),
        "route_tables.private",
        OTHER_NET,
    ),
    "subnet-on-two-gateways": (
        {
            "exits": {"more": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 1}},
            "route_tables": {"private": {"192.0.2.0/24": "more"}},
        },
        "route_tables.private",
        {
            "exits": {"more": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}},
            "route_tables": {"private": {"192.0.2.0/24": "more"}},
        },
    ),
    "gateway-without-address": (
        {"exits": {"gate": {"addresses": []}}},
        "exits.gate.addresses",
        {"exits": {"gate": {"addresses": 1}}},
    ),
    "forwarding-off": (
        {"exits": {"gate": {"kind": "translator-host", "offer": "host", "forwarding": False}}},
        "exits.gate.forwarding",
        {"exits": {"gate": {"kind": "translator-host", "offer": "host", "forwarding": True}}},
    ),
    "flow-denied": (
        walled({"none": {"action": "deny", "ports": [443]}}),
        "flows.talk",
        walled({"none": {"action": "deny", "ports": [80]}}, default="allow"),
    ),
    "no-return-route": (
        merged(TO_PILOTS, {"exits": {"line": {**LINE, "advertised": ["10.0.9.0/24"]}}}),
        "flows.pilot",
        merged(TO_PILOTS, {"exits": {"line": LINE}}),
    ),
    "asymmetric-return": (
        merged(WALLED, {"route_tables": {"public": {"10.0.1.0/24": None}}}),
        "flows.talk",
        WALLED,
    ),
    "ip-version-lost": (
        BOTH_VERSIONS,
        "route_tables.private",
        merged(
            BOTH_VERSIONS,
            {
                "exits": {"six": {"kind": "ipv6-outbound", "network": "net"}},
                "route_tables": {"private": {"::/0": "six"}},
            },
        ),
    ),
    "ip-version-not-supported": (
        merged(
            SAVE, {"exits": {"in": {**STORE_DOOR, "ip_families": [6]}}, "route_tables": {"private": {"store": "in"}}}
        ),
        "flows.save",
        merged(
            SAVE, {"exits": {"in": {**STORE_DOOR, "ip_families": [4]}}, "route_tables": {"private": {"store": "in"}}}
        ),
    ),
    "protocol-not-translated": (
        {"destinations": {"partner": {"protocol": "udp"}}, "catalogue": {"offers": {"gate": {"protocols": ["tcp"]}}}},
        "flows.talk",
        {"destinations": {"partner": {"protocol": "udp"}}, "catalogue": {"offers": {"gate": {"protocols": ["udp"]}}}},
    ),
    "required-unreachable": (
        merged(
            walled({"web": {"action": "allow", "destinations": ["partner"]}}),
            {"workloads": {"work": {"requires": ["store"]}}},
        ),
        "workloads.work.requires",
        merged(
            walled({"web": {"action": "allow", "destinations": ["store"]}}),
            {"workloads": {"work": {"requires": ["store"]}}},
        ),
    ),
    "address-of-wrong-class": (
        {
            "public_addresses": {"first": {"address": "203.0.113.1", "class": "changing"}},
            "catalogue": {"addresses": {"class": "fixed"}},
        },
        "exits.gate.addresses.0",
        {
            "public_addresses": {"first": {"address": "203.0.113.1", "class": "fixed"}},
            "catalogue": {"addresses": {"class": "fixed"}},
        },
    ),
    "allow-list-too-short": (
        {"destinations": {"partner": {"allowed": ["203.0.113.2/31"]}}},
        "destinations.partner.allowed",
        {"destinations": {"partner": {"allowed": ["203.0.113.0/31"]}}},
    ),
    "router-one-sided": (
        {"exits": {"line": {**LINE, "routers": {"r1": {"peered": "near"}, "r2": {}}}}},
        "exits.line.routers.r1.peered",
        {"exits": {"line": {**LINE, "routers": {"r1": {}, "r2": {"session": "down"}}}}},
    ),
    "session-down": (
        {"exits": {"line": {**LINE, "routers": {"r1": {"session": "down"}}}}},
        "exits.line",
        {"exits": {"line": {**LINE, "routers": {"r1": {"session": "down"}, "r2": {}}}}},
    ),
    "path-mtu-hidden": (
        merged(TO_PILOTS, {"exits": {"line": {**LINE, "mtu": 1400}}, **NO_ICMP}),
        "subnets.app.filters.list.drops_icmp",
        merged(TO_PILOTS, {"exits": {"line": {**LINE, "mtu": 1500}}, **NO_ICMP}),
    ),
    "host-limit-exceeded": (
        {"workloads": {"work": {"interface": {"new_per_s": 0.9}}}},
        "workloads.work.interface",
        {"workloads": {"work": {"interface": {"new_per_s": 1}}}},
    ),
    "advertised-too-much": (
        merged(TO_PILOTS, {"exits": {"line": {**LINE, "advertised": ["10.0.0.0/16"]}}}),
        "exits.line.advertised.0",
        merged(TO_PILOTS, {"exits": {"line": {**LINE, "advertised": ["10.0.0.0/23"]}}}),
    ),
    "route-to-named-endpoint": (
        {"exits": {"in": INNER}, "route_tables": {"private": {"store": "in"}}},
        "route_tables.private.store",
        {"exits": {"in": INNER}},
    ),
    "unused-address": (
        {"public_addresses": {"old": {"address": "203.0.113.99"}}},
        "public_addresses.old",
        {
            "public_addresses": {"old": {"address": "203.0.113.99"}},
            "exits": {"gate": {"addresses": ["203.0.113.1", "203.0.113.99"]}},
        },
    ),
    "reaches-forbidden": (
        {"workloads": {"work": {"must_not_reach": ["store"]}}},
        "workloads.work.must_not_reach",
        {
            "workloads": {
                "work": {
                    "must_not_reach": ["store"],
                    "filters": {
                        "f": {"out": {"p": {"action": "allow", "ports": [443], "prefixes": ["198.51.100.0/24"]}}}
                    },
                }
            }
        },
    ),
    "inward-lost": (
        merged(VISITS, {"exits": {"wall": {"publishes": PUBLISHED}}}),
        "flows.visits",
        merged(VISITS, {"exits": {"wall": {"publishes": {"web": {**PUBLISHED["web"], "rewrites_source": True}}}}}),
    ),
    "published-unused": (
        {"exits": {"wall": {**FIREWALL, "subnet": "edge", "publishes": PUBLISHED}}},
        "exits.wall.publishes.web",
        merged(VISITS, {"exits": {"wall": {"publishes": PUBLISHED}}}),
    ),
    "captured": (
        {"exits": {"line": {**LINE, "received": ["198.51.100.0/24"], "advertised": ["10.0.0.0/16"]}}},
        "exits.line",
        {
            "exits": {"line": {**LINE, "received": ["198.51.100.0/24"], "advertised": ["10.0.0.0/16"]}},
            "route_tables": {"private": {"198.51.100.0/24": "gate"}},
        },
    ),
    "endpoint-in-another-region": (
        {
            "networks": {"net": {"region": "north"}},
            "destinations": {"store": {"region": "south"}},
            "exits": {"in": INNER},
        },
        "exits.in",
        {
            "networks": {"net": {"region": "north"}},
            "destinations": {"store": {"region": "north"}},
            "exits": {"in": INNER},
        },
    ),
    "endpoint-without-route": (
        {"exits": {"in": STORE_DOOR}},
        "exits.in",
        {"exits": {"in": STORE_DOOR}, "route_tables": {"private": {"192.0.2.0/25": "in"}}},
    ),
    "endpoint-names-public": (
        {"exits": {"in": {**INNER, "names": "public"}}},
        "exits.in.names",
        {"exits": {"in": INNER}},
    ),
    "endpoint-open-to-anyone": (
        {"exits": {"in": INNER}},
        "exits.in",
        {"exits": {"in": {**INNER, "access": "listed"}}},
    ),
    "free-endpoint-unused": (
        SAVE,
        "flows.save",
        merged(SAVE, {"catalogue": {"offers": {"door-to-service": {"rates": {"hour": 0.01}}}}}),
    ),
    "rule-allows-everything": (
        walled({"any": {"action": "allow", "prefixes": ["0.0.0.0/0"]}}),
        "exits.wall.rules.any",
        walled({"web": {"action": "allow", "prefixes": ["0.0.0.0/0"], "ports": [443]}}),
    ),
    "zone-crossing-default": (
        {"subnets": {"app": {"zone": "b"}}},
        "route_tables.private",
        {"subnets": {"app": {"zone": None}}},
    ),
    "table-too-long": (
        {"exits": {"line": LINE}, "subnets": {"edge": {"learns": False}}, "catalogue": {"routes_per_table": 1}},
        "route_tables.private",
        {"exits": {"line": LINE}, "subnets": {"edge": {"learns": False}}, "catalogue": {"routes_per_table": 2}},
    ),
    "unused-table": (
        {"route_tables": {"spare": {"0.0.0.0/0": "gate"}}},
        "route_tables.spare",
        {
            "route_tables": {"spare": {"0.0.0.0/0": "gate"}},
            "networks": {"net": {"routes": "spare"}},
            "subnets": {"bare": {"network": "net", "prefix": "10.0.3.0/24"}},
        },
    ),
    "unused-exception": (
        {"accepted": {"idle-exit at exits.spare": "kept for the winter"}},
        "accepted.idle-exit at exits.spare",
        {"accepted": {"idle-exit at exits.spare": "kept for the winter"}, "exits": {"spare": WALL}},
    ),
    "made-up-figures": ({"catalogue": {"made_up": True}}, "made_up", {"catalogue": {"made_up": False}}),
    "rates-out-of-date": (LATE, "read_on", RECENT),
    # The reply comes from port 443 to a port from 1024 on.
    "reply-denied": (
        listed({"in": {"web": {"action": "allow", "ports": [443]}}}),
        "subnets.app.filters.list",
        listed({"in": {"web": {"action": "allow", "ports": ["1024-65535"]}}}),
    ),
    "filter-rule-unused": (
        listed({"out": {"web": {"action": "allow"}, "more": {"action": "allow", "ports": [25]}}}),
        "subnets.app.filters.list.out.more",
        listed({"out": {"web": {"action": "allow"}, "more": {"action": "deny", "ports": [25]}}}),
    ),
    "host-route-as-default": (
        {"route_tables": {"private": {"0.0.0.0/0": None, "0.0.0.0": "gate"}}},
        "route_tables.private.0.0.0.0",
        {"route_tables": {"private": {"0.0.0.1": "gate"}}},
    ),
    # Ten hosts at 1 a second for 2 s, and 60 s after that: 620 at once; Erlang's formula needs 700 for 1e-4.
    "port-exhaustion": (
        {"catalogue": {"offers": {"gate": {"ports": {"per_address": 600}}}}},
        "exits.gate",
        {"catalogue": {"offers": {"gate": {"ports": {"per_address": 750}}}}},
    ),
    "limit-exceeded": (
        {"catalogue": {"offers": {"gate": {"limits": {"new_per_s": 9}}}}},
        "exits.gate",
        {"catalogue": {"offers": {"gate": {"limits": {"new_per_s": 10}}}}},
    ),
    "zone-offer-for-network": (
        {
            "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
            "exits": {"gate": {"subnet": None, "network": "net"}},
        },
        "exits.gate.offer",
        {
            "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
            "exits": {"gate": {"subnet": None, "network": "net"}},
            "catalogue": {"offers": {"gate": {"scope": "region"}}},
        },
    ),
    "upkeep-without-wage": (
        {
            "catalogue": {"offers": {"host": {"upkeep_hours": 5}}},
            "exits": {"gate": {"kind": "translator-host", "offer": "host"}},
        },
        "exits.gate",
        {
            "catalogue": {"offers": {"host": {"upkeep_hours": 5}}},
            "exits": {"gate": {"kind": "translator-host", "offer": "host"}},
            "wage_per_hour": 0,
        },
    ),
    "upkeep-exceeds-target": (
        merged(SELF_RUN, {"targets": {"upkeep_hours_per_month": 4}}),
        "targets.upkeep_hours_per_month",
        merged(SELF_RUN, {"targets": {"upkeep_hours_per_month": 5}}),
    ),
    "crossing-without-rate": (
        merged(TWO_REGIONS, {"catalogue": {"transfer": {"cross_network_per_gb": 0.01}}}),
        "transfer",
        merged(TWO_REGIONS, {"catalogue": {"transfer": {"cross_network_per_gb": 0.01, "cross_region_per_gb": 0.02}}}),
    ),
}


class Rules(InFolder):
    def found(self, patch: dict[str, Any], rule: str) -> list[str]:
        described = self.estate({k: v for k, v in patch.items() if k != "catalogue"}, patch.get("catalogue"))
        # What is unused is known when all else was looked for.
        only = () if rule == "unused-exception" else (rule,)
        findings = [one for one in check(evaluate(described), only) if one.rule == rule and not one.accepted]
        for one in findings:
            self.assertTrue(one.cause and one.remedy and one.place.line)
        return [one.place.path for one in findings]

    def test_every_rule_has_a_case(self) -> None:
        self.assertEqual({rule.name for rule in RULES}, set(CASES))

    def test_each_is_triggered_at_its_place_and_its_near_miss_is_not(self) -> None:
        for rule, (trigger, path, near_miss) in CASES.items():
            with self.subTest(rule):
                self.assertEqual(set(self.found(trigger, rule)), {path})
                self.assertEqual(self.found(near_miss, rule), [])

    def test_a_sound_estate_has_no_finding(self) -> None:
        self.assertEqual(check(evaluate(self.estate())), [])

    def test_the_worst_comes_first(self) -> None:
        described = self.estate({"exits": {"spare": WALL}, "route_tables": {"private": {"10.9.0.0/16": "gone"}}})
        self.assertEqual([one.rule for one in check(evaluate(described))], ["black-hole", "idle-exit"])

    def test_a_black_hole_names_what_it_loses_itself(self) -> None:
        """Two routes of one table to the same exit that is not there: each loses its own flow, and has its own cure."""
        described = self.estate(
            {
                "route_tables": {"private": {"198.51.100.0/24": "gone", "192.0.2.0/25": "gone", "10.9.0.0/16": "gone"}},
                "flows": {"keep": {"from": "work", "to": "store", "per_host_per_s": 1}},
            }
        )
        found = [one for one in check(evaluate(described)) if one.rule == "black-hole"]
        lost = [one.cause.rpartition("; ")[2] for one in found]
        self.assertEqual(lost, ["lost: talk", "lost: keep", "no flow uses it"])
        self.assertTrue(all(one.fix for one in found), [one.remedy for one in found])

    def test_joined_networks_and_lines_overlap_and_others_do_not(self) -> None:
        twin = {"networks": {"other": {"prefixes": ["10.0.0.0/16"]}}}
        joined = {**twin, "exits": {"p": {"kind": "peering", "networks": ["net", "other"]}}}
        line = {"exits": {"line": {**LINE, "received": ["10.0.1.128/25", "0.0.0.0/0"]}}}
        default = {"exits": {"line": {**LINE, "received": ["0.0.0.0/0"]}}}
        for patch, paths in ((twin, []), (joined, ["networks.other"]), (line, ["exits.line"]), (default, [])):
            with self.subTest(patch=patch):
                self.assertEqual(self.found(patch, "overlapping-prefixes"), paths)

    def test_accepted_findings_stay_with_their_reason_and_come_last(self) -> None:
        accepted = {"accepted": {"idle-exit at exits.spare": "kept for the winter"}, "exits": {"spare": WALL}}
        findings = check(evaluate(self.estate(accepted)))
        self.assertEqual([(one.rule, one.accepted) for one in findings], [("idle-exit", "kept for the winter")])

    def test_only_and_skip_choose_rules(self) -> None:
        described = self.estate({"exits": {"spare": WALL}, "route_tables": {"private": {"10.9.0.0/16": "gone"}}})
        self.assertEqual({one.rule for one in check(evaluate(described), only=["idle-exit"])}, {"idle-exit"})
        self.assertEqual({one.rule for one in check(evaluate(described), skip=["idle-exit"])}, {"black-hole"})


ARRIVAL = {"unreachable", "exit-out-of-reach", "flow-denied", "no-return-route", "asymmetric-return"}


class Remedies(InFolder):
    """Whatever a remedy says to merge: the finding is gone, no error is new, and what arrived arrives."""

    def check_all(self, described: Described) -> int:
        before = evaluate(described)
        findings = check(before)
        errors = {(one.rule, one.place.path) for one in findings if one.severity is Severity.ERROR}
        arrived = {(one.flow, one.subnet) for one in before.paths.paths if one.trace.verdict.arrives}
        fixes = [one for one in findings if one.fix is not None]
        for one in fixes:
            with self.subTest(one.rule, fix=one.fix):
                after = evaluate(described.patched(dict(one.fix or {}), "remedy"))
                found = without_remedies(after)
                # Wherever in the file it stood: the same table under another name is no remedy.
                self.assertNotIn((one.rule, one.cause), {(each.rule, each.cause) for each in found})
                # A flow that did not arrive may be stopped further on.
                worse = {
                    (each.rule, each.place.path)
                    for each in found
                    if each.severity is Severity.ERROR and each.rule not in ARRIVAL
                } - errors
                self.assertEqual(worse, set(), [each.cause for each in found])
                arrive = {(each.flow, each.subnet) for each in after.paths.paths if each.trace.verdict.arrives}
                self.assertLessEqual(arrived, arrive)
                self.assertTrue(patch_words(one.fix or {}, described.data))
        return len(fixes)

    def test_a_remedy_names_what_is_to_be_mended_next(self) -> None:
        """What was lost and now arrives is more than the gateway's one address carries."""
        lost = {"route_tables": {"private": {"0.0.0.0/0": "door"}}, "workloads": {"work": {"hosts": 8}}}
        [found] = [one for one in check(evaluate(self.estate(lost))) if one.rule == "unreachable"]
        self.assertNotIn("next", found.remedy)
        more = {"workloads": {"work": {"hosts": 30}}}
        described = self.estate(lost | more)
        [found] = [one for one in check(evaluate(described)) if one.rule == "unreachable"]
        told = "To mend next: gate cannot carry all that arrives then."
        self.assertTrue(found.remedy.endswith(told), found.remedy)
        after = {one.rule for one in check(evaluate(described.patched(dict(found.fix or {}), "remedy")))}
        self.assertIn("port-exhaustion", after)

    def test_more_addresses_are_as_many_as_a_fault_asks_for(self) -> None:
        """Bought once: those of now alone would be followed by more, and an entry each fills the partner's list."""
        few = {"destinations": {"partner": {"needs": {"fixed_source": True, "max_source_addresses": 5}}}}
        for more, stated in (({}, {"addresses": 4}), (few, {"addresses": "auto", "at_least": 4})):
            described = self.estate(merged(SURVIVING, more))
            found = {one.place.path: one for one in check(evaluate(described)) if one.rule == "port-exhaustion"}
            words = "Give it 3 more addresses: 4 in all (2 now, 4 with zone b lost)."
            self.assertEqual(
                (found["exits.gate"].remedy, found["exits.gate"].fix), (words, {"exits": {"gate": stated}})
            )
            both = merged(found["exits.gate"].fix, found["exits.gate-b"].fix)
            self.assertEqual([one.rule for one in check(evaluate(described.patched(both, "both")))], [])

    def test_a_list_that_becomes_too_short_is_harm(self) -> None:
        """Two single addresses leave no entry for the block that the loss of a zone asks for."""
        few = {"partner": {"needs": {"fixed_source": True, "max_source_addresses": 3}}}
        beside = {"gate-b": {"addresses": "auto", "at_least": 4}}
        described = self.estate(merged(SURVIVING, {"exits": beside, "destinations": few}))
        before = evaluate(described)
        for addresses, told in ((2, "the allow-list of partner would be too short"), (4, "")):
            stated = {"addresses": 2} if addresses == 2 else {"addresses": "auto", "at_least": 4}
            after = evaluate(described.patched({"exits": {"gate": stated}}, "more"))
            self.assertEqual(harm(before, after), told)
            self.assertEqual(comes_next(before, after).too_short, ("partner",) if told else ())

    def test_what_gets_there_unanswered_is_reached(self) -> None:
        """A line that announces nothing back: a datagram gets there all the same, until a filter denies it."""
        line = {"kind": "circuit", "network": "net", "received": ["172.20.0.0/16"], "advertised": []}
        described = self.estate(
            {
                "exits": {"line": line},
                "destinations": {"mill": {"prefixes": ["172.20.5.0/24"]}},
                "workloads": {"work": {"must_not_reach": ["mill"]}},
            }
        )
        [found] = [one for one in check(evaluate(described)) if one.rule == "reaches-forbidden"]
        self.assertTrue(found.cause.endswith("through line: what it sends gets there, only the reply is lost"))
        after = check(evaluate(described.patched(dict(found.fix or {}), "remedy")))
        self.assertNotIn("reaches-forbidden", {one.rule for one in after})

    def test_another_exit_in_the_zone_is_the_remedy_of_leaving_it(self) -> None:
        box = {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": 1}
        pair = box | {"machines": 2, "standby_subnet": "edge-b"}
        base: dict[str, Any] = {
            "subnets": {
                "app": {"zone": "b"},
                "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
            },
            "route_tables": {"private": {"0.0.0.0/0": "box"}},
            "exits": {"box": pair},
        }
        second = {"exits": {"box2": box | {"subnet": "edge-b"}}}
        sharing = {"subnets": {"more": {"network": "net", "zone": "a", "prefix": "10.0.4.0/24", "routes": "private"}}}
        own = {"route_tables": {"app-own": {"0.0.0.0/0": "box2"}}, "subnets": {"app": {"routes": "app-own"}}}
        for more, wanted in (
            ({}, None),  # Its pair's other machine is in the zone, and takes over only where the first is lost.
            (second, {"route_tables": {"private": {"0.0.0.0/0": "box2"}}}),
            (merged(second, sharing), own),
        ):
            with self.subTest(more=more):
                found = check(evaluate(self.estate(merged(base, more))))
                self.assertEqual([one.fix for one in found if one.rule == "zone-crossing-default"], [wanted])

    def test_of_every_rule(self) -> None:
        total = 0
        for _, (trigger, _, _) in CASES.items():
            patch = {key: value for key, value in trigger.items() if key != "catalogue"}
            total += self.check_all(self.estate(patch, trigger.get("catalogue")))
        self.assertGreater(total, 25)

    def test_of_every_topology(self) -> None:
        base = yaml.safe_load((Path(__file__).parent.parent / "routing" / "topologies.yaml").read_text("utf-8"))
        flows = {
            "workloads": {"work": {"subnets": ["app"], "hosts": 3}},
            "flows": {
                name: {"from": "work", "to": name, "per_host_per_s": 0.01, "duration_s": 1}
                for name in ("partner", "pilots", "store")
            },
        }
        for name, case in base["cases"].items():
            self.write("catalogue.yaml", merged(CATALOGUE, MORE))
            estate = merged(merged(base["base"], flows), case.get("patch", {}))
            with self.subTest(name):
                self.check_all(read_estate(self.write("estate.yaml", estate)))

    def test_of_the_demo(self) -> None:
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        self.assertGreater(self.check_all(read_estate(self.folder / "estate.yaml")), 5)
