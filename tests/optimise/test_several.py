"""Several gateways of one offer at one place: against every mix of them, and where one alone does not do."""

import random
from collections.abc import Iterator
from fractions import Fraction
from itertools import product
from typing import Any

from fenrask.errors import NoAnswer
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.optimise import Wanted, choose
from tests.support import CATALOGUE, InFolder, many, merged

QUICK = Wanted(explain=False)
NONE_ELSE = {"wall": None, "host": None, "inner": None, "door-to-service": None}
HERE = {"network": "net", "zone": "a"}
TABLES = ("private", "private-2", "private-3")


def estate_of(loads: list[float], kib: list[float]) -> dict[str, Any]:
    """As many subnets as loads, each with a workload of its own, and a public subnet more than there are."""
    numbers = range(1, len(loads) + 1)
    tables = dict(zip(numbers, TABLES, strict=False))
    return {
        "subnets": {
            **{f"app-{n}": {**HERE, "prefix": f"10.0.{n}.0/24", "routes": tables[n]} for n in numbers},
            "app": None,
            "edge-2": {"network": "net", "zone": "a", "prefix": "10.0.200.0/28", "routes": "public"},
        },
        "route_tables": {table: {"0.0.0.0/0": "gate"} for table in tables.values()},
        "workloads": {"work": None, **{f"work-{n}": {"subnets": [f"app-{n}"], "hosts": 10} for n in numbers}},
        "flows": {
            "talk": None,
            **{
                f"talk-{n}": {
                    "from": f"work-{n}", "to": "partner", "per_host_per_s": load, "duration_s": 2,
                    "out_kib_per_connection": size, "in_kib_per_connection": 5,
                }
                for n, load, size in zip(numbers, loads, kib, strict=True)
            },
        },
        "exits": {"gate": {"addresses": 1}},
    }  # fmt: skip


def gate(ports: int, most: int, hour: float, per_gb: float) -> dict[str, Any]:
    return {
        **CATALOGUE["offers"]["gate"],
        "ports": {"assignment": "shared-per-destination", "per_address": ports},
        "limits": {"addresses": most},
        "rates": {"hour": hour, "processed_per_gb": per_gb},
    }


class Several(InFolder):
    def mixes(self, described: Described, offers: list[str], subnets: int) -> Iterator[dict[str, Any]]:
        """Every way to lead each subnet to one of as many gateways, each of any offer."""
        for leads in product(range(subnets), repeat=subnets):
            if any(lead > max((*leads[:place], -1)) + 1 for place, lead in enumerate(leads)):
                continue
            for chosen in product(offers, repeat=max(leads) + 1):
                exits: dict[str, Any] = {"gate": None}
                for number, offer in enumerate(chosen):
                    exits[f"new-{number}"] = {
                        "kind": "translation-gateway", "offer": offer, "subnet": f"place-{number}", "addresses": "auto"
                    }  # fmt: skip
                places = {
                    f"place-{number}": {
                        "network": "net", "zone": "a", "prefix": f"10.0.{210 + number}.0/28", "routes": "public"
                    }
                    for number in range(len(chosen))
                }  # fmt: skip
                tables = {table: {"0.0.0.0/0": f"new-{lead}"} for table, lead in zip(TABLES, leads, strict=False)}
                yield {"exits": exits, "subnets": places, "route_tables": tables}

    def test_no_mix_of_them_is_cheaper(self) -> None:
        """Every division of two or three subnets over gateways of any offers, each evaluated by the engine."""
        answered, shared = 0, 0
        for seed in range(many(5, 60)):
            dice = random.Random(seed)
            subnets = dice.choice([2, 2, 3])
            offers = {
                name: gate(
                    dice.choice([600, 900, 1500, 3000]), dice.choice([1, 2, 3]), dice.choice([0.1, 0.2, 0.4, 0.8]),
                    dice.choice([0, 0.005, 0.02, 0.05]),
                )
                for name in ("gate", "second")
            }  # fmt: skip
            loads = [dice.choice([0.2, 0.5, 1, 1.5, 2]) for _ in range(subnets)]
            changes = estate_of(loads, [dice.choice([1, 30, 120]) for _ in loads])
            described = self.estate(changes, {"offers": {**NONE_ELSE, **offers}})
            each = (evaluate(described.patched(patch, "mix")) for patch in self.mixes(described, [*offers], subnets))
            costs = [one.bill.total for one in [evaluate(described), *each] if one.meets_all]
            with self.subTest(seed=seed):
                try:
                    choice = choose(described, QUICK)
                except NoAnswer:
                    self.assertEqual(costs, [])
                    continue
                self.assertTrue(choice.evaluation.meets_all)
                self.assertLessEqual(choice.evaluation.bill.total, min(costs) + Fraction(1, 100))
                used = [one.offer_name for one in choice.evaluation.described.estate.exits.values() if one.offer_name]
                answered, shared = answered + 1, shared + (len(used) > len({*used}))
        self.assertGreater(answered, 3)
        self.assertGreater(shared, 0)

    def test_one_workload_is_divided_by_its_subnets(self) -> None:
        """One workload, one destination, three subnets: each gateway holds one of them; and with two at most, none."""
        spread = estate_of([1.0, 1.0, 1.0], [1, 1, 1])
        spread["workloads"] = {"work": {"subnets": ["app-1", "app-2", "app-3"], "hosts": 30}}
        spread["flows"] = {"talk": {"per_host_per_s": 1}}
        described = self.estate(spread, {"offers": {**NONE_ELSE, "gate": gate(800, 1, 0.1, 0)}})
        choice = choose(described, QUICK)
        self.assertTrue(choice.evaluation.meets_all)
        self.assertEqual(len(choice.evaluation.capacity.exits), 3)
        with self.assertRaises(NoAnswer):
            choose(described, Wanted(explain=False, max_gateways=2))

    def test_those_that_are_there_are_used_first(self) -> None:
        """The gateway that exists stays, and the second stands in the public subnet that has none."""
        changes = merged(estate_of([1.5, 1.5], [1, 1]), {"exits": {"gate": {"addresses": 2}}})
        described = self.estate(changes, {"offers": {**NONE_ELSE, "gate": gate(600, 2, 0.1, 0)}})
        told = self.json("choose", status=1)
        self.assertEqual({(one["change"], one["what"]) for one in told["changes"]}, {("add", "exit"), ("set", "route")})
        exits = choose(described, QUICK).evaluation.described.estate.exits
        self.assertEqual({one.in_subnets for one in exits.values() if one.offer_name}, {("edge",), ("edge-2",)})

    def test_it_costs_what_the_remedy_of_check_costs(self) -> None:
        """`check` divides an exit by boxes, `choose` by a programme: with one offer both find the same bill."""
        for loads in ([1.5, 1.5], [1.5, 1.2, 0.9]):
            offers = {**NONE_ELSE, "gate": gate(600, 2, 0.1, 0)}
            described = self.estate(estate_of(loads, [1] * len(loads)), {"offers": offers})
            self.program("check", "--save", "remedies", "--force")
            with self.subTest(loads=loads):
                self.assertEqual(self.program("check", "--patch", "remedies/all.json").returncode, 0)
                told = self.json("charges", "--patch", "remedies/all.json")["month_amount"]
                self.assertAlmostEqual(told, choose(described, QUICK).month, places=2)

    def test_firewalls_are_divided_too(self) -> None:
        """One holds what one subnet opens: two or three of them before one gateway, and the plan builds them."""
        wall = {"kind": "inspecting-firewall", "ports": None, "rates": {"hour": 0.3}, "limits": {"new_per_s": 20}}
        inspected = {"destinations": {"partner": {"needs": {"inspected": True}}}}
        for subnets in (2, 3):
            changes = merged(estate_of([1.5] * subnets, [1] * subnets), inspected)
            described = self.estate(changes, {"offers": {**NONE_ELSE, "gate": gate(3000, 3, 0.1, 0), "wall": wall}})
            with self.subTest(subnets=subnets):
                choice = choose(described, QUICK)
                self.assertTrue(choice.evaluation.meets_all and choice.is_proven)
                offers = [one.offer_name for one in choice.evaluation.described.estate.exits.values() if one.offer_name]
                self.assertEqual(sorted(offers), ["gate", *["wall"] * subnets])
                self.json("choose", "--save", "choice.json", "--force", status=1)
                for command in ("check", "stress"):
                    self.assertEqual(self.program(command, "--patch", "choice.json").returncode, 0, command)
                self.json("handover", "--patch", "choice.json", "--base", "estate.yaml")

    def test_more_nodes_of_one_exit(self) -> None:
        """As many as the rate of new connections asks for, by division; the least bill that the engine accepts."""
        host = {"kind": "translator-host", "ports": gate(5000, 3, 0, 0)["ports"], "limits": {"node": {"new_per_s": 12}}}
        for load, nodes in ((1.1, 1), (1.2, 1), (2.3, 2), (3.6, 3), (5.9, 5)):
            offers = {"gate": gate(5000, 3, 5, 0), "host": {**host, "rates": {"hour": 0.05}}}
            described = self.estate(estate_of([load], [1]), {"offers": {**NONE_ELSE, **offers}})
            bills = []
            for number in range(1, 7):
                placed = {"kind": "translator-host", "offer": "host", "subnet": "edge", "machines": number}
                patch = {"exits": {"gate": None, "new": placed}, "route_tables": {"private": {"0.0.0.0/0": "new"}}}
                one = evaluate(described.patched(patch, "machines"))
                bills += [one.bill.total] if one.meets_all else []
            with self.subTest(load=load):
                choice = choose(described, QUICK)
                self.assertTrue(choice.is_proven)
                self.assertEqual(choice.evaluation.bill.total, min(bills))
                [exit_] = [one for one in choice.evaluation.described.estate.exits.values() if one.offer_name]
                self.assertEqual((exit_.offer_name, exit_.units), ("host", nodes))
                told = [row["detail"] for row in self.json("choose", status=None)["changes"] if row["what"] == "exit"]
                self.assertEqual(any(f"{nodes} machines" in detail for detail in told), nodes > 1)
