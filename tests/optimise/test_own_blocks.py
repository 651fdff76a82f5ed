"""Hosts with blocks of their own that grow: the choice beside all mixes, each evaluated by the engine."""

import random
from itertools import product
from typing import Any

from fenrask.errors import NoAnswer
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.optimise import Wanted, choose
from fenrask.optimise.assembly import assembled
from fenrask.optimise.judging import Judge
from fenrask.optimise.objections import chosen_in
from fenrask.optimise.options import units_of
from fenrask.optimise.trials import Grounds
from tests.support import InFolder, merged

QUICK = Wanted(explain=False)
TO = ("one", "two", "three", "four")
PREFIXES = {name: f"198.51.100.{16 * place}/28" for place, name in enumerate(TO)}
GROWING = {"assignment": "growing-block", "per_address": 1024, "block": 32, "max_block": 512}
ALONE = {"offers": {"other": None}}
SHARED = {"assignment": "shared-once", "per_address": 500}


def offers(dice: random.Random) -> dict[str, Any]:
    return {
        "gate": {"ports": GROWING, "limits": {"addresses": dice.choice([3, 8])}, "rates": {"hour": 0.01}},
        "host": None,
        "wall": None,
        "door-to-service": None,
        "inner": None,
        "other": {
            "kind": "translation-gateway",
            "ports": SHARED,
            "limits": {"addresses": 12},
            "rates": {"hour": dice.choice([0.05, 0.5])},
        },
    }


def estate(dice: random.Random) -> dict[str, Any]:
    flows = {}
    for name in TO:
        load = {"per_host_per_s": dice.choice([0.5, 2, 6]), "duration_s": dice.choice([5, 15])}
        kind = dice.choice([load, load, {"persistent_per_host": 20}, {**load, "max_per_host": 24}])
        flows[f"to-{name}"] = {"from": dice.choice(["work", "more"]), "to": name, **kind}
    return {
        "destinations": {"partner": None, "store": None}
        | {name: {"prefixes": [prefix], "port": 443} for name, prefix in PREFIXES.items()},
        "workloads": {
            "work": {"subnets": ["app"], "hosts": dice.choice([4, 9])},
            "more": {"subnets": ["app"], "hosts": 3},
        },
        "flows": {"talk": None, **flows},
        "exits": {
            "gate": {"addresses": "auto"},
            "other": {"kind": "translation-gateway", "offer": "other", "subnet": "edge", "addresses": "auto"},
        },
    }


class GrowingBlocks(InFolder):
    def described(self, seed: int, changes: Any = None) -> Described:
        dice = random.Random(seed)
        catalogue = {"behaviour": {"gateways_per_subnet": 2}, "offers": offers(dice), "addresses": {"hour": 0.02}}
        return self.estate(merged(estate(dice), changes or {}), merged(catalogue, {} if changes is None else ALONE))

    def cheapest(self, described: Described) -> float | None:
        """Of all mixes of the two gates: by one, by both, or by the other one alone."""
        found = []
        for ways in product(("gate", "other"), repeat=len(TO)):
            routes = {PREFIXES[name]: way for name, way in zip(TO, ways, strict=True)}
            unused = {name: None for name in ("gate", "other") if name not in ways}
            patch = {"route_tables": {"private": {"0.0.0.0/0": None, **routes}}, "exits": unused}
            tried = evaluate(described.patched(patch, "mix"))
            if tried.meets_all:
                found.append(float(tried.bill.total))
        return min(found, default=None)

    def test_the_choice_is_the_cheapest_of_all_mixes(self) -> None:
        answered = 0
        for seed in range(5):
            described = self.described(seed)
            cheapest = self.cheapest(described)
            with self.subTest(seed=seed):
                try:
                    choice = choose(described, QUICK)
                except NoAnswer as none:
                    self.assertIsNone(cheapest, none)
                    continue
                self.assertTrue(choice.is_proven)
                self.assertIsNotNone(cheapest)
                self.assertLessEqual(float(choice.evaluation.bill.total), (cheapest or 0.0) + 0.005)
                answered += 1
        self.assertGreater(answered, 2)

    def test_the_programme_knows_how_far_blocks_grow(self) -> None:
        # Nothing but ports that come and go: then its rows say what the engine does, before the engine is asked.
        load = {
            "from": "work",
            "per_host_per_s": 0.9,
            "duration_s": 10,
            "persistent_per_host": None,
            "max_per_host": None,
        }
        patch = {
            "exits": {"other": None},
            "flows": {f"to-{name}": load for name in TO},
            "workloads": {"work": {"hosts": 4}},
        }
        described = self.described(0, patch)
        now = evaluate(described)
        judge = Judge(now)
        units = judge.judged(units_of(now, QUICK))
        model = assembled(Grounds(now, judge.tried, now), units, QUICK)
        solved = model.program.solve()
        assert solved is not None
        [bought] = {site.existing: one.number for site, one in chosen_in(model, solved).bought.items()}.values()
        [needed] = [one.needed for one in now.capacity.exits]
        # Four hosts that hold 4 x 0.9 x (10 + 60) = 252 ports each: blocks of 512, two on an address.
        self.assertEqual((bought, needed), (2, 2))

    def test_where_no_mix_carries_the_load_the_flows_are_named_without_which_one_would(self) -> None:
        load = {
            "from": "more",
            "per_host_per_s": 5,
            "duration_s": 10,
            "persistent_per_host": None,
            "max_per_host": None,
        }
        large = {**load, "from": "work"}
        patch = {
            "exits": {"other": None},
            # Nine hosts of 350 ports each, in blocks of 512: more than three addresses have; three hosts' are fewer.
            "flows": {"to-one": large, "to-two": load, "to-three": None, "to-four": None},
            "workloads": {"work": {"hosts": 9}},
        }
        described = self.described(1, patch)
        with self.assertRaises(NoAnswer) as told:
            choose(described, QUICK)
        self.assertEqual(told.exception.cause, "no mix of the offers carries the load; without to-one one may")
