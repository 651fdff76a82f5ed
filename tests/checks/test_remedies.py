"""Every patch that `check` tells, applied: by itself, and in the order in which they are told.

On estates with several faults each. What is left is found by `check` and by the engine's verdicts on flows and exits.
"""

import random
from typing import Any

from fenrask.checks import RULES, check, without_remedies
from fenrask.checks.trying import cures
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import evaluate, harm
from fenrask.findings import Finding, Severity
from tests.checks.test_rules import CASES, WALLED
from tests.support import ESTATE, InFolder, merged

INSTANCES = 40


def _told(findings: list[Finding]) -> list[Finding]:
    return [one for one in findings if one.fix is not None]


def _what(finding: Finding) -> tuple[str, str, str]:
    return (finding.rule, finding.place.path, finding.cause)


def _errors(findings: list[Finding]) -> set[tuple[str, str]]:
    """The errors that are no verdicts of the engine: those are looked at by themselves."""
    rules = {one.name for one in RULES if not one.is_verdict}
    return {(one.rule, one.place.path) for one in findings if one.severity is Severity.ERROR and one.rule in rules}


class AllOfThem(InFolder):
    def holds(self, described: Described) -> int:
        """The properties on one estate; how many patches there were."""
        before = evaluate(described)
        findings = check(before)
        told, errors = _told(findings), _errors(findings)
        # What is found is the same whether remedies are looked for or not; none names one that is not there.
        self.assertEqual({_what(one) for one in findings}, {_what(one) for one in without_remedies(before)})
        for one in findings:
            if "The remedy of " in one.remedy:
                rule = one.remedy.split("The remedy of ")[1].split(" at ")[0]
                self.assertIn(rule, {each.rule for each in told})
        lost, broken = before.paths.lost_shares, {(one.flow, one.need) for one in before.broken}
        short, state = {one.name for one in before.short}, described
        broken |= {(flow, need) for flow, _ in lost for need in ("survives", "availability")}
        for one in told:
            state = state.patched(dict(one.fix or {}), "in order")
            for cured, patched in (([one], described.patched(dict(one.fix or {}), "alone")), (told, state)):
                if cured is told and one is not told[-1]:
                    continue
                after = evaluate(patched)
                left = without_remedies(after)
                self.assertTrue(cures(findings, left, cured), one)
                self.assertLessEqual(_errors(left), errors, one)
                for key, share in after.paths.lost_shares.items():
                    self.assertLessEqual(share, lost.get(key, 0), (key, one))
                gone = {flow for flow, _ in lost}
                new = {(each.flow, each.need) for each in after.broken if each.flow not in gone}
                self.assertLessEqual(new, broken, one)
                if all(share <= after.paths.lost_shares.get(key, 0) for key, share in lost.items()):
                    self.assertLessEqual({each.name for each in after.short}, short, one)
        return len(told)

    def test_estates_with_several_faults(self) -> None:
        dice, patches = random.Random(5), 0
        for number in range(INSTANCES):
            names = dice.sample(sorted(CASES), dice.choice([1, 2, 3, 4]))
            patch: dict[str, Any] = {}
            for name in names:
                patch = merged(patch, CASES[name][0])
            try:
                described = self.estate(
                    {key: value for key, value in patch.items() if key != "catalogue"}, patch.get("catalogue")
                )
            except UnusableInput:
                continue
            with self.subTest(number=number, names=names):
                patches += self.holds(described)
        self.assertGreater(patches, INSTANCES // 2)

    def test_one_list_that_three_findings_shorten(self) -> None:
        """Three prefixes that nobody needs: each remedy alone leaves out one, and together none comes back."""
        line = {"kind": "circuit", "network": "net", "received": ["172.20.0.0/16"]}
        advertised = ["10.0.1.0/24", "10.0.64.0/18", "10.0.128.0/18", "10.0.192.0/18"]
        described = self.estate(
            {
                "exits": {"line": {**line, "advertised": advertised}},
                "destinations": {"pilots": {"prefixes": ["172.20.0.0/16"]}},
                "flows": {"pilot": {"from": "work", "to": "pilots", "per_host_per_s": 1}},
            }
        )
        findings = [one for one in check(evaluate(described)) if one.rule == "advertised-too-much"]
        self.assertEqual(len(findings), 3)
        for one in _told(findings):
            described = described.patched(dict(one.fix or {}), "in order")
        self.assertEqual([str(one) for one in described.estate.exits["line"].advertised], ["10.0.1.0/24"])  # type: ignore[attr-defined]
        self.holds(described)

    def test_single_addresses_for_a_list_that_takes_a_block(self) -> None:
        """Sixteen single addresses are 16 entries; as a /28 they are one (RFC 4632)."""
        for blocks, words in (([28, 30], "in blocks"), ([], "Route it through")):
            described = self.estate(
                {
                    "exits": {"gate": {"addresses": 16}},
                    "destinations": {"partner": {"needs": {"max_source_addresses": 5}}},
                },
                {"addresses": {"blocks": blocks}},
            )
            with self.subTest(blocks=blocks):
                [found] = [one for one in check(evaluate(described)) if one.rule == "need-not-met"]
                self.assertIn(words, found.remedy)
                self.assertEqual(
                    found.fix, {"exits": {"gate": {"addresses": "auto", "at_least": 16}}} if blocks else None
                )
                self.holds(described)

    def test_one_gateway_divided(self) -> None:
        """Three subnets with 620 connections each, by Erlang 700 ports; one address of 1,000 a gateway: three."""
        subnets = {f"app-{n}": {"network": "net", "zone": "a", "prefix": f"10.0.{n}.0/24", "routes": "private"}
                   for n in (2, 3)}  # fmt: skip
        patch = {"subnets": subnets, "workloads": {"work": {"subnets": ["app", *subnets], "hosts": 30}}}
        described = self.estate(
            {**patch, "exits": {"gate": {"addresses": 1}}}, {"offers": {"gate": {"limits": {"addresses": 1}}}}
        )
        [found] = check(evaluate(described))
        self.assertEqual(
            (found.rule, found.remedy.split(".")[0]), ("port-exhaustion", "Divide its subnets over 3 gateways")
        )
        told = evaluate(described.patched(dict(found.fix or {}), "divided"))
        self.assertTrue(told.meets_all)
        self.assertEqual([one.exit for one in told.capacity.exits], ["gate", "gate-2", "gate-3"])
        self.holds(described)
        said = self.program("capacity", "estate.yaml").stdout
        self.assertIn(
            "gate: divide its subnets over 3 gateways; 2 do not suffice (tried: `fenrask check` has the", said
        )
        # Behind a firewall of their own, all three come from one place.
        back = {"public": {"10.0.2.0/24": "wall", "10.0.3.0/24": "wall"}}
        walled = merged(WALLED, {**patch, "route_tables": back})
        described = self.estate(walled, {"offers": {"gate": {"limits": {"addresses": 1}}}})
        [found] = [one for one in check(evaluate(described)) if one.rule == "port-exhaustion"]
        self.assertIsNone(found.fix)
        self.assertIn("other tables alone do not do", self.program("capacity", "estate.yaml").stdout)

    def test_a_flow_that_is_gained_excuses_no_exit_that_it_does_not_pass(self) -> None:
        """Too few ports at the gateway that `ask` gets are another finding; fewer at that of `talk` are harm."""
        lost = {
            "subnets": {"more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "other"}},
            "route_tables": {"other": {}},
            "exits": {"gate-2": {**ESTATE["exits"]["gate"], "addresses": ["203.0.113.2"]}},
            "workloads": {"ours": {"subnets": ["more"], "hosts": 30}},
            "flows": {"ask": {"from": "ours", "to": "partner", "per_host_per_s": 1, "duration_s": 2}},
        }
        before = evaluate(self.estate(lost))
        led = {"route_tables": {"other": {"0.0.0.0/0": "gate-2"}}}
        self.assertEqual(harm(before, evaluate(before.described.patched(led, "led"))), "")
        worse = {**led, "workloads": {"work": {"hosts": 30}}}
        told = harm(before, evaluate(before.described.patched(worse, "worse")))
        self.assertEqual(told, "gate would not carry what comes there")
