"""What a schedule says of exits, against every sequence of every mix that the engine accepts."""

import random
from collections.abc import Iterator
from fractions import Fraction
from itertools import combinations, product
from typing import Any

from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.what_if.growth import after
from fenrask.what_if.schedule import schedule
from tests.support import CATALOGUE, InFolder, many

MONTHS = 7
OFFERS = ("gate", "second", "third")
TABLES = ("private", "private-2")
NONE_ELSE = {"wall": None, "host": None, "inner": None, "door-to-service": None}


class EverySequence(InFolder):
    def growing(self, dice: random.Random, cost: dict[str, int]) -> Described:
        """Two subnets whose loads grow each at its own pace, behind a gateway that is soon too small for both."""
        offers = {
            name: {
                **CATALOGUE["offers"]["gate"],
                "ports": {
                    "assignment": "shared-per-destination",
                    "per_address": dice.choice([900, 1500, 3000, 9000]) if number else 600,
                },
                "limits": {"addresses": dice.choice([1, 2, 3]) if number else 2},
                "rates": {
                    "hour": dice.choice([0.1, 0.2, 0.3, 0.5, 0.8]) if number else 0.1,
                    "processed_per_gb": dice.choice([0, 0.005, 0.02, 0.05]),
                },
            }
            for number, name in enumerate(OFFERS)
        }

        def flow(paces: list[float]) -> dict[str, Any]:
            return {
                "per_host_per_s": 0.5, "duration_s": 2, "growth_per_month": dice.choice(paces),
                "out_kib_per_connection": dice.choice([1, 30, 120]), "in_kib_per_connection": 5,
            }  # fmt: skip

        here = {"network": "net", "zone": "a"}
        changes = {
            "subnets": {
                "app-2": {**here, "prefix": "10.0.2.0/24", "routes": "private-2"},
                "edge-2": {**here, "prefix": "10.0.8.0/28", "routes": "public"},
            },
            "route_tables": {"private-2": {"0.0.0.0/0": "gate"}},
            "workloads": {"work-2": {"subnets": ["app-2"], "hosts": 5}},
            "flows": {
                "talk": flow([0.1, 0.25, 0.4]),
                "talk-2": {"from": "work-2", "to": "partner", **flow([0, 0.1, 0.3])},
            },
            "exits": {"gate": {"addresses": 1}},
            "targets": {"change_cost": cost},
        }
        return self.estate(changes, {"offers": {**NONE_ELSE, **offers}})

    def mixes(self) -> Iterator[dict[str, Any]]:
        """Every way to lead both subnets to one gateway, or each to its own, beside today's or in its place."""

        def gateway(offer: str, subnet: str) -> dict[str, Any]:
            return {"kind": "translation-gateway", "offer": offer, "subnet": subnet, "addresses": "auto"}

        def led(*names: str) -> dict[str, Any]:
            return {table: {"0.0.0.0/0": name} for table, name in zip(TABLES, names, strict=True)}

        for one, other in product(OFFERS, OFFERS):
            exits = {"gate": None, "new": gateway(one, "edge"), "new-2": gateway(other, "edge-2")}
            yield {"exits": exits, "route_tables": led("new", "new-2")}
        for one in OFFERS:
            yield {"exits": {"gate": None, "new": gateway(one, "edge")}, "route_tables": led("new", "new")}
            beside = {"gate": {"addresses": "auto"}, "new-2": gateway(one, "edge-2")}
            yield {"exits": beside, "route_tables": led("gate", "new-2")}
            yield {"exits": beside, "route_tables": led("new-2", "gate")}

    def test_no_sequence_of_any_mixes_is_cheaper(self) -> None:
        """Up to two changes; fewer of them may cost two in a hundred more, and no more than that."""
        compared = 0
        for seed in range(many(2, 20)):
            dice = random.Random(seed)
            cost = dice.choice([{}, {"exit": dice.choice([20, 200]), "route": 5}])
            described = self.growing(dice, cost)
            found = schedule(described, MONTHS)
            if not found.changes:
                continue
            begin = found.changes[0].begin
            today = described.patched({"exits": {"gate": {"addresses": "auto"}}}, "sized")
            estates = [today, *(described.patched(patch, "mix") for patch in self.mixes())]
            then = [[evaluate(after(one, month)) for month in range(MONTHS)] for one in estates]
            best = min(self.costs(estates, then, begin, cost), default=None)
            with self.subTest(seed=seed):
                self.assertEqual(found.is_well, best is not None)
                if best is not None:
                    self.assertLessEqual(found.total, best * Fraction(102, 100))
                    compared += 1
        self.assertGreater(compared, 0)

    def costs(
        self, estates: list[Described], then: list[list[Evaluation]], begin: int, cost: dict[str, int]
    ) -> Iterator[Fraction]:
        """What each sequence that meets all costs, from today's exits on, which stay until `begin`."""
        bills = [[one.bill.total if one.meets_all else None for one in some] for some in then]
        before = sum((then[0][month].bill.total for month in range(begin)), Fraction(0))
        for number in (1, 2):
            for later in combinations(range(begin + 1, MONTHS), number - 1):
                for mixes in product(range(1, len(estates)), repeat=number):
                    spans = [*zip(mixes, (begin, *later), (*later, MONTHS), strict=True)]
                    each = [bills[mix][month] for mix, since, until in spans for month in range(since, until)]
                    if None not in each and (number == 1 or mixes[0] != mixes[1]):
                        pairs = zip((0, *mixes), mixes, strict=False)
                        once = sum(self.once(estates[one], estates[two], cost) for one, two in pairs)
                        yield before + sum((one for one in each if one is not None), Fraction(once))

    def once(self, before: Described, after: Described, cost: dict[str, int]) -> int:
        """Exits that come, go, or become ones of another offer, and routes that lead to another exit."""
        offers = [
            {name: one.offer_name for name, one in each.estate.exits.items() if one.offer_name}
            for each in (before, after)
        ]
        exits = {*offers[0].items()} ^ {*offers[1].items()}
        renewed = {name for name, _ in exits}
        led = [{table: one.data["route_tables"][table]["0.0.0.0/0"] for table in TABLES} for one in (before, after)]
        routes = sum(led[0][table] != led[1][table] or led[1][table] in renewed for table in TABLES)
        return len(exits) * cost.get("exit", 0) + routes * cost.get("route", 0)
