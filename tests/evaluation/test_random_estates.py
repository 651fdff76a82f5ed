"""What must hold of every estate: verdicts agree, remedies cure, nothing known is cheaper than the choice.

Sixty on a machine with four processors or more, nine on a smaller one, of the dearest a few; `make test-long` tries
many times as many.
"""

import copy
import json
import random
import re
import tempfile
from fractions import Fraction
from pathlib import Path
from typing import Any

import yaml
from hypothesis import HealthCheck, Phase, example, given, settings
from hypothesis import strategies as st

from fenrask.checks import check, without_remedies
from fenrask.checks.today import today
from fenrask.designs import build_steps, compare, effort
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Case, Described, read_estate
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import faults
from fenrask.evaluation.needs import Given, broken_needs
from fenrask.findings import Severity
from fenrask.optimise import Choice, Wanted, choose
from fenrask.what_if import all_cases, as_sized, stress
from fenrask.what_if.outcomes import outcome
from fenrask.what_if.second_methods import Audited
from fenrask.what_if.second_methods.bills import audited_bill
from fenrask.what_if.second_methods.loads import audited_loads
from fenrask.what_if.second_methods.ports import audited_ports
from tests.checks.test_rules import ARRIVAL
from tests.evaluation.estates import random_estate
from tests.support import LONG, InFolder, many

MANY = many(9, 60)
DICE = st.integers(0, 10**9)
EACH = settings(
    max_examples=MANY,
    deadline=None,
    suppress_health_check=[*HealthCheck],
    derandomize=LONG == 1,
    database=None,
    phases=[Phase.explicit, Phase.generate],
    report_multiple_bugs=True,
)
CENT = 0.005


def described_by(seed: int) -> Described:
    """The random estate of a seed, read from files as a user's is."""
    return read(*random_estate(random.Random(seed)))


def read(estate: dict[str, Any], catalogue: dict[str, Any]) -> Described:
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "catalogue.yaml").write_text(yaml.safe_dump(catalogue, sort_keys=False), "utf-8")
        file = Path(folder) / "estate.yaml"
        file.write_text(yaml.safe_dump(estate, sort_keys=False), "utf-8")
        return read_estate(file)


class RandomEstates(InFolder):
    @EACH
    @given(DICE)
    def test_second_methods_agree_on_any_load(self, seed: int) -> None:
        """The same load in two halves, in small steps of time, hop by hop; and what fits has ports to spare."""
        described, dice = described_by(seed), random.Random(seed)
        flows: dict[str, Any] = {}
        for name, flow in described.estate.flows.items():
            if flow.per_host_per_s is not None and dice.random() < 0.5:
                flows[name] = dice.choice(
                    [
                        {"batch": 4.0},
                        {"rate_cv": 0.3},
                        {"retries": 3},
                        {"every_s": 300.0, "spread_s": 10.0},
                        {"day_cv": 0.2},
                        {"burstiness": 3.0},
                    ]
                )
        evaluation = evaluate(described.patched({"flows": flows}, "uneven"))
        second = [*audited_loads(evaluation), *audited_bill(evaluation), *audited_ports(evaluation)]
        self.assertEqual([one for one in second if isinstance(one, Audited) and not one.agrees], [])

    @EACH
    @given(DICE)
    def test_one_need_has_one_verdict(self, seed: int) -> None:
        evaluation = evaluate(described_by(seed))
        broken = {one.flow for one in evaluation.broken}
        # Which flows need a look is a short way: each asked for itself says the same.
        plan, flows = evaluation.plan, evaluation.described.estate.flows
        each = (broken_needs(evaluation.paths, flow, Given(plan.entries, plan.in_use)) for flow in flows)
        on_paths = {one for one in evaluation.broken if one.need != "survives"}
        self.assertEqual(on_paths, {one for some in each for one in some})
        lost = {one.flow for one in evaluation.paths.paths if not one.trace.verdict.arrives}
        self.assertEqual(lost, {one.flow for one in evaluation.broken if one.need == "arrives"})
        found = without_remedies(evaluation)
        short = {one.place.path.split(".")[1] for one in found if one.rule in ("port-exhaustion", "limit-exceeded")}
        self.assertEqual(short, {one.exit for one in evaluation.short})
        flows = (one.place.path.split(".") for one in found if one.severity is Severity.ERROR)
        self.assertLessEqual({path[1] for path in flows if path[0] == "flows"}, broken)
        # And what is broken is an error of some rule: a command's status is that of `check`.
        state = today(evaluation)
        self.assertEqual(state.is_well, not any(one.severity is Severity.ERROR for one in found))
        self.assertLessEqual(bool(broken or short), not state.is_well)

    @EACH
    @given(DICE)
    def test_a_need_to_survive_is_what_stress_says_of_each_fault(self, seed: int) -> None:
        """Two ways to one verdict: the need by the engine's rows, and each case as `stress` tries it."""
        dice = random.Random(seed)
        kinds = dice.sample(["zone-loss", "exit-loss", "node-loss", "session-loss"], dice.randint(1, 3))
        estate, catalogue = random_estate(dice)
        for one in estate["workloads"].values():
            one["needs"] = {"survives": kinds}
        evaluation = evaluate(read(estate, catalogue))
        before, broken = as_sized(evaluation), {one.flow for one in evaluation.broken if one.need == "survives"}
        already = {(one.flow, one.need) for one in evaluation.broken}
        expected: set[str] = set()
        # A number that is stated is bought in single addresses, of which a list needs more entries than of blocks.
        aside = ("survives", "arrives", "availability", "max_source_addresses")
        for name, (kind, case) in faults(evaluation.described).items():
            if kind not in kinds:
                continue
            found = outcome(before, name, case)
            expected |= {*found.cut_off}
            if found.evaluation is None:
                continue
            full = {one.exit for one in found.evaluation.capacity.every if not one.fits}
            expected |= {
                path.flow
                for path in found.evaluation.paths.paths
                if path.trace.verdict.arrives and full & {*path.trace.exits}
            }
            expected |= {
                one.flow
                for one in found.evaluation.broken
                if one.need not in aside and (one.flow, one.need) not in already
            }
        self.assertEqual(broken, expected)
        # `capacity` says of exits what the need says of flows.
        sized = evaluation.capacity
        over = [one for one in sized.every if not one.carries_faults]
        self.assertEqual(bool(over), bool(evaluation.surviving.lacking(sized)))

    @settings(EACH, max_examples=many(3, 60))
    @example(888)  # What several exits need together is more than a partner's list takes.
    @given(DICE)
    def test_a_remedy_cures_and_breaks_nothing(self, seed: int) -> None:
        before = evaluate(described_by(seed))
        findings = check(before)
        errors = {(one.rule, one.place.path) for one in findings if one.severity is Severity.ERROR}
        arrived = {(one.flow, one.subnet) for one in before.paths.paths if one.trace.verdict.arrives}
        for one in findings:
            if one.fix is None:
                continue
            after = evaluate(before.described.patched(dict(one.fix), "remedy"))
            found = without_remedies(after)
            same = {(each.rule, each.place.path, each.cause) for each in found}
            self.assertNotIn((one.rule, one.place.path, one.cause), same, one.fix)
            worse = {
                (each.rule, each.place.path)
                for each in found
                if each.severity is Severity.ERROR and each.rule not in ARRIVAL
            } - errors
            # What arrives with the patch may be more than an exit carries: that is said beside it.
            _, _, told = one.remedy.partition("To mend next: ")
            worse = {each for each in worse if not {*each[1].split(".")} & {*re.findall(r"[\w-]+", told)}}
            self.assertEqual(worse, set(), (one.rule, one.fix))
            self.assertLessEqual(
                arrived, {(each.flow, each.subnet) for each in after.paths.paths if each.trace.verdict.arrives}
            )

    @settings(EACH, max_examples=many(3, 60))
    @given(DICE)
    @example(1534)
    def test_nothing_known_is_cheaper_than_the_choice_nor_does_an_added_offer_make_it_dearer(self, seed: int) -> None:
        """Half of the estates with needs of availability and faults."""
        dice = random.Random(seed)
        estate, catalogue = random_estate(dice)
        if dice.random() < 0.5:
            for offer in catalogue["offers"].values():
                offer["availability"] = dice.choice([0.999, 0.9995, 0.9999])
            for one in estate["workloads"].values():
                faulty = {"survives": dice.choice(["zone-loss", ["zone-loss", "node-loss"]])}
                one["needs"] = dice.choice([{}, faulty, {"availability": dice.choice([0.99, 0.9995])}])
        best, before = self.least_of(read(estate, catalogue))
        added = copy.deepcopy(dice.choice([one for one in catalogue["offers"].values() if one.get("ports")]))
        added["scope"] = dice.choice(["zone", "region"])
        added["rates"] = {"hour": dice.choice([0.01, 0.1, 3.0]), "processed_per_gb": 0.01}
        other, after = self.least_of(read(estate, {**catalogue, "offers": {**catalogue["offers"], "added": added}}))
        for one, more in ((best, other), (before, after)):
            if one is not None:
                self.assertLessEqual(1e99 if more is None else more, one + CENT)

    def least_of(self, described: Described) -> tuple[float | None, float | None]:
        """What the cheapest standard design and the choice cost, both looked at; None where none meets every need."""
        current, comparison = evaluate(described), compare(described)
        known = {one.design.name: one.evaluation for one in comparison.candidates if one.passes}
        best = comparison.cheapest
        if current.meets_all:
            known["current"] = current
        try:
            choice = choose(described, Wanted(explain=False), lambda: comparison)
        except NoAnswer:
            self.assertEqual([*known], [])
            return None, None
        self.assertTrue(choice.evaluation.meets_all, choice.evaluation.broken)
        cost = float(choice.evaluation.bill.total)
        self.assertEqual(self.made_again(described, choice), choice.evaluation.bill.total)
        for name, one in known.items():
            self.assertLessEqual(cost, float(one.bill.total) + CENT, name)
            # A bound above something that meets all is no bound.
            if choice.is_proven:
                self.assertLessEqual(choice.bound, float(one.bill.total) + CENT, name)
        if choice.is_proven:
            self.assertAlmostEqual(choice.mix.month, cost, delta=1e-6 * max(1.0, cost))
            self.no_other_exit_is_cheaper(choice.evaluation, cost)
        if choice.steady is not None and choice.current is not None:
            self.assertTrue(choice.steady.evaluation.meets_all)
            self.assertLess(effort(choice.current, choice.steady.evaluation, choice.steady.patch), choice.effort)
        return float(best.evaluation.bill.total) if best else None, cost

    def made_again(self, described: Described, choice: Choice) -> Fraction:
        """What the estate costs with the patch as it is written, which meets every need, is built, and has no error."""
        text = json.loads(json.dumps(choice.patch, default=str))
        again = evaluate(described.patched(text, "as written"))
        self.assertTrue(again.meets_all, again.broken)
        already = {(one.rule, one.place.path) for one in without_remedies(evaluate(described))}
        errors = [one for one in without_remedies(again) if one.severity is Severity.ERROR]
        self.assertLessEqual({(one.rule, one.place.path) for one in errors}, already)
        if choice.current is not None:
            self.assertEqual(bool(build_steps(choice.current, again)), bool(choice.patch))
        return again.bill.total

    def no_other_exit_is_cheaper(self, chosen: Evaluation, cost: float) -> None:
        """No estate that differs by a subnet's default to another exit of the answer costs less and meets all.

        But for exits of a peer: a new one that is used over a peering is none of the options.
        """
        estate = chosen.described.estate
        peers = {
            (table, other)
            for name, subnet in estate.subnets.items()
            if (table := estate.table_of(name))
            for _, other in estate.peers_of(subnet.network)
        }
        for table, routes in estate.route_tables.items():
            now = routes.get("0.0.0.0/0")
            for name, exit_ in estate.exits.items():
                over_peering = (table, estate.network_of(exit_)) in peers
                if now is None or name == now or not exit_.translates or over_peering:
                    continue
                try:
                    moved = evaluate(chosen.described.patched({"route_tables": {table: {"0.0.0.0/0": name}}}, "moved"))
                except UnusableInput:
                    continue
                if moved.meets_all:
                    self.assertGreaterEqual(float(moved.bill.total) + CENT, cost, (table, name))

    @settings(EACH, max_examples=many(3, 15))
    @given(DICE)
    def test_a_case_in_which_nothing_happens_is_the_estate_as_it_is(self, seed: int) -> None:
        described = described_by(seed)
        [nothing] = stress(described, {"nothing": Case()})
        self.assertTrue(nothing.is_harmless)
        self.assertEqual(nothing.blocking, 0.0)
        # Every case is looked at without an error, and names no flow that is not there.
        for one in stress(described, dict([*all_cases(described).items()][:4])):
            self.assertLessEqual({*one.cut_off, *one.lost_flows}, {*described.estate.flows})
