"""The choice against every mix there is, each made, judged and priced by the same engine as any other estate."""

import random
from itertools import product
from typing import Any
from unittest import TestCase
from unittest.mock import patch

from fenrask.checks import check
from fenrask.designs import compare
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.optimise import Choice, Wanted, by_headroom, choose, frontier
from fenrask.optimise.conflicts import smallest
from fenrask.optimise.judging import Judge
from fenrask.optimise.options import units_of
from fenrask.optimise.patch import Chosen, patch_and_exits
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import Grounds
from fenrask.programming import Program
from fenrask.what_if import zone_losses
from tests.support import InFolder

TWO_ZONES: dict[str, Any] = {
    "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
    "workloads": {"work": {"subnets": ["app", "app-b"]}, "batch": {"subnets": ["app-b"], "hosts": 6}},
    "flows": {
        "talk": {"out_kib_per_connection": 300, "in_kib_per_connection": 100},
        "save": {"from": "batch", "to": "store", "per_host_per_s": 2, "duration_s": 5, "out_kib_per_connection": 500},
    },
}
QUICK = Wanted(explain=False)
WALL = {"wall": {"rates": {"hour": 0.4, "processed_per_gb": 0.001}}}


class AgainstEveryMix(InFolder):
    def cheapest(self, described: Described) -> float:
        """The least bill of all mixes that meet everything, by trying each."""
        now = evaluate(described)
        judge = Judge(now)
        units = judge.judged(units_of(now, Wanted()))
        model = Model(Grounds(now, judge.tried, now), units)
        best = float("inf")
        for options in product(*(unit.open_options for unit in units)):
            opened = {site for option in options for site in option.distinct}
            internet_exits = [site for site in opened if site.subnets]
            taken = dict(enumerate(options))
            # Hosts find an in-subnet endpoint by name: a mix that has one for some of a network is none.
            if any(
                site not in option.distinct
                for site in internet_exits
                for unit, option in zip(units, options, strict=True)
                if unit.network == site.network and unit.to == site.destination
            ):
                continue
            for listed in (True, False):
                held = {
                    site: next(
                        (one for one, _ in model.purchases_of[site] if one.listed == listed),
                        model.purchases_of[site][0][0],
                    )
                    for site in opened
                    if site.translates
                }
                patch, _ = patch_and_exits(described, Chosen(taken, units, held))
                evaluation = evaluate(described.patched(patch, "a mix"))
                if evaluation.meets_all and not check(evaluation, only=["subnet-on-two-gateways"]):
                    best = min(best, float(evaluation.bill.total))
        return best

    def check(self, described: Described) -> Choice:
        choice = choose(described, QUICK)
        self.assertTrue(choice.evaluation.meets_all, choice.evaluation.broken)
        self.assertLessEqual(choice.gap, 1e-6)
        # The programme's own sum is the bill that the engine makes of the mix.
        self.assertAlmostEqual(choice.mix.month / float(choice.evaluation.bill.total), 1, places=9)
        self.assertAlmostEqual(choice.mix.month / self.cheapest(described), 1, places=9)
        return choice

    def test_small_random_estates(self) -> None:
        dice = random.Random(7)
        for number in range(5):
            tiers = {"sum_over": "estate", "tiers": [{"up_to_gb": 4000, "rate": 0.05}, {"rate": 0.01}]}
            needs = [{}, {"survives": "zone-loss"}, {"fixed_source": True}, {"inspected": True}]
            patch = {
                **TWO_ZONES,
                "workloads": {
                    "work": {
                        **TWO_ZONES["workloads"]["work"],
                        "hosts": dice.choice([4, 12, 30]),
                        "needs": dice.choice(needs),
                    },
                    "batch": TWO_ZONES["workloads"]["batch"],
                },
                "destinations": {"partner": {"needs": dice.choice([{}, {"max_source_addresses": 2}])}},
            }
            offers: dict[str, Any] = {
                "gate": {
                    "rates": {
                        "hour": round(dice.uniform(0.02, 0.5), 3),
                        "processed_per_gb": dice.choice([0.02, tiers]),
                    },
                    "limits": {"addresses": 4},
                },
                "wall": {"rates": {"hour": round(dice.uniform(0.1, 1.0), 3), "processed_per_gb": 0.002}},
                "host": None,
                "inner": {"rates": {"hour": round(dice.uniform(0.001, 0.4), 3), "processed_per_gb": 0.01}},
                "door-to-service": None if dice.random() < 0.6 else {},
            }
            out = {"sum_over": "estate", "tiers": [{"up_to_gb": 100, "rate": 0}, {"rate": 0.08}]}
            transfer = {"internet_out_per_gb": dice.choice([0.05, out]), "service_out_per_gb": 0.01}
            with self.subTest(number=number):
                choice = self.check(self.estate(patch, {"offers": offers, "transfer": transfer}))
                # Asked of its own answer, it has nothing to change.
                self.assertEqual(choose(choice.evaluation.described, QUICK).patch, {})

    def test_least_sums_and_shares_off_are_in_the_programme(self) -> None:
        offers: dict[str, Any] = {
            "gate": {
                "rates": {"hour": 0.05, "processed_per_gb": 0.01, "month_minimum": 300},
                "limits": {"addresses": 3},
            },
            "wall": {"rates": {"hour": 0.3, "processed_per_gb": 0.012}, "limits": {"addresses": 3}},
            "host": None,
            "door-to-service": None,
        }
        off = {"long": {"share": 0.3, "items": ["hours", "processed"], "offers": ["wall"]}, "all": {"share": 0.1}}
        choice = self.check(self.estate(TWO_ZONES, {"offers": offers, "commitments": off}))
        self.assertEqual(choice.not_counted, ())
        by_sum = {"offers": offers, "commitments": {"sum": {"month_off": 20}}}
        self.assertEqual(self.check(self.estate(TWO_ZONES, by_sum)).not_counted, ())
        wide = {"sum_over": "estate", "tiers": [{"up_to_gb": 9000, "rate": 0.01}, {"rate": 0.002}]}
        offers["gate"]["rates"]["processed_per_gb"] = wide
        found = choose(self.estate(TWO_ZONES, {"offers": offers})).not_counted
        self.assertEqual(found, ("the month's minimum of gate",))

    def test_regions_running_hours_and_ways_between_networks_are_in_the_programme(self) -> None:
        far = {
            **TWO_ZONES,
            "networks": {"net": {"region": "north"}, "isle": {"region": "south", "prefixes": ["10.1.0.0/16"]}},
            "subnets": {
                **TWO_ZONES["subnets"],
                "remote": {"network": "isle", "zone": "c", "prefix": "10.1.1.0/24", "routes": "isle"},
                "vault": {"network": "net", "zone": "a", "prefix": "10.0.3.0/24", "routes": "back"},
            },
            "route_tables": {"isle": {"10.0.0.0/16": "joined"}, "back": {"10.1.0.0/16": "joined"}},
            "exits": {"joined": {"kind": "peering", "networks": ["net", "isle"]}, "gate": {"running_hours": 100.5}},
            "workloads": {**TWO_ZONES["workloads"], "probes": {"subnets": ["remote"], "hosts": 3}},
            "destinations": {"ledger": {"prefixes": ["10.0.3.0/25"], "port": 5432}},
            "flows": {
                **TWO_ZONES["flows"],
                "post": {"from": "probes", "to": "ledger", "per_host_per_s": 1, "out_kib_per_connection": 90},
                "call": {"from": "probes", "to": "partner", "per_host_per_s": 1, "out_kib_per_connection": 90},
            },
        }
        own = {"hour": 0.02, "blocks": [30]}
        transfer = {"cross_region_per_gb": 0.03, "cross_network_per_gb": 0.01}
        by_region = {"south": {"internet_out_per_gb": 0.2, "cross_region_per_gb": 0.3}}
        catalogue = {"transfer": transfer, "transfer_by_region": by_region, "addresses_by_region": {"south": own}}
        self.check(self.estate(far, catalogue | {"offers": {"host": None, "door-to-service": None}}))

    def test_needs_and_offers_only_move_it_the_way_they_must(self) -> None:
        plain = choose(self.estate(TWO_ZONES), QUICK).mix.month
        inspected = {**TWO_ZONES, "destinations": {"partner": {"needs": {"inspected": True}}}}
        self.assertGreaterEqual(choose(self.estate(inspected), QUICK).mix.month, plain - 1e-9)
        fewer = choose(self.estate(TWO_ZONES, {"offers": {"door-to-service": None}}), QUICK).mix.month
        self.assertGreaterEqual(fewer, plain - 1e-9)

    def test_never_dearer_than_a_standard_design_that_meets_everything(self) -> None:
        for shape in ({}, TWO_ZONES):
            described = self.estate(shape, {"offers": WALL})
            best = compare(described).cheapest
            assert best is not None
            self.assertLessEqual(choose(described, QUICK).mix.month, float(best.evaluation.bill.total) + 1e-6)

    def test_one_route_serves_all_that_a_subnet_sends_to_a_destination(self) -> None:
        # The larger workload needs inspection; the smaller, in one of its subnets, goes where that one's route leads.
        patch = {
            **TWO_ZONES,
            "workloads": {
                "work": {"subnets": ["app", "app-b"], "needs": {"inspected": True}},
                "batch": {"subnets": ["app-b"], "hosts": 6},
            },
            "flows": {
                "talk": TWO_ZONES["flows"]["talk"],
                "more": {"from": "batch", "to": "partner", "per_host_per_s": 1, "out_kib_per_connection": 10},
            },
        }
        choice = choose(self.estate(patch), QUICK)
        self.assertTrue(choice.evaluation.meets_all)
        first = {path.trace.exits[0] for path in choice.evaluation.paths.paths if path.subnet == "app-b"}
        self.assertEqual(len(first), 1)
        self.assertAlmostEqual(choice.mix.month / float(choice.evaluation.bill.total), 1, places=9)

    def test_why_the_others_lost(self) -> None:
        needs = {**TWO_ZONES, "destinations": {"store": {"needs": {"off_internet": True}}}}
        choice = choose(self.estate(needs))
        lost = {(one.unit.name, one.option.name): one for one in choice.lost}
        self.assertEqual(lost["save", "current path"].fails, ("off_internet",))
        inner = lost["save", "inner (in-subnet-endpoint)"]
        # The routed endpoint is free; the inner one stands in one zone, at 0.01 an hour.
        self.assertAlmostEqual(inner.more or 0, 7.3)
        for mix in (one.mix for one in choice.next_best):
            self.assertGreaterEqual(mix.month, choice.mix.month - 1e-9)
            self.assertNotEqual(mix.open_sites, choice.mix.open_sites)

    def test_what_is_asked_is_kept_to(self) -> None:
        busy = {**TWO_ZONES, "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": 60}, "batch": None}}
        busy["flows"] = {"talk": TWO_ZONES["flows"]["talk"]}
        described = self.estate(busy)
        free = choose(described, QUICK)
        mixes = frontier(described)
        self.assertEqual(mixes[0].month, free.mix.month)
        self.assertEqual([mix.addresses for mix in mixes], sorted({mix.addresses for mix in mixes}, reverse=True))
        self.assertEqual([mix.month for mix in mixes], sorted(mix.month for mix in mixes))
        few = choose(described, Wanted(max_addresses=mixes[-1].addresses, explain=False))
        self.assertLessEqual(few.mix.addresses, mixes[-1].addresses)
        kept = choose(described, Wanted(keep=("talk",), explain=False))
        self.assertEqual({path.trace.exits[0] for path in kept.evaluation.paths.paths}, {"gate"})
        with self.assertRaises(UnusableInput):
            choose(described, Wanted(keep=("tlak",)))

    def test_what_is_left_after_a_zones_loss_carries_all_with_the_headroom_asked_for(self) -> None:
        busy = {**TWO_ZONES, "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": 60}, "batch": None}}
        needs = {"max_source_addresses": 4}
        busy |= {"flows": {"talk": TWO_ZONES["flows"]["talk"]}, "destinations": {"partner": {"needs": needs}}}
        described = self.estate(busy, {"offers": {"host": None, "wall": None}})
        plain = choose(described, QUICK)
        self.assertTrue(all(one.overloaded for one in zone_losses(plain.evaluation)))
        for headroom in (0.0, 0.25):
            choice = choose(described, Wanted(zone_headroom=headroom, explain=False))
            self.assertTrue(choice.evaluation.meets_all, choice.evaluation.broken)
            self.assertGreater(choice.mix.month, plain.mix.month)
            self.assertAlmostEqual(choice.mix.month / float(choice.evaluation.bill.total), 1, places=9)
            for one in zone_losses(choice.evaluation):
                self.assertTrue(one.is_harmless)
                left = [each.ports for each in one.evaluation.capacity.exits if each.ports] if one.evaluation else []
                self.assertGreaterEqual(min(each.headroom for each in left), headroom - 1e-9)
        rows = by_headroom(described)
        self.assertEqual(rows[0][1].month, plain.mix.month)
        self.assertEqual([mix.month for _, mix in rows], sorted(mix.month for _, mix in rows))

    def test_where_time_is_over_before_a_mix_is_found_one_is_looked_for_all_the_same(self) -> None:
        described, decide = self.estate(TWO_ZONES, {"offers": WALL}), Program.decide
        optimum = choose(described, QUICK).month

        def late(self: Program, seconds: float | None = None, *others: Any, **more: Any) -> Any:
            return (None, False) if seconds is not None else decide(self, seconds, *others, **more)

        asked = Wanted(explain=False, seconds=0.0)
        with patch.object(Program, "decide", late):
            self.assertTrue(asked.begun().is_over)
            choice = choose(described, asked)
            self.assertTrue(choice.evaluation.meets_all)
            self.assertGreaterEqual(choice.month, optimum - 0.005)
            self.assertLessEqual(choice.bound, optimum + 0.005)
            self.assertTrue(frontier(described, asked))

    def test_what_contradicts_what(self) -> None:
        cases: tuple[tuple[dict[str, Any], Wanted, str], ...] = (
            ({}, Wanted(budget=1.0), "no mix costs 1.00 a month or less"),
            (
                {"destinations": {"partner": {"needs": {"max_source_addresses": 9}}}},
                Wanted(max_gateways=0),
                "at most 0 gateways",
            ),
            (
                {
                    "workloads": {**TWO_ZONES["workloads"], "work": {"subnets": ["app", "app-b"], "hosts": 9000}},
                    "destinations": {"partner": {"needs": {"max_source_addresses": 99}}},
                },
                Wanted(zone_headroom=0.98),
                "98% of ports free when a zone is lost",
            ),
            (
                {"flows": {"talk": TWO_ZONES["flows"]["talk"]}, "workloads": {"work": {"subnets": ["app", "app-b"]}}},
                Wanted(max_gateways=0),
                "no mix keeps to this: at most 0 gateways",
            ),
            (
                {"destinations": {"partner": {"needs": {"off_internet": True}}}},
                Wanted(),
                "talk from net: no offer meets off_internet\n",
            ),
            (
                {"destinations": {"store": {"needs": {"off_internet": True, "inspected": True}}}},
                Wanted(),
                "save from net: no offer meets inspected and off_internet together",
            ),
        )
        for needs, wanted, told in cases:
            with self.subTest(told=told), self.assertRaisesRegex(NoAnswer, told):
                choose(self.estate({**TWO_ZONES, **needs}), wanted)


class Conflicts(TestCase):
    def test_what_is_told_is_a_smallest_conflict_and_takes_few_questions(self) -> None:
        # Truth: some sets that do not hold, drawn at random; all that contains one does not hold either.
        dice = random.Random(4)
        for number in range(200):
            parts = [f"part {one}" for one in range(dice.randint(1, 40))]
            sizes = (dice.randint(1, min(4, len(parts))) for _ in range(dice.randint(1, 3)))
            conflicts = [frozenset(dice.sample(parts, size)) for size in sizes]
            asked = list[frozenset[str]]()

            def holds(some: list[str], conflicts: list[frozenset[str]] = conflicts, asked: Any = asked) -> bool:
                asked.append(frozenset(some))
                return not any(one <= asked[-1] for one in conflicts)

            found = smallest(holds, parts)
            with self.subTest(number=number):
                self.assertIn(frozenset(found), conflicts)
                self.assertFalse([one for one in conflicts if one < frozenset(found)])
                self.assertLessEqual(len(asked), 2 * len(found) * (1 + len(parts).bit_length()) + 1)
        self.assertEqual(smallest(lambda _: False, ["a", "b", "c"]), [])
