"""Cases of stress, growth and sensitivity: outcomes worked out by hand on a small estate of two zones."""

from fractions import Fraction
from typing import Any

from fenrask.demo import VELLMOUTH
from fenrask.designs import beside, changes, compare
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Case, Described, read_estate
from fenrask.evaluation import evaluate
from fenrask.what_if import (
    Outcome,
    as_sized,
    case_patch,
    grow,
    pairs_of,
    scaled_flows,
    sensitivity,
    single_faults,
    stress,
    zone_losses,
)
from fenrask.what_if.alerts import alerts
from fenrask.what_if.growth import after, month
from tests.designs.test_designs import TWO_ZONES
from tests.support import CATALOGUE, InFolder
from tests.teletraffic.test_erlang import recursion

# A gateway in each zone; ten hosts, five in each, hold 310 connections at each gateway, of 1,000 ports.
PER_ZONE: dict[str, Any] = {
    "subnets": {
        "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"},
        "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
    },
    "route_tables": {"private-b": {"0.0.0.0/0": "gate-b"}},
    "exits": {"gate-b": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge-b", "addresses": "auto"}},
    "workloads": {"work": {"subnets": ["app", "app-b"]}},
}


class Faults(InFolder):
    def outcome(self, patch: dict[str, Any], case: dict[str, Any], catalogue: Any = None) -> Outcome:
        [found] = stress(self.estate(patch, catalogue), {"it": Case.model_validate(case)})
        return found

    def test_a_lost_zones_load_moves_to_the_survivors(self) -> None:
        for hosts, short in ((10, 0), (28, 2)):
            with self.subTest(hosts=hosts):
                busy = {**PER_ZONE, "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": hosts}}}
                found = self.outcome(busy, {"lose_zones": ["b"]})
                self.assertEqual((dict(found.cut_off), found.lost), ({}, ()))
                self.assertEqual([one.exit for one in found.overloaded], ["gate"] if short else [])
                if short:
                    # 28 hosts x 62 = 1,736 connections at one gateway of one address; two addresses do.
                    self.assertAlmostEqual(
                        found.overloaded[0].ports.concurrent if found.overloaded[0].ports else 0, 1736
                    )
                    [more] = found.helps
                    self.assertEqual((more.what, more.month), ("1 more address at gate", Fraction("3.65")))

    def test_hosts_at_stated_addresses_are_where_these_are(self) -> None:
        """Those of a lost zone are lost; hosts that are all in it are lost whole, whatever other subnets there are."""
        for stated, cut_off, lost in (
            (["10.0.1.0/28", "10.0.2.0/28"], {}, ()),
            (["10.0.1.0/28"], {}, ()),
            (["10.0.2.0/28"], {}, ("work",)),
        ):
            with self.subTest(stated):
                work = {"subnets": ["app", "app-b"], "hosts": 28, "hosts_in": stated}
                found = self.outcome({**PER_ZONE, "workloads": {"work": work}}, {"lose_zones": ["b"]})
                self.assertEqual((dict(found.cut_off), found.lost), (cut_off, lost))

    def test_addresses_do_not_grow_in_the_case(self) -> None:
        busy = {**PER_ZONE, "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": 28}}}
        found = self.outcome(busy, {"lose_zones": ["a"]})
        self.assertEqual([(one.exit, one.addresses) for one in found.overloaded], [("gate-b", 1)])

    def test_a_limit_that_is_exceeded_already_is_exceeded_more(self) -> None:
        """Each gateway's one address holds half of the partner's connections, and the survivor's all of them."""
        for limit, worse in ((400, 0), (15, 0), (5, 1)):
            strict = {**PER_ZONE, "destinations": {"partner": {"per_source": {"connections": limit}}}}
            found = self.outcome(strict, {"lose_zones": ["b"]})
            at = [*found.overloaded, *found.worse]
            self.assertEqual(([one.exit for one in at], len(found.worse)), ([] if limit == 400 else ["gate"], worse))
            # 10 hosts open one connection a second for 2 s.
            self.assertEqual([one.use for each in at for one in each.exceeded], [20.0] * len(at))

    def test_hosts_in_a_lost_zone_alone_are_lost_and_not_cut_off(self) -> None:
        found = self.outcome({}, {"lose_zones": ["a"]})
        self.assertEqual((found.lost, dict(found.cut_off)), (("work",), {}))

    def test_a_shared_gateway_cuts_off_the_other_zone(self) -> None:
        found = self.outcome(TWO_ZONES, {"lose_zones": ["a"]})
        self.assertEqual(set(found.cut_off), {"talk", "save"})
        self.assertIn("black hole", found.cut_off["talk"])
        # One gateway in each zone does not: the cheapest design in which nobody is cut off is named.
        self.assertTrue(any("gateway per zone" in one.what or "endpoints" in one.what for one in found.helps))

    def test_a_lost_exit_a_node_and_a_session(self) -> None:
        found = self.outcome(PER_ZONE, {"lose_exits": ["gate"]})
        self.assertEqual(set(found.cut_off), {"talk"})
        wall = {"exits": {"gate": {"kind": "inspecting-firewall", "offer": "wall", "nodes": 2}}}
        described = self.estate(wall)
        self.assertEqual(case_patch(described, Case(lose_nodes={"gate": 1})), {"exits": {"gate": {"nodes": 1}}})
        self.assertEqual(case_patch(described, Case(lose_nodes={"gate": 2})), {"exits": {"gate": None}})
        line: dict[str, Any] = {
            "destinations": {"office": {"prefixes": ["172.20.8.0/24"]}},
            "flows": {"ask": {"from": "work", "to": "office", "per_host_per_s": 1}},
            "exits": {
                "line": {
                    "kind": "circuit",
                    "network": "net",
                    "received": ["172.20.8.0/22"],
                    "advertised": ["10.0.0.0/16"],
                    "routers": {"one": {}, "two": {}},
                }
            },
        }
        self.assertTrue(self.outcome(line, {"sessions_down": ["line/one"]}).is_harmless)
        both = self.outcome(line, {"sessions_down": ["line/one", "line/two"]})
        # Without the line the default takes it, to a gateway that leads it to the internet.
        self.assertEqual(
            both.evaluation.paths.by_flow["ask"][0].trace.exits if both.evaluation else (), ("gate", "door")
        )

    def test_a_line_whose_name_has_a_slash_loses_its_session(self) -> None:
        line = {"kind": "circuit", "network": "net", "received": ["172.20.8.0/22"], "advertised": ["10.0.0.0/16"]}
        changes = {
            "destinations": {"office": {"prefixes": ["172.20.8.0/24"]}},
            "flows": {"ask": {"from": "work", "to": "office", "per_host_per_s": 1}},
        }
        for name, exit_, down in (
            ("172.20.8.0/22", line, ["172.20.8.0/22"]),
            ("a/b", line | {"routers": {"one": {}, "two": {}}}, ["a/b/one", "a/b/two"]),
        ):
            with self.subTest(name):
                lost = self.outcome(changes | {"exits": {name: exit_}}, {"sessions_down": down})
                self.assertIsNotNone(lost.evaluation)
                if lost.evaluation is not None:
                    self.assertEqual(lost.evaluation.paths.by_flow["ask"][0].trace.exits, ("gate", "door"))

    def test_a_slow_destination_holds_longer_whatever_the_law(self) -> None:
        for duration, long in (
            (2, 6),
            ({"mean": 2, "shape": "lognormal", "p95": 5}, {"mean": 6, "p95": 15}),
            ({"shape": "measured", "values": [1, 3]}, {"values": [3, 9]}),
            (
                {"shape": "mixture", "parts": {"most": {"share": 0.9, "mean": 2}, "some": {"share": 0.1, "mean": 40}}},
                {"parts": {"most": {"mean": 6}, "some": {"mean": 120}}},
            ),
        ):
            described = self.estate({"flows": {"talk": {"duration_s": duration}}})
            patch = case_patch(described, Case(slow={"partner": 3}))
            self.assertEqual(patch, {"flows": {"talk": {"duration_s": long}}})
        found = self.outcome({"flows": {"talk": {"duration_s": 50}}}, {"slow": {"partner": 2}})
        # 1,100 at once are too many already: it is not newly overloaded, but worse.
        self.assertEqual(([one.exit for one in found.worse], found.overloaded), (["gate"], ()))
        self.assertAlmostEqual(found.worse[0].ports.concurrent, 10 * (100 + 60))

    def test_a_storm_opens_all_anew_beside_the_ports_that_are_still_taken(self) -> None:
        long = {"flows": {"talk": {"duration_s": 50}}}
        limits = {"offers": {"gate": {"limits": {"new_per_s": 40}}}}
        for within, fast in ((5.0, True), (50.0, False)):
            found = self.outcome(long, {"reopen_within_s": within}, limits)
            # 10 a second x 50 s live: 500 more beside 1,100; and 500 / within a second beside 10.
            self.assertAlmostEqual(found.worse[0].ports.concurrent, 1600)
            self.assertEqual("gate" in found.too_fast, fast)

    def test_rates_up_is_every_load_up(self) -> None:
        described = self.estate(TWO_ZONES)
        up = evaluate(described.patched(case_patch(described, Case(load_up=0.5)), "up"))
        now = evaluate(described)
        for name in ("talk", "save"):
            volume = [one.bill.by_flow[name] for one in (now, up)]
            self.assertGreater(volume[1], volume[0])
        concurrent = [one.demand.load(one.demand.at_exit["gate"]).peak.concurrent for one in (now, up)]
        self.assertAlmostEqual(concurrent[1], 1.5 * concurrent[0])

    def test_pairs_are_both_at_once(self) -> None:
        faults = single_faults(self.estate(PER_ZONE))
        self.assertEqual(set(faults), {"zone a lost", "zone b lost", "gate lost", "gate-b lost"})
        pairs = pairs_of(faults)
        self.assertEqual(len(pairs), 6)
        self.assertEqual(pairs["zone a lost, gate-b lost"], Case(lose_zones=("a",), lose_exits=("gate-b",)))
        outcomes = {one.case: one for one in stress(self.estate(PER_ZONE), pairs)}
        self.assertEqual(set(outcomes["zone a lost, gate-b lost"].cut_off), {"talk"})

    def test_a_case_names_what_is_there(self) -> None:
        for case in (
            {"lose_zones": ["q"]},
            {"lose_exits": ["gat"]},
            {"slow": {"nowhere": 2}},
            {"lose_nodes": {"x": 1}},
        ):
            with self.assertRaises(UnusableInput):
                self.estate({"stress": {"it": case}})


class Growing(InFolder):
    def test_the_month_in_which_ports_run_out(self) -> None:
        # 620 connections grow by 5 % a month, on 1,000 ports.
        full = next(n for n in range(99) if float(recursion(1000, 620 * 1.05**n)) > 1e-4)
        growth = grow(self.estate({}), 12, 0.05)
        [crossing] = growth.crossings
        self.assertEqual((crossing.about, crossing.limit, crossing.month), ("gate", "ports", full))
        self.assertEqual(crossing.act_by(2.5), full - 2.5)
        self.assertAlmostEqual(growth.months[9].used["gate"], 0.62 * 1.05**9, places=9)

    def test_a_flows_own_growth_and_a_budget(self) -> None:
        flows = {"talk": {"growth_per_month": 0.1, "out_kib_per_connection": 100}}
        described = self.estate({"flows": flows})
        bills = [
            evaluate(described.patched(scaled_flows(described, {"talk": 1.1**n}), "x")).bill.total for n in range(4)
        ]
        growth = grow(described, 3, budget=bills[2])
        self.assertEqual([one.amount for one in growth.months], bills)
        self.assertEqual([(one.limit, one.month) for one in growth.crossings], [("budget", 3)])

    def test_hosts_take_what_each_host_has(self) -> None:
        """Blocks of ports, always-open connections, volumes and subnets' addresses, each counted by hand."""
        block = {"assignment": "host-block", "per_address": 1000, "block": 100}
        growth = {"hosts_per_month": 1.5, "steps": {"3": 20}, "until": 4}
        numbers = [10, 12, 13, 34, 36, 36]
        described = self.estate(
            {
                "exits": {"gate": {"addresses": 2}},
                "workloads": {"work": {"growth": growth}},
                "flows": {"talk": {"out_gib_per_month": 100}},
            },
            {"offers": {"gate": {"ports": block}}},
        )
        full = next(n for n, hosts in enumerate(numbers) if hosts > 20)
        found = grow(described, 5)
        self.assertEqual(
            [(one.about, one.limit, one.month) for one in found.crossings if one.limit == "ports"],
            [("gate", "ports", full)],
        )
        plain = [
            evaluate(
                described.patched(
                    {"workloads": {"work": {"hosts": hosts}}, "flows": {"talk": {"out_gib_per_month": 10 * hosts}}}, "x"
                )
            ).bill.total
            for hosts in numbers
        ]
        self.assertEqual([one.amount for one in found.months], plain)

    def test_alerts_count_hosts_as_months_do(self) -> None:
        """A year of hosts that double the load is a year of load that doubles."""
        grows = {"workloads": {"work": {"growth": {"hosts_per_month": 10 / 12}}}}
        [by_hosts], [by_load] = (
            [*alerts(evaluate(self.estate(changes)))]
            for changes in (grows, {"flows": {"talk": {"growth_per_month": 2 ** (1 / 12) - 1}}})
        )
        self.assertAlmostEqual(by_hosts.growth_per_month, by_load.growth_per_month, places=12)
        self.assertEqual(by_hosts.months_left, by_load.months_left)

    def test_a_subnet_runs_out_of_addresses(self) -> None:
        """Two workloads in a /28 of 14 usable addresses; one of them grows, and goes away later."""
        edge = {"edge-b": {"network": "net", "zone": "a", "prefix": "10.0.3.0/28", "routes": "private"}}
        grows = {"subnets": ["edge-b"], "hosts": 8, "growth": {"hosts_per_month": 2, "from": 2, "steps": {"6": -20}}}
        others = {"subnets": ["edge-b"], "hosts": 3}
        described = self.estate({"subnets": edge, "workloads": {"grows": grows, "others": others}})
        found = [one for one in grow(described, 7).crossings if one.about == "edge-b"]
        self.assertEqual(
            [(one.limit, one.month, one.detail) for one in found], [("host addresses", 3, "15 hosts of 14")]
        )
        self.assertEqual(month(described, 6, 0.0, None)[1], ())
        inside = described.patched({"workloads": {"grows": {"hosts_in": ["10.0.3.8/30"]}, "others": None}}, "fewer")
        [found, *_] = [one for one in grow(inside, 2).crossings if one.about == "grows"]
        self.assertEqual((found.month, found.detail), (0, "8 hosts of 4 in hosts_in"))

    def test_load_grows_by_the_month_by_a_table_and_with_the_season(self) -> None:
        """5 % from month 2 to month 4, half as much again from month 3 on, and a summer of twice the load."""
        season = [1, 1, 1, 1, 1, 2, 2, 1, 1, 1, 1, 1]
        by_flow = {"load_per_month": 0.05, "from": 2, "until": 4}
        by_workload = {"load": {"3": 1.5}, "season": season, "hosts_per_month": 1}
        described = self.estate(
            {
                "flows": {"talk": {"growth_per_month": 0.1, "growth": by_flow}},
                "workloads": {"work": {"growth": by_workload}},
            }
        )

        def peak_of(one: Described) -> float:
            demand = evaluate(one).demand
            return demand.load(demand.at_exit["gate"]).peak.concurrent

        for number in range(14):
            steady = 1.1**number * 1.05 ** min(3, max(0, number - 1))
            times = steady * (1.5 if number >= 3 else 1) * season[number % 12] * (10 + number) / 10
            self.assertAlmostEqual(peak_of(after(described, number)) / peak_of(described), times, places=9)

    def test_months_that_are_none(self) -> None:
        for growth in (
            {"season": [1, 2]},
            {"season": [0, *[1] * 11]},
            {"load": {"x": 1}},
            {"steps": {"0": 3}},
            {"steps": {"soon": 3}},
            {"from": 4, "until": 3},
            {"hosts_per_month": "2%"},
        ):
            with self.subTest(growth), self.assertRaises(UnusableInput):
                self.estate({"workloads": {"work": {"growth": growth}}})


class Sensitive(InFolder):
    def test_a_tenth_more_of_a_rate_is_a_tenth_more_of_its_lines(self) -> None:
        described = self.estate({"flows": {"talk": {"out_kib_per_connection": 100}}})
        bill = evaluate(described).bill
        effects = {one.about: one for one in sensitivity(described)}
        for about, item in (
            ("hourly rate of gate", "hours"),
            ("volume rate of gate", "processed"),
            ("rate of an address", "addresses"),
            ("rate of internet out", "internet out"),
        ):
            lines = sum(float(line.amount) for line in bill.lines if line.item == item)
            self.assertAlmostEqual(float(effects[about].month_change), lines / 10, places=9)
        self.assertAlmostEqual(effects["load of talk"].headroom_change, -0.062, places=9)
        self.assertAlmostEqual(effects["mapping timeouts of gate"].headroom_change, -0.06, places=9)
        self.assertAlmostEqual(effects["duration toward partner"].headroom_change, -0.002, places=9)


class Reviewed(InFolder):
    def test_changes_flow_by_flow(self) -> None:
        described = self.estate(TWO_ZONES)
        now = evaluate(described)
        same = changes(now, now)
        self.assertFalse(any(one.is_change for one in same))
        after = evaluate(described.patched({"flows": {"save": None}, "exits": {"gate": {"addresses": 2}}}, "x"))
        found = {one.flow: one for one in changes(now, after)}
        self.assertEqual((found["save"].paths[1], found["save"].amounts[1]), (None, None))
        self.assertEqual(found["talk"].sources, ("203.0.113.1", "addresses of gate"))
        total = sum((one.difference for one in found.values()), Fraction(0))
        self.assertEqual(total, after.bill.total - now.bill.total)

    def test_another_providers_catalogue_beside_the_first(self) -> None:
        described = self.estate(TWO_ZONES)
        other = {**CATALOGUE, "catalogue": "Other"}
        cheap, dear = ({**CATALOGUE["offers"]["gate"], "rates": {"hour": hour}} for hour in (0.05, 0.5))
        other["offers"] = {"small": cheap, "large": dear, "wall": CATALOGUE["offers"]["wall"]}
        theirs = described.priced_by(self.write("other.yaml", other))
        self.assertEqual(theirs.estate.exits["gate"].offer_name, "small")
        both = beside(compare(described), {"Other": compare(theirs)})
        bills = {one.design.name: one.evaluation.bill.total for one in both.candidates}
        hours = 730 * (Fraction("0.1") - Fraction("0.05"))
        self.assertEqual(
            bills["current"] - bills["Other: current"],
            hours + evaluate(described).bill.by_volume - evaluate(theirs).bill.by_volume,
        )
        self.assertIn("Other: with routed endpoints", [one.design.name for one in both.not_counted])
        for broken, told in (
            ({"offers": {"wall": CATALOGUE["offers"]["wall"]}}, "none of that kind"),
            ("[1]", "a mapping"),
        ):
            content = broken if isinstance(broken, str) else {**other, **broken}
            with self.assertRaises(UnusableInput) as caught:
                described.priced_by(self.write("other.yaml", content))
            self.assertIn(told, str(caught.exception))
        with self.assertRaises(NoAnswer):
            foreign = described.priced_by(self.write("other.yaml", {**other, "currency": "USD"}))
            beside(compare(described), {"Other": compare(foreign)})

    def test_nothing_is_weighed_unless_it_is_asked(self) -> None:
        comparison = compare(self.estate(TWO_ZONES))
        by_routes = comparison.scored({"routes": 1.0, "month": 0.001})
        for one, score in by_routes:
            self.assertAlmostEqual(score, one.routes_to_change + float(one.evaluation.bill.total) / 1000)
        kept = [(not one.evaluation.meets_all, score) for one, score in by_routes]
        self.assertEqual(kept, sorted(kept))

    def test_ranked_and_what_a_zones_loss_does(self) -> None:
        comparison = compare(self.estate(TWO_ZONES))
        kept = [(not one.evaluation.meets_all, one.evaluation.bill.total) for one in comparison.ranked]
        self.assertEqual(kept, sorted(kept))
        by_name = {one.design.name: one for one in comparison.candidates}
        worst = {
            name: max(zone_losses(one.evaluation), key=lambda each: each.severity) for name, one in by_name.items()
        }
        self.assertTrue(worst["gateway per network"].cut_off)
        self.assertFalse(worst["gateway per zone"].cut_off)
        self.assertEqual(by_name["current"].routes_to_change, 0)
        self.assertGreater(by_name["gateway per zone"].routes_to_change, 0)


class AsSized(InFolder):
    def test_the_short_way_says_what_an_evaluation_from_the_ground_up_says(self) -> None:
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        short = as_sized(evaluate(read_estate(self.folder / "estate.yaml")))
        whole = evaluate(short.described)
        self.assertTrue(any(one.stated for one in short.capacity.exits))
        for one, other in zip(short.capacity.exits, whole.capacity.exits, strict=True):
            self.assertEqual((one.exit, one.addresses, one.stated), (other.exit, other.addresses, other.stated))
            self.assertEqual((one.needed, one.blocking, one.verdict), (other.needed, other.blocking, other.verdict))
        self.assertEqual((short.bill.total, short.broken), (whole.bill.total, whole.broken))
