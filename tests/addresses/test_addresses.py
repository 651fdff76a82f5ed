"""Blocks and allow-lists, against brute force over every purchase."""

import unittest
from collections.abc import Iterable
from fractions import Fraction
from itertools import combinations_with_replacement, product
from typing import Any

from fenrask.addresses import AddressPlan, ExitAddresses, plan_addresses, purchases
from fenrask.addresses.plan import _cheapest_within
from fenrask.capacity import capacity
from fenrask.demand import demand
from fenrask.errors import NoAnswer
from fenrask.evaluation import evaluate, every_broken_need
from fenrask.routing import flow_paths
from fenrask.what_if.second_methods import Audited, audit
from tests.support import InFolder, merged


def even(blocks: Iterable[int]) -> dict[int, Fraction]:
    """Every address at the same price, alone or in a block."""
    return {length: Fraction(2 ** (32 - length)) for length in (*blocks, 32)}


class Purchases(unittest.TestCase):
    def test_every_number_of_entries_against_brute_force(self) -> None:
        for blocks in ((), (31,), (30, 31), (29, 31), (28, 30), (28, 29, 30, 31)):
            for wanted in range(1, 18):
                with self.subTest(blocks=blocks, wanted=wanted):
                    found = purchases(wanted, even(blocks))
                    lengths = (*blocks, 32)
                    best = [
                        min(
                            (sum(2 ** (32 - one) for one in some), entries)
                            for entries in range(1, most + 1)
                            for some in combinations_with_replacement(lengths, entries)
                            if sum(2 ** (32 - one) for one in some) >= wanted
                        )
                        for most in range(1, 5)
                        if max(2 ** (32 - one) for one in lengths) * most >= wanted
                    ]
                    listed = {(one.bought, one.entries) for one in found if one.entries <= 4}
                    self.assertEqual(listed, set(best))
                    self.assertEqual([one.bought for one in found], sorted(one.bought for one in found))
                    self.assertEqual(found[0].waste, 0)

    def test_many_addresses_are_whole_blocks_but_for_the_last(self) -> None:
        for wanted in (513, 2_000, 60_001):
            found = purchases(wanted, even((28, 30)))
            self.assertEqual(
                {one.bought >= wanted and one.bought == sum(2 ** (32 - n) for n in one.lengths) for one in found},
                {True},
            )
            self.assertEqual((found[0].waste, found[0].hour), (0, wanted))
        with self.assertRaises(NoAnswer):
            purchases(10**9, even(()))

    def test_none_wanted_none_bought(self) -> None:
        self.assertEqual(purchases(0, even((30,)))[0].bought, 0)

    def test_blocks_with_prices_of_their_own_against_brute_force(self) -> None:
        for prices in (
            {32: 10, 31: 21, 30: 30, 29: 65},
            {32: 10, 31: 12, 30: 13, 29: 40},
            {32: 3, 30: 11, 28: 17},
        ):
            exact = {length: Fraction(price) for length, price in prices.items()}
            for wanted in range(1, 12):
                with self.subTest(prices=prices, wanted=wanted):
                    found = purchases(wanted, exact)
                    for most in range(1, 6):
                        costs = [
                            sum(prices[one] for one in some)
                            for entries in range(1, most + 1)
                            for some in combinations_with_replacement(prices, entries)
                            if sum(2 ** (32 - one) for one in some) >= wanted
                        ]
                        listed = [one.hour for one in found if one.entries <= most]
                        self.assertEqual(min(listed, default=None), min(costs, default=None))
                    self.assertEqual([one.hour for one in found], sorted(one.hour for one in found))


class Plans(InFolder):
    TWO_GATES: dict[str, Any] = {
        "subnets": {
            "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"},
            "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
        },
        "route_tables": {"private-b": {"0.0.0.0/0": "gate-b"}},
        "exits": {
            "gate": {"addresses": "auto"},
            "gate-b": {
                "kind": "translation-gateway",
                "offer": "gate",
                "subnet": "edge-b",
                "addresses": "auto",
            },
        },
        "workloads": {"work": {"subnets": ["app", "app-b"]}},
    }

    def plan(self, hosts: int, most: int | None, blocks: list[int]) -> AddressPlan:
        patch = self.TWO_GATES | {"destinations": {"partner": {"needs": {"max_source_addresses": most}}}}
        patch["workloads"] = {"work": {"subnets": ["app", "app-b"], "hosts": hosts}}
        described = self.estate(patch, {"addresses": {"blocks": blocks}})
        return plan_addresses(capacity(demand(flow_paths(described))))

    def test_least_addresses_within_the_partners_limit(self) -> None:
        # 90 hosts hold 5,580 connections, 2,790 by each gate: three addresses of 1,000 ports each.
        for most, blocks in product((1, 2, 3, 4, 5, 6, None), ([], [30], [30, 31], [28])):
            with self.subTest(most=most, blocks=blocks):
                plan = self.plan(90, most, blocks)
                self.assertEqual([one.in_use for one in plan.exits], [3, 3])
                options = [(one.entries, one.bought) for one in purchases(3, even(blocks))]
                within = [
                    one[1] + other[1] for one, other in product(options, options) if one[0] + other[0] <= (most or 99)
                ]
                [partner] = plan.partners
                self.assertEqual(partner.fits, bool(within))
                self.assertEqual(partner.entries, sum(one.entries for one in plan.exits))
                if within:
                    self.assertEqual(sum(one.bought for one in plan.exits), min(within))

    def test_listed_addresses_stay_and_are_told_in_the_fewest_prefixes(self) -> None:
        listed = ["203.0.113.4", "203.0.113.5", "203.0.113.6", "203.0.113.7", "203.0.113.9"]
        described = self.estate({"exits": {"gate": {"addresses": listed}}})
        plan = plan_addresses(capacity(demand(flow_paths(described))))
        self.assertEqual(plan.exits[0].blocks, ("203.0.113.4/30", "203.0.113.9"))
        self.assertEqual((plan.exits[0].bought, plan.exits[0].waste, plan.exits[0].entries), (5, 0, 2))

    def test_a_held_block_of_its_own_is_told_whole_where_that_is_shorter(self) -> None:
        """Three of the eight held: two prefixes, or the one block; not where another exit has one of the eight."""
        three, two = ["203.0.113.1", "203.0.113.2", "203.0.113.3"], ["203.0.113.2", "203.0.113.3"]
        for listed, other, told in (
            (three, "203.0.113.9", ("203.0.113.0/29",)),
            (three, "203.0.113.4", ("203.0.113.1", "203.0.113.2/31")),
            (two, "203.0.113.9", ("203.0.113.2/31",)),
            (["203.0.113.11", *three], "203.0.113.9", ("203.0.113.0/29", "203.0.113.11")),
        ):
            spare = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": [other]}
            described = self.estate(
                {
                    "exits": {"gate": {"addresses": listed}, "spare": spare},
                    "public_addresses": {"eight": {"address": "203.0.113.0/29"}},
                    "destinations": {"partner": {"allowed": three, "needs": {"fixed_source": True}}},
                }
            )
            with self.subTest(listed=listed, other=other):
                plan = plan_addresses(capacity(demand(flow_paths(described))))
                self.assertEqual((plan.exits[0].blocks, plan.exits[0].entries), (told, len(told)))
                audited = [one for one in audit(evaluate(described)) if isinstance(one, Audited)]
                self.assertEqual([one for one in audited if one.what == "allow-list entries" and not one.agrees], [])
                # What it allows is held against the addresses themselves.
                missing = {"203.0.113.11"} & {*listed}
                self.assertEqual({*plan.partners[0].missing}, missing)

    def test_a_lent_address_is_on_no_list(self) -> None:
        patch = {
            "route_tables": {"private": {"0.0.0.0/0": None}},
            "exits": {"lent": {"kind": "dynamic-address", "network": "net"}},
        }
        plan = plan_addresses(capacity(demand(flow_paths(self.estate(patch)))))
        self.assertEqual([(one.entries, one.dynamic) for one in plan.partners], [(0, ("lent",))])

    def test_more_addresses_are_added_to_entries_that_stay(self) -> None:
        # Thirty hosts hold 1,860 connections: two addresses of 1,000 ports do within 1e-4, of which one is there.
        patch = {"workloads": {"work": {"hosts": 30}}}
        for most, hand in ((None, True), (2, True), (1, False)):
            needs = {"destinations": {"partner": {"needs": {"max_source_addresses": most}}}}
            plan = plan_addresses(capacity(demand(flow_paths(self.estate({**patch, **needs})))))
            [change] = plan.changes
            self.assertEqual((change.exit, change.more.wanted, change.entries_now), ("gate", 1, 1))
            self.assertEqual((change.entries_then, change.fits), (2, hand))
        asked = plan_addresses(capacity(demand(flow_paths(self.estate(patch)))), {"gate": 4})
        self.assertEqual([(one.more.wanted, one.more.blocks) for one in asked.changes], [(4, ("a /30",))])

    def test_what_several_exits_need_goes_onto_all_lists_together(self) -> None:
        """One purchase an exit, the cheapest with which every list holds what both gates need; by brute force."""
        for most, other, blocks in product((4, 5, 6, None), (4, 6, None), ([], [30], [30, 31])):
            needs = {
                name: {"prefixes": [prefix], "port": 443, "needs": {"max_source_addresses": limit}}
                for name, prefix, limit in (("partner", "203.0.113.0/24", most), ("second", "198.18.0.0/24", other))
            }
            flows = {"more": {"from": "work", "to": "second", "per_host_per_s": 0.001}}
            patch = merged(self.TWO_GATES, {"exits": {"gate": {"addresses": 1}, "gate-b": {"addresses": 1}}})
            patch |= {"destinations": needs, "flows": flows}
            patch["workloads"] = {"work": {"subnets": ["app", "app-b"], "hosts": 90}}
            described = self.estate(patch, {"addresses": {"blocks": blocks}})
            changes = plan_addresses(capacity(demand(flow_paths(described)))).changes
            bought = {(one.exit, one.more) for one in changes}
            room = min(limit or 99 for limit in (most, other)) - 2
            options = [(one.entries, one.bought) for one in purchases(2, even(blocks))]
            within = [one[1] + two[1] for one, two in product(options, options) if one[0] + two[0] <= room]
            with self.subTest(most=most, other=other, blocks=blocks):
                self.assertEqual((len(changes), len(bought)), (4, 2))
                self.assertEqual(all(one.fits for one in changes), bool(within))
                if within:
                    self.assertEqual(sum(more.bought for _, more in bought), min(within))

    def test_many_exits_on_one_list(self) -> None:
        """Sixty that need five each, in a block or singly: by hand, as many blocks as the list wants, and no more."""
        prices = {32: Fraction(1), 30: Fraction(5), 29: Fraction(9)}
        options = {
            (f"e{n}", ""): tuple(ExitAddresses(f"e{n}", 5, one) for one in purchases(5, prices)) for n in range(60)
        }
        found = _cheapest_within(options, [((*options,), 150)]).values()
        # Singly they have 300 entries for 300; a block saves three of them for one more: fifty do.
        self.assertEqual((sum(one.entries for one in found), sum(one.hour for one in found)), (150, 350))

    def test_what_a_partner_allows_against_what_it_sees(self) -> None:
        patch = {
            "exits": {"gate": {"addresses": ["203.0.113.4", "203.0.113.5", "203.0.113.9"]}},
            "destinations": {"partner": {"allowed": ["203.0.113.4/31", "203.0.113.40/29"]}},
        }
        [partner] = plan_addresses(capacity(demand(flow_paths(self.estate(patch))))).partners
        self.assertEqual((partner.missing, partner.idle), (("203.0.113.9",), ("203.0.113.40/29",)))

    def test_hosts_with_ipv6_are_allowed_by_their_prefixes(self) -> None:
        patch: dict[str, Any] = {
            "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:40::/48"]}},
            "subnets": {
                "app": {"prefix_v6": "2001:db8:40:0::/64"},
                "app-b": {
                    "network": "net",
                    "zone": "b",
                    "prefix": "10.0.2.0/24",
                    "prefix_v6": "2001:db8:40:1::/64",
                    "routes": "private",
                },
            },
            "route_tables": {"private": {"::/0": "six"}},
            "exits": {"six": {"kind": "ipv6-outbound", "network": "net"}},
            "workloads": {"work": {"subnets": ["app", "app-b"]}},
            "destinations": {"partner": {"prefixes": ["2001:db8:ffff::/64"], "needs": {"max_source_addresses": 1}}},
        }
        [partner] = plan_addresses(capacity(demand(flow_paths(self.estate(patch))))).partners
        self.assertEqual([str(one) for one in partner.host_prefixes], ["2001:db8:40::/63"])
        self.assertEqual((partner.entries, partner.fits, partner.host_addresses), (1, True, False))

    def test_the_list_and_the_need_agree_on_what_a_partner_does_not_allow(self) -> None:
        """What `addresses` says does not fit, `check` and `path` say is not allowed: of each kind of source."""
        v6: dict[str, Any] = {
            "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:40::/48"]}},
            "subnets": {"app": {"prefix_v6": "2001:db8:40:0::/64"}},
            "route_tables": {"private": {"::/0": "six"}},
            "exits": {"six": {"kind": "ipv6-outbound", "network": "net"}},
            "destinations": {"partner": {"prefixes": ["2001:db8:ffff::/64"]}},
        }
        pool = {
            "exits": {
                "gate": {"addresses": "auto", "private_pool": "100.64.3.0/28"},
                "line": {
                    "kind": "circuit",
                    "network": "net",
                    "received": ["172.20.0.0/16"],
                    "advertised": ["100.64.3.0/28"],
                },
            },
            "subnets": {"app": {"learns": False}},
            "destinations": {"partner": {"prefixes": ["172.20.3.0/28"]}},
        }
        lent = {
            "exits": {"lent": {"kind": "dynamic-address", "network": "net"}},
            "route_tables": {"private": {"0.0.0.0/0": None}},
        }
        for change, right, wrong in (
            ({"exits": {"gate": {"addresses": ["203.0.113.4"]}}}, "203.0.113.4/31", "203.0.113.40/29"),
            (v6, "2001:db8:40::/63", "2001:db8:41::/64"),
            (pool, "100.64.0.0/16", "100.64.3.0/29"),
            (lent, None, "203.0.113.0/24"),
        ):
            for allowed, fits in ((right, True), (wrong, False)):
                if allowed is None:
                    continue
                with self.subTest(allowed):
                    paths = flow_paths(
                        self.estate(merged(change, {"destinations": {"partner": {"allowed": [allowed]}}}))
                    )
                    [partner] = plan_addresses(capacity(demand(paths))).partners
                    self.assertEqual(partner.fits, fits)
                    broken = [one.need for one in every_broken_need(paths)]
                    self.assertEqual(broken, [] if fits else ["allowed"])
