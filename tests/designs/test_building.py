"""The steps of a change, replayed one by one: what they leave, what they break, what partners are told, and when."""

import random
from typing import Any

from fenrask.checks import Severity, without_remedies
from fenrask.designs import BuildStep, Task, Word, build_steps, compare, nothing_built, tasks_of
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from tests.designs.random_changes import CHANGES, small_estate
from tests.evaluation.estates import random_estate
from tests.evaluation.test_reuse import read
from tests.support import InFolder, many, merged

MANY = many(20)
SECTIONS = ("public_addresses", "networks", "subnets", "route_tables", "exits", "workloads", "flows", "destinations")
SEEN = {"destinations": {"partner": {"needs": {"fixed_source": True}}}}
OTHER = {
    "exits": {"other": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": ["203.0.113.9"]}}
}


def built(described: Described) -> dict[str, Any]:
    return {section: described.data.get(section) or {} for section in SECTIONS}


def errors(evaluation: Evaluation) -> set[tuple[str, str]]:
    found = (one for one in without_remedies(evaluation) if one.severity is Severity.ERROR)
    return {(one.rule, one.place.path) for one in found}


class Replayed(InFolder):
    def replay(self, start: Evaluation, end: Evaluation) -> list[BuildStep]:
        """Each patch on the estate that the one before it left, and back; what fails is what was told."""
        steps, here, told = build_steps(start, end), start, set[tuple[str, str]]()
        at_ends = errors(start) | errors(end)
        for number, step in enumerate(steps, 1):
            before, here = here, evaluate(here.described.patched(step.patch, "step"))
            self.assertEqual(built(here.described.patched(step.undo, "undo")), built(before.described), step.what)
            estate = here.described.estate
            for name in estate.exits:
                lacking = {*estate.required_exits(name)} - {*estate.exits}
                self.assertFalse(lacking, (step.what, name))
            told |= {(harm.rule or "lost", harm.at) for harm in step.harm}
            lost = {
                ("lost", flow)
                for flow, subnets in start.paths.works_from.items()
                if subnets & end.paths.works_from.get(flow, frozenset()) - here.paths.works_from.get(flow, frozenset())
            }
            failing = lost | (errors(here) - at_ends)
            self.assertLessEqual(failing, told, (number, step.what))
            self.assertTrue(all(number < harm.until <= len(steps) for harm in step.harm), step.harm)
        self.assertEqual(built(here.described), built(end.described))
        self.assertEqual(here.bill.total, end.bill.total)
        return steps

    def test_random_estates_to_their_designs_and_back(self) -> None:
        steps, many = 0, max(1, MANY // 40)
        for seed in range(many):
            described = read(*random_estate(random.Random(seed)))
            now = evaluate(described)
            designs = [one.evaluation for one in compare(described).candidates if one.design.name != "current"]
            for end in random.Random(seed).sample(designs, min(2, len(designs))):
                with self.subTest(seed=seed, design=end.described.estate.estate):
                    steps += len(self.replay(now, end)) + len(self.replay(end, now))
        self.assertGreater(steps, 10 * many)

    def test_random_changes(self) -> None:
        """What changes is one of `CHANGES`: nothing fails on the way of most, and what does is told."""
        steps = harmful = 0
        for seed in range(MANY):
            dice, (estate, catalogue) = random.Random(seed), small_estate(seed)
            change = CHANGES[seed % len(CHANGES)]
            first, patch = change(dice, estate)
            start = evaluate(read(estate, catalogue).patched(first, "start"))
            with self.subTest(seed=seed, change=change.__name__):
                found = self.replay(start, evaluate(start.described.patched(patch, "end")))
                steps, harmful = steps + len(found), harmful + any(step.harm for step in found)
        self.assertGreater(steps, 3 * MANY)
        self.assertLess(harmful, MANY // 10)

    def test_from_one_random_estate_to_another(self) -> None:
        for seed in range(MANY // 15):
            (one, bought), (other, more) = small_estate(seed), small_estate(seed + 1000)
            catalogue = {**bought, "offers": {**more["offers"], **bought["offers"]}}
            start, end = evaluate(read(one, catalogue)), evaluate(read(other, catalogue))
            with self.subTest(seed=seed):
                self.replay(start, end)

    def test_from_nothing_and_to_nothing_in_an_order_that_providers_take(self) -> None:
        now = evaluate(self.estate(OTHER))
        up = [step.what for step in self.replay(nothing_built(now), now)]
        self.assertLess(
            up.index("add the exit door (direct-internet)"), up.index("add the exit gate (translation-gateway)")
        )
        down = [step.names for step in self.replay(now, nothing_built(now))]
        self.assertEqual(down[-1], ("door",))

    def test_an_address_that_another_exit_gets_is_in_use_once(self) -> None:
        start = evaluate(self.estate({**SEEN, **OTHER}))
        patch = {"exits": {"gate": {"addresses": ["203.0.113.77"]}, "other": {"addresses": ["203.0.113.1"]}}}
        end = evaluate(start.described.patched(patch, "swapped"))
        steps = self.replay(start, end)
        self.assertEqual(
            [step.what for step in steps],
            [
                "add to the exit gate: addresses 203.0.113.77", "take from the exit gate: addresses 203.0.113.1",
                "add to the exit other: addresses 203.0.113.1", "take from the exit other: addresses 203.0.113.9",
            ],
        )  # fmt: skip
        self.assertFalse(any(step.harm for step in steps))

    def test_harm_that_no_order_avoids_is_told_with_its_end(self) -> None:
        # One gate to a subnet, and the two have each other's address: the first one is without any in between.
        start = evaluate(self.estate({**SEEN, **OTHER}))
        patch = {"exits": {"gate": {"addresses": ["203.0.113.9"]}, "other": {"addresses": ["203.0.113.1"]}}}
        steps = build_steps(start, evaluate(start.described.patched(patch, "exchanged")))
        # Neither holds together alone: both addresses would be in use twice.
        self.assertEqual([step.names for step in steps], [("gate", "other")])
        # A table that is taken away before what replaces it can stand: its flow waits for the step that mends it.
        gone = {"exits": {"gate": None, "new": {**OTHER["exits"]["other"], "addresses": ["203.0.113.1"]}}}
        moved = {**gone, "route_tables": {"private": {"0.0.0.0/0": "new"}}}
        base = evaluate(self.estate(SEEN))
        steps = self.replay(base, evaluate(base.described.patched(moved, "replaced")))
        [harmful] = [step for step in steps if step.harm]
        self.assertIn(("", "talk", "app"), {one[:3] for one in harmful.harm})
        # What `check` says of it is told, too.
        self.assertTrue(any(one.rule for one in harmful.harm))
        self.assertEqual({harm.until for harm in harmful.harm}, {len(steps)})

    def test_harm_ends_with_a_line_of_the_plan_and_lasts_days_where_a_partner_takes_them(self) -> None:
        lead = {"targets": {"lead_days": {"allow_list": 5}}}
        base = evaluate(self.estate(merged(SEEN, lead)))
        new = {**OTHER["exits"]["other"], "addresses": ["203.0.113.1", "203.0.113.50"]}
        moved = {"exits": {"gate": None, "new": new}, "route_tables": {"private": {"0.0.0.0/0": "new"}}}
        end = evaluate(base.described.patched(moved, "replaced"))
        steps = self.replay(base, end)
        tasks = tasks_of(base, steps, end)
        [harmful] = [one for one in tasks if one.step is not None and one.step.harm]
        for harm in harmful.step.harm if harmful.step else ():
            well = tasks[harm.until - 1]
            self.assertIsNotNone(well.step)
            self.assertEqual(harm.days, well.day - harmful.day)
            if not harm.rule and well.step is not None:
                self.assertEqual([one.flow for one in well.step.after.paths.lost if one.flow == harm.at], [])
        # Partners are told in lines between, so that a line is not what it would be among the steps alone.
        self.assertLess(len(steps), len(tasks))

    def test_a_service_is_taken_off_the_internet_when_all_reach_it_privately(self) -> None:
        start = evaluate(self.estate({"flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}}}))
        patch = {
            "exits": {
                "inner": {"kind": "in-subnet-endpoint", "offer": "inner", "destination": "store", "subnets": ["app"]},
                "gate": {"addresses": ["203.0.113.1", "203.0.113.2"]},
            },
            "destinations": {"store": {"public_access": "closed"}, "partner": {"port": 8443}},
            "workloads": {
                "work": {
                    "filters": {"own": {"out": {"any": {"action": "allow", "destinations": ["partner", "store"]}}}}
                }
            },
        }
        steps = self.replay(start, evaluate(start.described.patched(patch, "private")))
        self.assertFalse([step.harm for step in steps if step.harm])
        self.assertEqual(
            [step.what for step in steps],
            [
                "add the exit inner (in-subnet-endpoint)", "add to the exit gate: addresses 203.0.113.2",
                "change the hosts of work: filters", "change the exit inner: names resolve to it in all its subnets",
                "change the service store: public_access closed",
            ],
        )  # fmt: skip


class Partners(InFolder):
    MOVED = {"route_tables": {"private": {"0.0.0.0/0": "other"}}}

    def tasks(self, lead: dict[str, Any], addresses: Any = ("203.0.113.9",)) -> list[Task]:
        base = evaluate(self.estate({**SEEN, "targets": {"lead_days": lead}}))
        other = {"exits": {"other": {**OTHER["exits"]["other"], "addresses": addresses}, "gate": None}}
        now = evaluate(base.described.patched({**self.MOVED, **other}, "moved"))
        return tasks_of(base, build_steps(base, now), now)

    def words(self, tasks: list[Task]) -> list[Any]:
        return [one.notice.word if one.notice else one.step.names if one.step else None for one in tasks]

    def test_a_list_goes_out_first_and_traffic_moves_when_it_is_taken(self) -> None:
        tasks = self.tasks({"allow_list": 5, "partners": {"partner": 12}, "exits": {"translation-gateway": 2}})
        self.assertEqual(self.words(tasks), [Word.SEND, ("other",), Word.GATE, ("private",), Word.DROP, ("gate",)])
        self.assertEqual([one.day for one in tasks], [0, 2, 12, 12, 12, 12])
        notices = {one.notice.word: one.notice for one in tasks if one.notice}
        self.assertEqual(notices[Word.GATE].entries, (("", "203.0.113.9"),))
        self.assertEqual(notices[Word.DROP].entries, (("", "203.0.113.1"),))
        look = notices[Word.GATE].look
        assert look is not None
        self.assertEqual((look.subnet, look.exits, look.destination), ("app", ("other", "door"), "partner"))

    def test_addresses_that_are_still_to_be_ordered_are_told_when_they_are_there(self) -> None:
        tasks = self.tasks({"allow_list": 5, "addresses": 3}, "auto")
        days = {word: one.day for word, one in zip(self.words(tasks), tasks, strict=True)}
        self.assertEqual((days[Word.SEND], days[Word.GATE], days[("private",)]), (3, 8, 8))

    def test_who_holds_no_list_is_told_nothing(self) -> None:
        base = evaluate(self.estate())
        now = evaluate(base.described.patched({**self.MOVED, **OTHER}, "moved"))
        self.assertEqual([one for one in tasks_of(base, build_steps(base, now), now) if one.notice], [])
