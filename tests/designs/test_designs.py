"""Standard designs: that each is what it says, on estates of several shapes; and their comparison."""

from fractions import Fraction
from typing import Any

from fenrask.checks import check
from fenrask.designs import STANDARD, break_even, compare
from fenrask.designs.contract import Design
from fenrask.designs.placing import centres
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.findings import Severity
from fenrask.optimise import Wanted, choose
from tests.support import InFolder, merged

TWO_ZONES: dict[str, Any] = {
    "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
    "workloads": {"work": {"subnets": ["app", "app-b"]}},
    "destinations": {"store": {"needs": {"off_internet": True}}},
    "flows": {
        "talk": {"out_kib_per_connection": 10},
        "save": {"from": "work", "to": "store", "per_host_per_s": 1, "out_kib_per_connection": 500},
    },
}
LEFTOVER: dict[str, Any] = {"route_tables": {"private": {"198.51.100.0/25": "old"}}}
NO_DOOR: dict[str, Any] = {
    "subnets": {"edge": None, "app": {"routes": None}},
    "route_tables": None,
    "exits": {"gate": None, "door": None, "lent": {"kind": "dynamic-address", "network": "net"}},
}
SHAPES = (
    ("small", {}),
    ("two zones", TWO_ZONES),
    ("a leftover route", TWO_ZONES | LEFTOVER),
    ("no door and no tables", NO_DOOR),
)


def named(name: str) -> Design:
    return next(one for one in STANDARD if one.name == name)


class Standard(InFolder):
    def test_every_design_of_every_shape_reaches_everything_and_leaves_no_mistake(self) -> None:
        for shape, patch in SHAPES:
            comparison = compare(self.estate(patch))
            for one in comparison.candidates[1:]:
                with self.subTest(shape=shape, design=one.design.name):
                    self.assertNotIn("arrives", {broken.need for broken in one.evaluation.broken})
                    found = check(evaluate(one.evaluation.described))
                    rules = {finding.rule for finding in found if finding.severity is Severity.ERROR}
                    self.assertLessEqual(rules, {"need-not-met"})

    def test_gateways_by_network_and_by_zone(self) -> None:
        for name, count in (("gateway per network", 1), ("gateway per zone", 2)):
            with self.subTest(name):
                described = self.estate(TWO_ZONES)
                after = evaluate(described.patched(named(name).patch(described), name))
                gates = [one for one in after.described.estate.exits.values() if one.kind == "translation-gateway"]
                self.assertEqual(len(gates), count)
                crossings = sum(hop.crosses_zone for path in after.paths.paths for hop in path.trace.hops)
                self.assertEqual(crossings, 2 if count == 1 else 0)

    def test_endpoints_take_the_services_and_nothing_else(self) -> None:
        described = self.estate(TWO_ZONES)
        after = evaluate(described.patched(named("with routed endpoints").patch(described), "x"))
        kinds = {(path.flow, after.described.estate.exits[path.trace.exits[0]].kind) for path in after.paths.paths}
        self.assertEqual(kinds, {("talk", "translation-gateway"), ("save", "routed-endpoint")})
        self.assertTrue(after.meets_all)

    def test_an_in_subnet_endpoint_is_taken_for_a_need_even_where_it_costs_more(self) -> None:
        dear = {"offers": {"door-to-service": None, "inner": {"rates": {"hour": 50}}}}
        described = self.estate(TWO_ZONES, dear)
        after = evaluate(described.patched(named("with in-subnet endpoints").patch(described), "x"))
        self.assertTrue(after.meets_all)
        without_need = self.estate(TWO_ZONES | {"destinations": {}}, dear)
        not_counted = {one.design.name: one.why for one in compare(without_need).not_counted}
        self.assertIn("with in-subnet endpoints", not_counted)
        self.assertIn("with routed endpoints", not_counted)

    def test_a_firewall_inspects(self) -> None:
        described = self.estate({"destinations": {"partner": {"needs": {"inspected": True}}}})
        self.assertFalse(evaluate(described).meets_all)
        after = evaluate(described.patched(named("firewall per network").patch(described), "x"))
        self.assertTrue(after.meets_all)

    def test_a_regional_offer_serves_the_network_and_survives_a_zone(self) -> None:
        needs = {"workloads": {"work": {"needs": {"survives": "zone-loss"}}}}
        for scope, survives in (("zone", False), ("region", True)):
            with self.subTest(scope=scope):
                both = {
                    **TWO_ZONES,
                    "workloads": {"work": TWO_ZONES["workloads"]["work"] | needs["workloads"]["work"]},
                }
                described = self.estate(both, {"offers": {"gate": {"scope": scope}}})
                after = evaluate(described.patched(named("gateway per network").patch(described), "x"))
                self.assertEqual("survives" not in {one.need for one in after.broken}, survives)

    def test_a_firewall_before_a_gateway_inspects_and_answers_come_back_through_it(self) -> None:
        needs = {"destinations": {"partner": {"needs": {"inspected": True, "fixed_source": True}}}}
        described = self.estate(needs)
        after = evaluate(described.patched(named("firewall before gateway").patch(described), "x"))
        self.assertTrue(after.meets_all, after.broken)
        [path] = after.paths.paths
        kinds = [after.described.estate.exits[name].kind for name in path.trace.exits]
        self.assertEqual(kinds, ["inspecting-firewall", "translation-gateway", "direct-internet"])
        self.assertIn(path.trace.exits[0], [hop.exit for hop in path.trace.back])

    def test_translator_hosts_and_public_addresses(self) -> None:
        described = self.estate(TWO_ZONES, {"offers": {"host": {"upkeep_hours": 4}}})
        hosts = evaluate(described.patched(named("translator hosts").patch(described), "x"))
        kinds = [one.kind for one in hosts.described.estate.exits.values()]
        self.assertEqual((kinds.count("translator-host"), hosts.upkeep_hours), (2, 8.0))
        bare = evaluate(described.patched(named("public address on each host").patch(described), "x"))
        self.assertEqual((bare.hosts_with_public, bare.addresses), (10, 10))
        self.assertEqual({path.trace.source.kind for path in bare.paths.paths}, {"host-public"})

    def test_of_many_networks_each_region_has_its_centres(self) -> None:
        # Hosts and KiB per second of each network by hand: most hosts in net, most bytes in n2; n3 alone in the south.
        sent = {"n1": (4, 1), "n2": (2, 900), "n3": (1, 1)}
        patch: dict[str, Any] = {"networks": {}, "subnets": {}, "workloads": {}, "flows": {}}
        for number, (name, (hosts, kib)) in enumerate(sent.items(), 1):
            region = "south" if name == "n3" else "north"
            patch["networks"][name] = {"prefixes": [f"10.{number}.0.0/16"], "region": region}
            patch["subnets"][f"in-{name}"] = {"network": name, "zone": "z", "prefix": f"10.{number}.1.0/24"}
            patch["workloads"][name] = {"subnets": [f"in-{name}"], "hosts": hosts}
            load = {"per_host_per_s": 1, "out_kib_per_connection": kib}
            patch["flows"][f"of-{name}"] = {"from": name, "to": "partner", **load}
        patch["networks"]["net"] = {"region": "north"}
        self.assertEqual(centres(self.estate(patch)), ["net", "n3", "n2"])
        few = merged(patch, {"workloads": {"n3": None}, "flows": {"of-n3": None}})
        self.assertEqual(centres(self.estate(few)), ["net", "n1", "n2"])

    def test_a_hub_joins_networks_and_answers_find_back(self) -> None:
        two = {
            "networks": {"far": {"prefixes": ["10.1.0.0/16"]}},
            "subnets": {"there": {"network": "far", "zone": "a", "prefix": "10.1.1.0/24"}},
            "workloads": {"more": {"subnets": ["there"], "hosts": 3}},
            "flows": {"call": {"from": "more", "to": "partner", "per_host_per_s": 1}},
        }
        with self.assertRaises(NoAnswer):
            named("central hub").patch(self.estate(two))
        described = self.estate(two, {"offers": {"hub": {"kind": "hub"}}})
        after = evaluate(described.patched(named("central hub").patch(described), "x"))
        self.assertTrue(after.meets_all, after.broken)
        paths = {path.flow: path.trace.exits for path in after.paths.paths}
        self.assertEqual(paths["call"], ("hub-central", "gateway-central", "door"))
        self.assertEqual(paths["talk"], ("gateway-central", "door"))
        # Where the catalogue has a hub to sell, it is paid.
        hubs = {"offers": {name: {"kind": "hub", "rates": {"hour": hour}} for name, hour in (("a", 0.5), ("b", 0.2))}}
        paying = self.estate(two, hubs)
        paid = evaluate(paying.patched(named("central hub").patch(paying), "x"))
        self.assertEqual(paid.described.estate.exits["hub-central"].offer_name, "b")
        self.assertEqual(paid.bill.total - after.bill.total, 730 * Fraction(1, 5))
        not_counted = {one.design.name: one.why for one in compare(self.estate({})).not_counted}
        self.assertIn("only one network", not_counted["central hub"])

    def test_ipv6_goes_straight_out_where_both_ends_have_it(self) -> None:
        six = {
            "networks": {"net": {"prefixes": ["10.0.0.0/16", "2001:db8:40::/48"]}},
            "subnets": {"app": {"prefix_v6": "2001:db8:40:1::/64"}},
            "destinations": {"partner": {"prefixes": ["2001:db8:ffff::/64"]}},
        }
        described = self.estate(six)
        after = evaluate(described.patched(named("IPv6 straight out").patch(described), "x"))
        self.assertEqual([path.trace.exits for path in after.paths.paths], [("six-net",)])
        self.assertEqual([str(one) for one in after.plan.partners[0].host_prefixes], ["2001:db8:40:1::/64"])
        self.assertTrue(after.meets_all)

    def test_a_full_network_leaves_no_room_for_a_landing(self) -> None:
        full = {
            "networks": {"net": {"prefixes": ["10.0.1.0/24"]}},
            "subnets": {"edge": None},
            "route_tables": {"public": None},
            "exits": {"gate": None},
        }
        not_counted = {one.design.name: one.why for one in compare(self.estate(full)).not_counted}
        self.assertIn("no free /28", not_counted["gateway per network"])


class Compared(InFolder):
    def test_differences_and_the_cheapest_that_meets_everything(self) -> None:
        comparison = compare(self.estate(TWO_ZONES))
        first = comparison.candidates[0].evaluation.bill.total
        for one in comparison.candidates:
            self.assertEqual(comparison.difference(one), one.evaluation.bill.total - first)
        fit = [one.evaluation.bill.total for one in comparison.candidates if one.evaluation.meets_all]
        self.assertTrue(comparison.cheapest and comparison.cheapest.evaluation.bill.total == min(fit))

    def test_a_saved_patch_gives_the_design_again(self) -> None:
        described = self.estate(TWO_ZONES)
        for one in compare(described).candidates[1:]:
            with self.subTest(one.design.name):
                again = evaluate(read_estate(self.folder / "estate.yaml", [self.write("patch.yaml", one.patch)]))
                self.assertEqual(again.bill.total, one.evaluation.bill.total)
                self.assertEqual(again.broken, one.evaluation.broken)


class ByName(InFolder):
    """What must be inspected by name: a rule of a firewall has to ask for the name."""

    NAMED: dict[str, Any] = {
        "destinations": {"partner": {"names": ["api.example.net"], "needs": {"inspected": "by-name"}}},
        "exits": {"gate": {"kind": "inspecting-firewall", "offer": "wall"}},
    }

    def test_only_a_rule_that_asks_for_the_name_meets_it(self) -> None:
        allowed = {"action": "allow"}
        cases: tuple[tuple[dict[str, Any], str, str], ...] = (
            ({"kind": "translation-gateway", "offer": "gate"}, "it passes no inspecting firewall", "partner"),
            ({}, "no rule inspects its name (gate by its default lets it pass)", "partner by name"),
            ({"rules": {"all": allowed}}, "no rule inspects its name (gate by all lets it pass)", "partner by name"),
            ({"rules": {"api": {**allowed, "names": ["*.example.net"]}}}, "", "api"),
        )
        for firewall, why, rule in cases:
            with self.subTest(why=why):
                described = self.estate({**self.NAMED, "exits": {"gate": {**self.NAMED["exits"]["gate"], **firewall}}})
                found = {one.need: one.why for one in evaluate(described).broken}
                self.assertEqual(found.get("inspected", ""), f"from app {why}" if why else "")
                choice = choose(described)
                self.assertTrue(choice.evaluation.meets_all)
                [path] = choice.evaluation.paths.by_flow["talk"]
                self.assertEqual({hop.rule for hop in path.trace.hops if hop.rule}, {rule})

    def test_designs_with_a_firewall_give_it_rules_by_name(self) -> None:
        # What else the network sends to stays open to it.
        patch = {**self.NAMED, "flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}}}
        comparison = compare(self.estate(patch))
        meeting = {one.design.name for one in comparison.candidates if one.evaluation.meets_all}
        self.assertEqual(meeting, {"firewall per network", "firewall before gateway"})
        nameless = self.estate(merged(patch, {"destinations": {"partner": {"names": None}}}))
        self.assertIsNone(compare(nameless).cheapest)
        with self.assertRaisesRegex(NoAnswer, "no offer meets inspected"):
            choose(nameless)


class BreakEvenOfDesigns(InFolder):
    def test_where_designs_change_places_their_bills_are_the_same(self) -> None:
        tiers = {"sum_over": "estate", "tiers": [{"up_to_gb": 2000, "rate": 0.01}, {"rate": 0.09}]}
        catalogue = {"offers": {"wall": {"rates": {"hour": 1, "processed_per_gb": tiers}}}}
        comparison = compare(self.estate(TWO_ZONES, catalogue))
        found = break_even(comparison, "talk")
        self.assertTrue(any(one.at.kind == "cross" for one in found.meetings))
        for one in comparison.candidates:
            self.assertEqual(found.curves[one.design.name].at(found.volume), one.evaluation.bill.total)
        for meeting in found.meetings:
            # At that many bytes a connection, the whole engine makes the same bill of both.
            kib = 10 * meeting.at.volume / found.volume
            flows = {"talk": {"out_kib_per_connection": float(kib)}}
            at_it = compare(self.estate(merged(TWO_ZONES, {"flows": flows}), catalogue))
            totals = {one.design.name: float(one.evaluation.bill.total) for one in at_it.candidates}
            self.assertAlmostEqual(totals[meeting.first] / totals[meeting.second], 1, places=9)

    def test_a_flow_without_bytes_has_none(self) -> None:
        comparison = compare(self.estate())
        with self.assertRaises(NoAnswer):
            break_even(comparison, "talk")
        with self.assertRaises(UnusableInput):
            break_even(comparison, "tlak")


SPARE = {"kind": "translation-gateway", "offer": "gate", "subnet": "edge"}
PORTS = {"assignment": "shared-per-destination", "per_address": 1000}
CHEAPER = {"kind": "translation-gateway", "ports": PORTS, "rates": {"hour": 0.05, "processed_per_gb": 0}}
GATES = {"offers": {"host": None, "wall": None, "more": CHEAPER}}


class WhatIsThere(InFolder):
    def totals(self, patch: dict[str, Any]) -> tuple[float, float]:
        """What the cheapest design that passes costs, and the choice; the programme's sum is its bill."""
        described = self.estate(patch, GATES)
        best = compare(described).cheapest
        assert best is not None
        choice = choose(described, Wanted(explain=False))
        self.assertAlmostEqual(choice.mix.month, float(choice.evaluation.bill.total), places=6)
        self.assertTrue(choice.is_proven)
        return float(best.evaluation.bill.total), choice.month

    def test_what_takes_the_place_of_an_exit_runs_as_long_as_it_did(self) -> None:
        """176 of 730 hours at 0.05, and an address for the month; all of it where one exit is there all month."""
        hours = {"exits": {"gate": {"running_hours": 176}}}
        idle = {"exits": {"other": SPARE}}
        # With one that is there all month, what is new is too; the gateway that stands still runs its own hours.
        for patch, months in ((hours, (8.8, 8.8)), (merged(hours, idle), (36.5, 17.6))):
            for found, month in zip(self.totals(patch), months, strict=True):
                self.assertAlmostEqual(found, month + 3.65, places=6)

    def test_held_addresses_are_taken_before_others_are_bought(self) -> None:
        """Two that are held are paid in any case; what takes a gateway's place takes its address, and buys none."""
        for held, number in (("203.0.113.0/31", 2), ("203.0.113.1/32", 1), ("203.0.113.8/32", 1)):
            with self.subTest(held=held):
                patch = {"public_addresses": {"held": {"address": held}}}
                for found in self.totals(patch):
                    self.assertAlmostEqual(found, 36.5 + number * 3.65, places=6)
