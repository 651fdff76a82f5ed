"""A verdict speaks for its part: what covers a part of hosts, addresses or names, on either side of what is first."""

from fractions import Fraction
from typing import Any

from fenrask.checks import check
from fenrask.errors import UnusableInput
from fenrask.evaluation import evaluate
from fenrask.routing import flow_paths, trace_from
from tests.support import InFolder, merged

WALL: dict[str, Any] = {
    "subnets": {
        "walls": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walled"},
    },
    "route_tables": {
        "private": {"0.0.0.0/0": "wall"},
        "walled": {"0.0.0.0/0": "gate"},
        "public": {"10.0.1.0/24": "wall"},
    },
    "exits": {"wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "walls", "rewrites_toward": []}},
}


def by_wall(**rule: Any) -> dict[str, Any]:
    return {**WALL, "exits": {"wall": {**WALL["exits"]["wall"], "rules": {"platform": rule}, "default": "allow"}}}


def filtered(section: str, **directions: Any) -> dict[str, Any]:
    owner = {"subnets": "app", "workloads": "work"}[section]
    stated = {"stateful": True, "in_default": "allow", "out_default": "allow", **directions}
    return {section: {owner: {"filters": {"f": stated}}}}


def deny(**keys: Any) -> dict[str, Any]:
    return {"out": {"some": {"action": "deny", **keys}}}


def allow(**keys: Any) -> dict[str, Any]:
    return {"out": {"some": {"action": "allow", **keys}}, "out_default": "deny"}


def to(*prefixes: str, **keys: Any) -> dict[str, Any]:
    return {"destinations": {"partner": {"prefixes": [*prefixes], **keys}}}


PLATFORM = to("198.51.100.64/27")
LINE = {"kind": "circuit", "network": "net", "received": ["172.20.0.0/16"]}
PILOTS = {"destinations": {"partner": {"prefixes": ["172.20.4.0/24"]}}, "route_tables": {"private": {}}}
BACK = {"public": {"10.0.1.0/24": None}}

# what, patches, the share that arrives, and how the rest ends: verdict, the part in words
CASES: tuple[tuple[str, list[dict[str, Any]], Fraction, str, str], ...] = (
    (
        "a rule for the first half of a destination",
        [by_wall(action="deny", prefixes=["198.51.100.64/28"]), PLATFORM],
        Fraction(1, 2),
        "denied",
        "to 198.51.100.64/28",
    ),
    (
        "a rule for its second half",
        [by_wall(action="deny", prefixes=["198.51.100.80/28"]), PLATFORM],
        Fraction(1, 2),
        "denied",
        "to 198.51.100.80/28",
    ),
    (
        "a rule for the first half of a subnet",
        [by_wall(action="deny", sources=["10.0.1.0/25"]), PLATFORM],
        Fraction(1, 2),
        "denied",
        "from 10.0.1.0/25",
    ),
    (
        "a rule for the second half of a subnet",
        [by_wall(action="deny", sources=["10.0.1.128/25"]), PLATFORM],
        Fraction(1, 2),
        "denied",
        "from 10.0.1.128/25",
    ),
    (
        "a rule for one of two names",
        [
            by_wall(action="deny", names=["*.example.org"]),
            to("198.51.100.64/27", names=["a.example.net", "b.example.org"]),
        ],
        Fraction(1, 2),
        "denied",
        "asking for b.example.org",
    ),
    (
        "a filter of the subnet that allows a half",
        [filtered("subnets", **allow(prefixes=["198.51.100.64/28"])), PLATFORM],
        Fraction(1, 2),
        "denied",
        "to 198.51.100.80/28",
    ),
    (
        "a filter of the subnet that allows one of sixteen",
        [filtered("subnets", **allow(prefixes=["198.51.0.0/24"])), to("198.51.0.0/20")],
        Fraction(1, 16),
        "denied",
        "to 198.51.1.0-198.51.15.255",
    ),
    (
        "a filter of the workload that denies a part inside",
        [filtered("workloads", **deny(prefixes=["198.51.100.72/29"])), to("198.51.100.64/28")],
        Fraction(1, 2),
        "denied",
        "to 198.51.100.72/29",
    ),
    (
        "a filter of the workload that allows the second of two prefixes",
        [filtered("workloads", **allow(prefixes=["198.51.100.128/26"])), to("198.51.100.0/26", "198.51.100.128/26")],
        Fraction(1, 2),
        "denied",
        "to 198.51.100.0/26",
    ),
    (
        "a filter by source",
        [filtered("subnets", **deny(sources=["10.0.1.128/25"])), PLATFORM],
        Fraction(1, 2),
        "denied",
        "from 10.0.1.128/25",
    ),
    (
        "a stateless filter that lets replies in to one half",
        [
            filtered("subnets", stateful=False, **{"in": {"r": {"action": "deny", "prefixes": ["10.0.1.0/25"]}}}),
            PLATFORM,
        ],
        Fraction(1, 2),
        "reply denied",
        "from 10.0.1.0/25",
    ),
    (
        "a return route for the first half of the subnet",
        [WALL, {"route_tables": {"public": {"10.0.1.0/24": None, "10.0.1.0/25": "wall"}}}],
        Fraction(1, 2),
        "asymmetric return",
        "from 10.0.1.128/25",
    ),
    (
        "a return route for the second half",
        [WALL, {"route_tables": {"public": {"10.0.1.0/24": None, "10.0.1.128/25": "wall"}}}],
        Fraction(1, 2),
        "asymmetric return",
        "from 10.0.1.0/25",
    ),
    (
        "prefixes weigh by their addresses",
        [{"route_tables": {"private": {"198.51.100.64/26": "gone"}}}, to("198.51.100.0/30", "198.51.100.64/26")],
        Fraction(1, 17),
        "black hole",
        "to 198.51.100.64/26",
    ),
    (
        "a line that advertises the first half of the subnet",
        [PILOTS, {"exits": {"line": {**LINE, "advertised": ["10.0.1.0/25"]}}}],
        Fraction(1, 2),
        "no return",
        "from 10.0.1.128/25",
    ),
    (
        "hosts in one half alone, and a rule for the other",
        [
            by_wall(action="deny", sources=["10.0.1.0/25"]),
            PLATFORM,
            {"workloads": {"work": {"hosts_in": ["10.0.1.128/25"]}}},
        ],
        Fraction(1),
        "",
        "",
    ),
    (
        "a line that advertises both halves of the subnet",
        [PILOTS, {"exits": {"line": {**LINE, "advertised": ["10.0.1.0/25", "10.0.1.128/25"]}}}],
        Fraction(1),
        "",
        "",
    ),
)


class Parts(InFolder):
    def test_names_that_resolve_in_one_of_two_subnets_with_one_table(self) -> None:
        inner = {"kind": "in-subnet-endpoint", "offer": "inner", "subnets": ["edge"], "destination": "partner"}
        described = self.estate(
            {
                "subnets": {"app-b": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"}},
                "destinations": {"partner": {"service": True}},
                "workloads": {"work": {"subnets": ["app", "app-b"]}},
                "exits": {"inner": {**inner, "names_for": ["app-b"]}},
            }
        )
        found = {(one.subnet, one.trace.exits) for one in flow_paths(described).owns if one.to == "partner"}
        self.assertEqual(found, {("app", ("gate", "door")), ("app-b", ("inner",))})

    def test_each(self) -> None:
        for what, patches, arriving, verdict, part in CASES:
            with self.subTest(what):
                described = self.estate()
                for number, patch in enumerate(patches):
                    described = described.patched(patch, f"patch {number}")
                paths = flow_paths(described).by_flow["talk"]
                shares = {one.trace.verdict.value: one.share for one in paths}
                self.assertEqual(len(shares), len(paths), [one.trace.part for one in paths])
                self.assertEqual(shares.get("arrives", 0), arriving)
                self.assertEqual(sum(shares.values()), 1)
                self.assertEqual(
                    [one.trace.part for one in paths if not one.trace.verdict.arrives], [part] * bool(part)
                )
                if part:
                    lost = [one for one in check(evaluate(described)) if part in one.cause]
                    self.assertTrue(lost, [one.cause for one in check(evaluate(described))])
                    self.assertIn(verdict, shares)

    def test_ipv6_is_asked_for_first_and_what_it_loses_goes_over_ipv4(self) -> None:
        """RFC 6724, section 6, and RFC 8305; a unique local address at either end comes after IPv4."""
        both = {
            "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:1::/48"]}},
            "subnets": {"app": {"prefix_v6": "2001:db8:1:1::/64"}},
            "destinations": {"partner": {"prefixes": ["198.51.100.0/24", "2001:db8:ff::/64"]}},
        }
        out = {"exits": {"six": {"kind": "ipv6-outbound", "network": "net"}}}
        half = {"route_tables": {"private": {"2001:db8:ff::/65": "six"}}}
        whole = {"route_tables": {"private": {"::/0": "six"}}}
        local = {
            "networks": both["networks"],
            "destinations": {"partner": {"prefixes": ["198.51.100.0/24", "fd00::/64"]}},
        }
        no_route = "over IPv4, as IPv6 is lost: no route, no route in private matches, and nothing is assigned"
        cases: list[tuple[list[Any], dict[str, Any]]] = [
            ([both], {no_route: ("arrives", 1)}),
            (
                [both, out, half],
                {"to 2001:db8:ff::/65, over IPv6": ("arrives", Fraction(1, 2)), no_route: ("arrives", Fraction(1, 2))},
            ),
            ([both, out, whole], {"over IPv6": ("arrives", 1)}),
            ([both, out, whole, local], {"over IPv4": ("arrives", 1)}),
            ([both, {"route_tables": {"private": {"0.0.0.0/0": None}}}], {no_route: ("no route", 1)}),
        ]
        for patches, expected in cases:
            described = self.estate()
            for number, patch in enumerate(patches):
                described = described.patched(patch, f"patch {number}")
            with self.subTest(patches=patches):
                found = {one.trace.part: (one.trace.verdict.value, one.share) for one in flow_paths(described).paths}
                self.assertEqual(found, expected)
                warned = [one for one in check(evaluate(described)) if one.rule == "ip-version-lost"]
                lost = [part for part, (verdict, _) in expected.items() if "lost" in part and verdict == "arrives"]
                self.assertEqual(len(warned), len(lost), [one.cause for one in warned])
                if out in patches:
                    self.assertTrue(all(one.fix == whole for one in warned))
                    # What carries all when IPv6 is lost is not idle.
                    self.assertFalse([one for one in check(evaluate(described)) if one.rule == "idle-exit"])
        # A partner must allow what stands by, too; and it counts as an entry of its list.
        stands = self.estate(merged(merged(merged(both, out), whole), {"destinations": {"partner": {"allowed": []}}}))
        [listed] = evaluate(stands).plan.partners
        self.assertEqual([(part.exit, part.stands_by) for part in listed.parts], [("gate", True)])
        self.assertEqual((listed.entries, [*map(str, listed.host_prefixes)]), (2, ["2001:db8:1:1::/64"]))
        self.assertIn("203.0.113.1 (gate, stands by)", " ".join(self.program("addresses").stdout.split()))
        tight = {"destinations": {"partner": {"allowed": ["2001:db8:1:1::/64"]}}}
        self.assertEqual(evaluate(stands.patched(tight, "tight")).plan.partners[0].missing, ("203.0.113.1",))

    def test_hosts_are_spread_over_the_usable_addresses_of_their_subnets(self) -> None:
        more = {"network": "net", "zone": "b", "prefix": "10.0.2.0/28", "routes": "private"}
        described = self.estate({"subnets": {"more": more}, "workloads": {"work": {"subnets": ["app", "more"]}}})
        shares = {one.subnet: one.share for one in flow_paths(described).paths}
        self.assertEqual(shares, {"app": Fraction(254, 268), "more": Fraction(14, 268)})

    def test_one_host_is_traced_for_itself(self) -> None:
        described = self.estate(by_wall(action="deny", sources=["10.0.1.128/25"]))
        for host, verdict in (("10.0.1.9", "arrives"), ("10.0.1.200", "denied")):
            [(trace, share)] = trace_from(described, host, "partner")
            self.assertEqual((trace.verdict.value, share), (verdict, 1))

    def test_equal_prefixes_on_one_hub_have_one_winner(self) -> None:
        """Replies go to the first network alone, and so do packets to the prefix."""
        described = self.estate(
            {
                "networks": {"other": {"prefixes": ["10.0.0.0/16"]}, "third": {"prefixes": ["10.7.0.0/16"]}},
                "subnets": {
                    "twin": {"network": "other", "zone": "a", "prefix": "10.0.1.0/24", "routes": "private"},
                    "far": {"network": "third", "zone": "a", "prefix": "10.7.1.0/24", "routes": "private"},
                },
                "exits": {"hub": {"kind": "hub", "networks": ["net", "other", "third"]}},
                "route_tables": {"private": {"0.0.0.0/0": "hub"}},
                "destinations": {"partner": {"prefixes": ["10.7.1.0/24"]}},
            }
        )
        verdicts = {name: trace_from(described, name, "partner")[0][0].verdict.value for name in ("app", "twin")}
        self.assertEqual(verdicts, {"app": "arrives", "twin": "no return"})

    def test_a_public_host_inside_is_a_private_one(self) -> None:
        """Its public address shows at the internet exit alone: a symmetric inspected path stays symmetric."""
        inside = {
            "subnets": {
                **WALL["subnets"],
                "far": {"network": "net", "zone": "a", "prefix": "10.0.7.0/24", "routes": "far"},
            },
            "route_tables": {
                "private": {"10.0.7.0/24": "wall"},
                "walled": {},
                "far": {"10.0.1.0/24": "wall"},
            },
            "exits": WALL["exits"],
            "networks": {"net": {"prefixes": ["10.0.9.0/24", "10.0.8.0/24"]}},
            "destinations": {"partner": {"prefixes": ["10.0.7.0/24"]}},
        }
        for public in (False, True):
            [(trace, _)] = trace_from(self.estate(inside), "app", "partner", public)
            self.assertNotEqual(trace.verdict.value, "asymmetric return", trace.why)
            self.assertEqual(str(trace.source), "host's private address")

    def test_hosts_may_only_be_at_usable_addresses_of_their_subnets(self) -> None:
        for stated in (["192.0.2.0/24"], ["10.0.1.0"], ["10.0.1.255"], ["10.0.1.0/25", "10.0.9.0/28"]):
            with self.subTest(stated), self.assertRaises(UnusableInput) as caught:
                self.estate({"workloads": {"work": {"hosts_in": stated}}})
            self.assertIn("Write parts of 10.0.1.0/24", str(caught.exception))

    def test_a_patch_far_away_counts_where_only_names_are_known(self) -> None:
        """No path is known once any table further on tells public addresses apart, whoever met that table."""
        named = {"destinations": {"partner": {"prefixes": [], "names": ["a.example.net"]}}}
        more = {"network": "net", "zone": "a", "prefix": "10.0.5.0/28", "routes": "other"}
        other = {"kind": "translation-gateway", "offer": "gate", "subnet": "more", "addresses": 1}
        changes = {**named, "subnets": {"more": more}, "route_tables": {"other": {}}, "exits": {"unused": other}}
        base = self.estate(changes)
        self.assertEqual(flow_paths(base).paths[0].trace.verdict.value, "arrives")
        after = base.patched({"route_tables": {"other": {"198.51.100.0/24": "door"}}}, "patch")
        self.assertEqual(flow_paths(after).paths[0].trace.verdict.value, "unresolved name")
