"""What `--explain` says of an exit: the formula that its flows call for, and figures that the formula gives."""

from typing import Any

from fenrask.capacity import capacity, explain_capacity
from fenrask.demand import demand
from fenrask.derivation import Step
from fenrask.routing import flow_paths
from tests.support import InFolder
from tests.teletraffic.test_erlang import recursion

# Ten hosts, a connection a second each, of 2 s, then 60 s in the port: 620 concurrent connections, all day.
CONCURRENT = 620.0


class Explained(InFolder):
    def steps(self, flow: dict[str, Any], ports: dict[str, Any], addresses: Any = 1) -> dict[str, Step]:
        changes = {"flows": {"talk": flow}, "exits": {"gate": {"addresses": addresses}}}
        described = self.estate(changes, {"offers": {"gate": {"ports": ports}}})
        return {step.figure: step for step in explain_capacity(capacity(demand(flow_paths(described))))}

    def test_the_formulas_named_are_those_that_hold(self) -> None:
        by_host = {"address_choice": "by-host"}
        for flow, ports, words in (
            ({}, {}, ["Erlang B (Erlang 1917)"]),
            ({"burstiness": 3}, {}, ["Hayward"]),
            ({"max_per_host": 100}, {}, ["truncated Poisson"]),
            ({"retry_share": 0.5}, {}, ["load raised"]),
            ({}, {"search_tries": 2}, ["birth-death"]),
            ({}, by_host, ["Binomial"]),
            ({"retry_share": 0.5, "burstiness": 3}, {}, ["Hayward", "load raised"]),
            ({"max_per_host": 100}, {"search_tries": 2}, ["birth-death"]),
        ):
            with self.subTest(flow=flow, ports=ports):
                told = self.steps(flow, ports, 2 if ports == by_host else 1)["no free port"].source
                for word in ("Erlang B (", "Hayward", "truncated Poisson", "load raised", "birth-death", "Binomial"):
                    self.assertEqual(word in told, any(one.startswith(word) or word in one for one in words), told)

    def test_blocking_with_one_address_less_is_erlangs(self) -> None:
        step = self.steps({}, {"per_address": 250}, "auto")["addresses needed"]
        needed = next(n for n in range(1, 9) if float(recursion(250 * n, CONCURRENT)) <= 1e-4)
        before, there = (float(recursion(250 * n, CONCURRENT)) for n in (needed - 1, needed))
        self.assertEqual(step.value, str(needed))
        self.assertIn(f"blocking with {needed - 1}: {before:.3g}, {needed}: {there:.3g}; target 0.0001", step.working)
        alone = self.steps({}, {}, "auto")["addresses needed"]
        self.assertIn(f"blocking with 1: {float(recursion(1000, CONCURRENT)):.3g}; target", alone.working)
