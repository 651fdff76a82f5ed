"""A patched estate whose evaluation keeps what the patch cannot touch, against one that is read from the ground up."""

import random
import tempfile
from pathlib import Path
from typing import Any

import yaml

from fenrask.errors import UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.evaluation import Evaluation, evaluate
from tests.evaluation.estates import random_estate
from tests.support import CATALOGUE, ESTATE, InFolder, many, merged

MANY = many(6)


def read(estate: dict[str, Any], catalogue: dict[str, Any]) -> Described:
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "catalogue.yaml").write_text(yaml.safe_dump(catalogue, sort_keys=False), "utf-8")
        path = Path(folder) / "estate.yaml"
        path.write_text(yaml.safe_dump(estate, sort_keys=False), "utf-8")
        return read_estate(path)


def patches(dice: random.Random, estate: dict[str, Any]) -> list[dict[str, Any]]:
    """One of each kind: a load, hosts, a target, a number of addresses, an exit that goes, routes."""
    flow, workload = dice.choice([*estate["flows"]]), dice.choice([*estate["workloads"]])
    gates = [name for name, one in estate["exits"].items() if "addresses" in one]
    tables = [name for name in estate["route_tables"] if name.startswith("private")]
    found: list[dict[str, Any]] = [
        {"flows": {flow: {"burstiness": 1.5}}},
        {"flows": {flow: {"duration_s": 11.0}}},
        {"workloads": {workload: {"hosts": 7}}},
        {"targets": {"blocking": 0.01}},
        {"stress": {"more": {"load_up": 0.1}}},
    ]
    if gates:
        found += [{"exits": {dice.choice(gates): {"addresses": dice.choice([1, 2, 3, "auto"])}}}]
        found += [{"exits": {dice.choice(gates): None}}]
        found += [{"route_tables": {dice.choice(tables): {"0.0.0.0/0": dice.choice(gates)}}}]
        found += [{"route_tables": {dice.choice(tables): {"198.51.100.0/29": dice.choice(gates)}}}]
    return found


def figures(evaluation: Evaluation) -> list[Any]:
    """All that is computed, to the last digit."""
    laid = evaluation.demand.laid
    return [
        [(one.flow, one.subnet, one.trace.verdict, one.trace.hops, one.share) for one in evaluation.paths.paths],
        [laid.rate_per_s.tolist(), laid.persistent.tolist(), laid.mean_concurrent.tolist()],
        [(one.exit, one.addresses, one.needed, one.blocking) for one in evaluation.capacity.exits],
        [
            (one.exit, [(each.limit, each.use, each.capacity) for each in one.limits])
            for one in evaluation.capacity.every
        ],
        evaluation.bill.total,
        evaluation.bill.by_use,
        evaluation.broken,
        evaluation.plan.partners,
        list(map(str, evaluation.demand.not_counted)),
    ]


def subnets_of(evaluation: Evaluation) -> list[tuple[str, str, str]]:
    """The subnet of each part of a load."""
    return [(part.flow, part.subnet, part.exit) for part in evaluation.demand.parts]


class Reuse(InFolder):
    def test_what_is_kept_is_what_is_computed_from_the_ground_up(self) -> None:
        kept = 0
        for seed in range(MANY):
            dice = random.Random(seed)
            estate, catalogue = random_estate(dice)
            base = evaluate(read(estate, catalogue))
            figures(base)
            for patch in patches(dice, estate):
                try:
                    after, afresh = base.described.patched(patch, "patch"), read(merged(estate, patch), catalogue)
                except UnusableInput:
                    continue
                with self.subTest(seed=seed, patch=patch):
                    reused = evaluate(after, like=base)
                    self.assertEqual(figures(reused), figures(evaluate(afresh)))
                    kept += reused.demand.laid.rate_per_s is base.demand.laid.rate_per_s
        # Some patches leave all loads as they are.
        self.assertGreater(kept, MANY)

    def test_parts_are_of_their_own_estates_subnets(self) -> None:
        # Without a subnet that stands before the others each of them has another number; the flows stay as they are.
        spare = {"network": "net", "prefix": "10.0.200.0/28"}
        base = evaluate(read({**ESTATE, "subnets": {"spare": spare, **ESTATE["subnets"]}}, CATALOGUE))
        before = subnets_of(base)
        after = evaluate(base.described.patched({"subnets": {"spare": None}}, "patch"), like=base)
        self.assertIs(after.described.traffic, base.described.traffic)
        self.assertEqual(subnets_of(after), before)
        self.assertEqual(subnets_of(after), subnets_of(evaluate(read(ESTATE, CATALOGUE))))
