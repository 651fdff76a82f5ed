"""When other exits take the place of today's: by hand, against every sequence of mixes, and what a change asks for."""

import json
from collections.abc import Iterator
from fractions import Fraction
from itertools import combinations, product
from typing import Any

from fenrask.designs import build_steps, tasks_of
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.what_if.growth import after
from fenrask.what_if.schedule import Months, Schedule, schedule
from tests.support import CATALOGUE, InFolder, merged

SIZES = {"gate": (800, 0.1), "middle": (3000, 0.2), "large": (20_000, 1.0)}
"""By offer: the ports of each of two addresses, and the hourly rate."""


def blocked(offered: float, servers: int) -> float:
    """Erlang's loss formula (1917)."""
    share = 1.0
    for number in range(1, servers + 1):
        share = offered * share / (number + offered * share)
    return share


class OtherExits(InFolder):
    """620 connections and a quarter more each month; what the small gateway does not carry the next does, for more."""

    def growing(self, changes: Any = None) -> Described:
        offers: dict[str, Any] = {
            name: {
                **CATALOGUE["offers"]["gate"],
                "ports": {"assignment": "shared-per-destination", "per_address": ports},
                "limits": {"addresses": 2},
                "rates": {"hour": hour, "processed_per_gb": 0},
            }
            for name, (ports, hour) in SIZES.items()
        }
        estate = {"flows": {"talk": {"growth_per_month": 0.25}}, "exits": {"gate": {"addresses": 1}}}
        others = {"wall": None, "host": None, "inner": None, "door-to-service": None}
        return self.estate(merged(estate, changes or {}), {"offers": {**others, **offers}})

    def test_each_gateway_until_it_no_longer_does(self) -> None:
        """The month of each change by hand, by Erlang's recursion over the ports of two addresses."""
        found = schedule(self.growing(), 18)
        load = [620 * 1.25**month for month in range(18)]
        needed = [next(name for name, (ports, _) in SIZES.items() if blocked(one, 2 * ports) <= 1e-4) for one in load]
        first = [needed.index("middle"), needed.index("large")]
        self.assertEqual([one.begin for one in found.changes], first)
        taken = [then.evaluation.described.estate.exits.values() for then in found.plan.months]
        self.assertEqual([next(one.offer_name for one in exits if one.offer_name) for exits in taken], needed)
        self.assertEqual(([*found.plan.not_mended], found.is_well), ([], True))

    def test_no_sequence_of_the_mixes_is_cheaper(self) -> None:
        """Up to three of them, once today's exits no longer do; each month's bill by the engine alone.

        Fewer changes are taken only for two in a hundred more.
        """
        for cost in ({}, {"exit": 30, "route": 5}):
            described = self.growing({"targets": {"change_cost": cost}} if cost else {})
            found = schedule(described, 14)
            with self.subTest(cost=cost):
                costs = sorted((total, changes) for total, changes in self.sequences(described, found, cost))
                best, changes = costs[0]
                self.assertGreaterEqual(found.total, best)
                self.assertLessEqual(found.total, best * Fraction(102, 100))
                if found.total > best:
                    self.assertLess(len(found.changes), changes)
                self.assertGreater(len(costs), 20)

    def sequences(self, described: Described, found: Schedule, cost: dict[str, int]) -> Iterator[tuple[Fraction, int]]:
        months, begin = len(found.plan.months), found.changes[0].begin
        estates = [described, *(described.patched(one, "mix") for one in found.mixes)]
        then = [[evaluate(after(one, month)) for month in range(months)] for one in estates]
        today = described.patched({"exits": {"gate": {"addresses": "auto"}}}, "sized")
        before = sum((evaluate(after(today, month)).bill.total for month in range(begin)), Fraction(0))
        for number in (1, 2, 3):
            for later in combinations(range(begin + 1, months), number - 1):
                for mixes in product(range(1, len(estates)), repeat=number):
                    spans = [*zip(mixes, (begin, *later), (*later, months), strict=True)]
                    each = [then[mix][month] for mix, since, until in spans for month in range(since, until)]
                    if any(one == two for one, two in zip(mixes, mixes[1:], strict=False)):
                        continue
                    if all(one.meets_all for one in each):
                        once = sum(
                            self.once(estates[a], estates[b], cost) for a, b in zip((0, *mixes), mixes, strict=False)
                        )
                        yield before + sum((one.bill.total for one in each), Fraction(once)), number

    def once(self, before: Described, now: Described, cost: dict[str, int]) -> int:
        """Exits that come and go, and routes that are other ones."""
        exits = before.estate.exits.keys() ^ now.estate.exits.keys()
        routes = [
            {(table, key, str(to)) for table, some in one.data["route_tables"].items() for key, to in some.items()}
            for one in (before, now)
        ]
        keys = {(table, key) for table, key, _ in routes[0] ^ routes[1]}
        return len(exits) * cost.get("exit", 0) + len(keys) * cost.get("route", 0)

    def test_the_days_are_those_of_the_plan_of_the_change(self) -> None:
        """As `handover` plans it, step by step; and it is told where there is not as much time."""
        for circuit, addresses, partner in ((0, 0, 0), (45, 10, 0), (5, 10, 30), (5, 100, 30)):
            lead = {"exits": {"translation-gateway": circuit}, "addresses": addresses, "allow_list": partner}
            fixed = {"destinations": {"partner": {"needs": {"fixed_source": True}}}}
            found = schedule(self.growing({"targets": {"lead_days": lead}, **fixed}), 8)
            for one in found.changes:
                days = [
                    task.day
                    for task in tasks_of(one.before, build_steps(one.before, one.after), one.after)
                    if task.step
                ]
                with self.subTest(lead=lead):
                    self.assertEqual(one.days, max(days))
                    self.assertEqual(one.days, max(circuit, addresses + partner))
                    self.assertEqual(one.order_by, max(0, Months().begin(one.begin) - one.days))
                    self.assertEqual(found.is_well, one.days <= Months().begin(one.begin) and not found.plan.waits)

    def test_its_patch_does_what_the_schedule_says(self) -> None:
        """Each month's bill with the patch that is written, and its addresses, is the schedule's."""
        described = self.growing()
        found = schedule(described, 9)
        [change] = found.changes
        asked = ("--months", "9", "--save", "months")
        told = self.json("schedule", *asked, status=0)
        patch = json.loads((self.folder / "months" / f"month-{change.begin}.json").read_text("utf-8"))
        self.assertEqual(patch, change.patch)
        for month in range(change.begin, 9):
            then = evaluate(after(described.patched(patch, "then"), month))
            self.assertEqual(then.bill.total, found.plan.months[month].amount)
            self.assertTrue(then.meets_all)
        [row] = told["changes"]
        self.assertEqual((row["month"], row["because"]), (change.begin, "ports of gate"))
        self.assertEqual({one["month"] for one in told["built"]}, {change.begin})
        # What it would have cost sooner: the bills of both, month by month, with two addresses of the old gateway.
        sized = described.patched({"exits": {"gate": {"addresses": 2}}}, "now")
        other = described.patched(patch, "then")
        sooner, months = Fraction(0), range(1, change.begin)
        for month in months:
            sooner += evaluate(after(other, month)).bill.total - evaluate(after(sized, month)).bill.total
        self.assertEqual((change.soonest, change.sooner), (1, sooner))

    def test_what_is_made_sooner_is_planned_too(self) -> None:
        """A mix that does not carry an earlier month's peak is not said to save anything by being there sooner."""
        table = {"flows": {"talk": {"growth_per_month": 0, "growth": {"load": {"1": 1.5, "2": 12, "4": 1.5, "6": 4}}}}}
        found = schedule(self.growing(table), 10)
        for change in found.changes:
            patched = self.growing(table).patched(change.patch, "then")
            for month in range(change.soonest, change.begin):
                self.assertTrue(evaluate(after(patched, month)).meets_all, (change.begin, month))
        self.assertTrue(found.changes)

    def test_what_no_exit_mends_is_told(self) -> None:
        """With the small gateway alone on sale nothing does; the words say so, and the status."""
        self.growing()
        self.write("catalogue.yaml", (self.folder / "catalogue.yaml").read_text("utf-8"))
        described = self.estate(
            {"flows": {"talk": {"growth_per_month": 0.25}}, "exits": {"gate": {"addresses": 1}}},
            {"offers": {"wall": None, "host": None, "gate": {"limits": {"addresses": 2}}}},
        )
        found = schedule(described, 18)
        self.assertFalse(found.is_well)
        self.assertTrue(found.unanswered)
        done = self.program("schedule", "--months", "18")
        self.assertEqual(done.returncode, 1)
        self.assertIn("No exits of the catalogue mend ports of gate in month", done.stdout)

    def test_what_is_wrong_today_is_no_reason(self) -> None:
        """A need that is broken now is for `check` and `choose`; the schedule looks at what growth breaks."""
        need, still = {"partner": {"needs": {"inspected": True}}}, {"talk": {"growth_per_month": 0}}
        found = schedule(self.growing({"destinations": need, "flows": still}), 6)
        self.assertEqual((found.changes, found.mixes), ((), ()))

    def test_with_ranges_the_other_exits_hold_the_confidence(self) -> None:
        """From each change on the addresses suffice in nine of ten samples, as `capacity --confidence` says."""
        growth = {"low": 0.1, "likely": 0.2, "high": 0.3}
        found = schedule(self.growing({"flows": {"talk": {"growth_per_month": growth}}}), 12)
        self.assertTrue(found.plan.is_uncertain)
        self.assertTrue(found.changes)
        self.assertEqual(found.plan.not_mended, [])
        for needed in found.plan.needed:
            owned = needed.has
            orders = [one.order for one in found.plan.due if one.order.key == needed.key]
            for month in range(needed.key.begin, needed.until):
                owned += sum(one.addresses for one in orders if one.month == month)
                sure = needed.confidence[month]
                if month:  # In this one nothing has grown.
                    assert sure is not None and sure.wanted is not None
                    self.assertLessEqual(sure.wanted, owned, (needed.name, month))
