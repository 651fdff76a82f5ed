"""When other exits have to take the place of today's: the cheapest sequence of the mixes that single months choose.

Exits stay while more addresses do. From the first month in which these do not, the months that need another mix choose
theirs (see `optimise`); each mix is planned through all months; and the cheapest way through them is a shortest path
over months and mixes (Bellman 1958), in which a change costs what `targets.change_cost` says. What is answered is
planned as a whole.
"""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from itertools import pairwise
from statistics import NormalDist
from typing import NamedTuple

from fenrask.designs import Effort, effort, tasks_of, whole_step
from fenrask.designs.contract import Patch
from fenrask.designs.parts import difference
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import ChangeCost, Described
from fenrask.evaluation import Evaluation
from fenrask.evaluation.faults import scaled_flows
from fenrask.optimise import Wanted, choose
from fenrask.progress import tell
from fenrask.what_if.growth import BUDGET, HOST_ADDRESSES, Crossing, only
from fenrask.what_if.schedule.commitments import Taken, taken
from fenrask.what_if.schedule.courses import TODAY, Course, Futures, Stage, renewed
from fenrask.what_if.schedule.plan import Planned, planned
from fenrask.what_if.schedule.when import Months

__all__ = ["Change", "Schedule", "schedule"]

_TOLERANCE = Fraction(2, 100)
"""The share of the cost for which fewer changes are taken."""
_FEW_FLOWS, _LOOKS, _LOOKS_OF_MANY = 100, 8, 3
"""How often a month chooses a mix, at most, of few flows and of more; of few the next best mixes are looked at, too."""
_STAYING: Course = (Stage(0, TODAY),)
_NOT_OF_EXITS = (HOST_ADDRESSES, BUDGET)
"""Limits that other exits do not mend."""


@dataclass(frozen=True)
class Change:
    """Other exits from the beginning of a month on."""

    begin: int
    patch: Patch
    """What makes them of today's estate."""
    step: Patch
    """What makes them of the estate before."""
    because: Crossing | None
    """What would be exceeded without it; None where it only costs less."""
    effort: Effort
    once: Fraction
    """What it costs once, beside what orders for its month do."""
    days: int
    """How many days others take, by the plan of the change; see `tasks_of`."""
    begins: int
    """The day on which its month begins, from today."""
    before: Evaluation
    """Its month with the exits before."""
    after: Evaluation
    soonest: int
    """The first month from the next one on in which it could be done, and no limit more is exceeded; else its own."""
    sooner: Fraction
    """What all months would cost more, if it were done as soon as that."""

    @property
    def order_by(self) -> int:
        """The latest day to begin, from today; see `there`."""
        return max(0, self.begins - self.days)

    @property
    def there(self) -> int:
        """The day on which it can be done: that of its month, or later where there is not as much time."""
        return max(self.begins, self.days)


@dataclass(frozen=True)
class Schedule:
    """What to buy and to change when."""

    calendar: Months
    plan: Planned
    changes: tuple[Change, ...] = ()
    mixes: tuple[Patch, ...] = ()
    """The mixes beside today's that were looked at, each as the patch of today's estate."""
    commitments: tuple[Taken, ...] = ()
    """What is taken of the commitments on offer; the bills of the plan's months count it."""
    unanswered: str = ""
    """Why no mix does in the month in which more addresses do not, where none was found."""

    @property
    def once(self) -> Fraction:
        """What changes of exits cost once."""
        return sum((one.once for one in self.changes), Fraction(0))

    @property
    def total(self) -> Fraction:
        """The bills of all months, with what is paid once."""
        return self.plan.total + self.once

    @property
    def is_well(self) -> bool:
        """Whether no limit is exceeded in any month, and all is there in time."""
        return self.plan.is_well and all(one.there <= one.begins for one in self.changes)


def schedule(
    described: Described, months: int = 24, level: float = 0.9, share: float = 0.0, begin: date | None = None
) -> Schedule:
    """The cheapest orders for so many months, this one among them; level: the confidence; share: see `grow`.

    begin: the day on which this month begins, see `Months`.
    """
    # What is reused goes on to the estates that this one is patched to.
    key = ("schedule", months, level, share, begin)
    known = described.reused.get(key)
    if known is None or known[0] is not described:
        known = described.reused[key] = (described, _Search(Futures(described, months, share, level, begin)).answer())
    found: Schedule = known[1]
    return found


class _Look(NamedTuple):
    """A month that chooses exits, and the mix that it has before."""

    mix: int
    month: int


def _mix_in(course: Course, month: int) -> int:
    """The mix that a course has in a month."""
    return next(one.mix for one in reversed(course) if one.begin <= month)


_Way = tuple[int, Fraction, tuple[tuple[int, int], ...]]
"""Limits that are exceeded on it, counted in each month; what it costs; its stages."""


class _Search:
    """The courses that were planned, and the mixes in them."""

    def __init__(self, futures: Futures) -> None:
        self._futures = futures
        self._plans: dict[Course, Planned] = {}
        self._mixes = [TODAY]
        self._unanswered = ""
        self._are_few = len(futures.described.estate.flows) <= _FEW_FLOWS
        self._change = futures.described.estate.targets.change_cost or ChangeCost()

    def answer(self) -> Schedule:
        """Today's exits while they do; then the cheapest of what was looked at that exceeds least."""
        begin = min(self._bad(_STAYING), default=None)
        looked = dict[_Look, list[int]]()
        most = _LOOKS if self._are_few else _LOOKS_OF_MANY
        while begin is not None and len(looked) < most and (look := self._next(begin, looked)) is not None:
            looked[look] = self._chosen_for(begin, look)
            for course in self._cheapest(begin):
                self._plan(course)
            if looked[look][:1] == [TODAY] and not self._are_few:
                # Its exits do, with other addresses: what is lacking is no exit.
                break
        best = self._best()
        mixes = tuple(self._futures.patch(one) for one in self._mixes if one != TODAY)
        unanswered = self._unanswered if self._bad(best) else ""
        plan, changes = self._plan(best), tuple(self._changes(best))
        commitments, bills = taken([one.evaluation for one in plan.months])
        months = (replace(one, bill=bill, amount=bill.total) for one, bill in zip(plan.months, bills, strict=True))
        return Schedule(
            self._futures.calendar, replace(plan, months=tuple(months)), changes, mixes, commitments, unanswered
        )

    def _next(self, begin: int, looked: Mapping[_Look, Sequence[int]]) -> _Look | None:
        """The next month to choose a mix, and the mix to change for it.

        The first and the last month in which today's exits do not do; those in which the best course so far does not;
        those from which what another chose no longer does; and one between two that choose different ones.
        """
        today, best = self._bad(_STAYING), self._best()
        looks = [_Look(TODAY, min(today)), _Look(TODAY, max(today))]
        if bad := self._bad(best):
            looks += [_Look(one, min(bad)) for one in dict.fromkeys((_mix_in(best, min(bad)), TODAY))]
        for mix in dict.fromkeys(some[0] for some in looked.values() if some):
            if bad := self._bad(self._alone(mix, begin)):
                looks.append(_Look(mix, min(bad)))
        if (look := next((one for one in looks if one not in looked), None)) is not None:
            return look
        for earlier, later in pairwise(sorted(each for each in looked if each.mix == TODAY)):
            if looked[earlier][:1] != looked[later][:1] and later.month - earlier.month > 1:
                return _Look(TODAY, (earlier.month + later.month) // 2)
        return None

    def _chosen_for(self, begin: int, look: _Look) -> list[int]:
        """The mixes that a month chooses, the cheapest first, from `begin` on; with twice the margin where the first do
        not do in it.
        """
        found, month = list[int](), look.month
        for margins in (1, 2):
            chosen = self._chosen(look, margins)
            found += chosen
            alone = [(*_STAYING, Stage(begin, mix)) for mix in chosen]
            # After a fault an exit may want more than its own peaks say.
            if not alone or not self._plan(_STAYING).is_uncertain or any(month not in self._bad(one) for one in alone):
                break
        return found

    def _plan(self, course: Course) -> Planned:
        if course not in self._plans:
            self._plans[course] = planned(self._futures, course)
        return self._plans[course]

    def _best(self) -> Course:
        """The courses that exceed least; of these what costs little more than the cheapest, with the fewest changes."""
        exceeded = {course: self._exceeded(course) for course in self._plans}
        least = [course for course, number in exceeded.items() if number == min(exceeded.values())]
        costs = {course: self._cost(course) for course in least}
        most = min(costs.values()) * (1 + _TOLERANCE)
        return min((one for one in least if costs[one] <= most), key=lambda course: (len(course), costs[course]))

    def _exceeded(self, course: Course) -> int:
        return sum(map(len, self._bad(course).values()))

    def _cost(self, course: Course) -> Fraction:
        return self._plan(course).total + sum((price for *_, price in self._priced(course)), Fraction(0))

    def _bad(self, course: Course) -> dict[int, list[Crossing]]:
        """By month what is well today and exceeded then, though other exits might mend it."""
        plan, found = self._plan(course), dict[int, list[Crossing]]()
        today = self._plan(_STAYING)
        already = {(one.about, one.limit) for one in today.not_waited_for if not one.month}
        for crossing in plan.not_waited_for:
            if (
                crossing.month
                and crossing.limit not in _NOT_OF_EXITS
                and (crossing.about, crossing.limit) not in already
            ):
                found.setdefault(crossing.month, []).append(crossing)
        return found

    def _chosen(self, look: _Look, margins: int) -> list[int]:
        """The mixes that a month chooses: the cheapest, that which changes less, and of few flows the next best.

        margins: how often the margin of the confidence is taken.
        """
        tell(f"exits for month {look.month}")
        futures, found = self._futures, list[int]()
        wanted = Wanted(explain=False, next_best=self._are_few)
        try:
            choice = choose(self._surely(look, margins), wanted)
        except NoAnswer as no:
            if look.mix == TODAY:
                self._unanswered = no.cause
            return []
        others = [*([choice.steady] if choice.steady else []), *choice.next_best]
        for patch in (choice.patch, *(one.patch for one in others)):
            try:
                mix = futures.add(self._of_today(look.mix, patch))
            except UnusableInput as problem:
                # What is there in that month alone may have made room for it.
                self._unanswered = str(problem)
                continue
            found.append(mix)
        self._mixes += [mix for mix in dict.fromkeys(found) if mix not in self._mixes]
        return found

    def _of_today(self, mix: int, patch: Patch) -> Patch:
        """What makes of today's estate what a patch makes of it with a mix."""
        if mix == TODAY:
            return patch
        then = self._futures.estate(mix).patched(patch, "exits")
        made: Patch = difference(self._futures.described.data, then.data)
        return made

    def _surely(self, look: _Look, margins: int) -> Described:
        """A month alone, with the loads that the confidence asks for: more by the largest share by which an exit's peak
        is then above the median."""
        mix, month = look
        # What a change costs is borne by the months that are left.
        left = {"targets": {"horizon_months": self._futures.months - month}}
        then = only(self._futures.estate(mix), month, self._futures.share).patched(left, f"month {month} to the end")
        sure = self._futures.sure_in(mix, month).exits.values()
        share = max((one.peaks[2] / one.peaks[1] for one in sure if one.peaks[1]), default=1.0)
        share **= margins * NormalDist().inv_cdf(self._futures.level) / NormalDist().inv_cdf(0.95)
        if share <= 1:
            return then
        return then.patched(scaled_flows(then, dict.fromkeys(then.estate.flows, share)), f"month {month}, surely")

    def _cheapest(self, begin: int) -> Iterator[Course]:
        """The shortest paths over the months from `begin` on and the mixes, each as planned alone.

        The cheapest, and the cheapest if each change cost what is tolerated for fewer of them.
        """
        alone = {mix: self._alone(mix, begin) for mix in self._mixes}
        bad = {mix: self._bad(course) for mix, course in alone.items()}
        money = {mix: [one.amount + one.once for one in self._plan(course).months] for mix, course in alone.items()}
        tolerated = min(sum(some, Fraction(0)) for some in money.values()) * _TOLERANCE
        for more in (Fraction(0), tolerated) if len(alone) > 2 else ():
            ways: dict[int, _Way] = {TODAY: (0, Fraction(0), ((0, TODAY),))}
            for month in range(begin, self._futures.months):
                ways = {
                    to: min(
                        (
                            exceeded + len(bad[to].get(month, ())),
                            cost + money[to][month] + (self._price(mix, to, month) + more if mix != to else 0),
                            way if mix == to else (*way, (month, to)),
                        )
                        for mix, (exceeded, cost, way) in ways.items()
                    )
                    for to in self._mixes
                }
            yield tuple(Stage(*one) for one in min(ways.values())[2])

    def _alone(self, mix: int, begin: int) -> Course:
        return (Stage(0, TODAY), *([Stage(begin, mix)] if mix != TODAY else []))

    def _price(self, mix: int, to: int, month: int) -> Fraction:
        whole, _ = self._effort(mix, to, month)
        new = renewed(self._futures.estate(mix), self._futures.estate(to))
        return _without_ordered(whole, self._futures.in_month(to, month), new).price(self._change)

    def _effort(self, mix: int, to: int, month: int) -> tuple[Effort, Patch]:
        """What changes from one mix to another in a month, and the patch that does it."""
        futures = self._futures
        step: Patch = difference(futures.estate(mix).data, futures.estate(to).data)
        return effort(futures.in_month(mix, month), futures.in_month(to, month), step), step

    def _priced(self, course: Course) -> Iterator[tuple[Stage, Stage, Fraction]]:
        for before, after in zip(course, course[1:], strict=False):
            yield before, after, self._price(before.mix, after.mix, after.begin)

    def _changes(self, course: Course) -> Iterator[Change]:
        """Each change of a course, with the plan of it and what it would cost if it were done sooner."""
        futures = self._futures
        for number, (before, after, once) in enumerate(self._priced(course)):
            was, is_ = futures.in_month(before.mix, after.begin), futures.in_month(after.mix, after.begin)
            change, step = self._effort(before.mix, after.mix, after.begin)
            tasks = tasks_of(was, [whole_step(was, is_)], is_)
            days = max((one.day for one in tasks if one.step), default=0)
            without = course[: number + 1]
            because = next(iter(self._bad(without).get(after.begin, ())), None)
            soonest, sooner = self._sooner(course, number + 1, max(before.begin + 1, futures.calendar.since(days)))
            yield Change(
                after.begin,
                futures.patch(after.mix),
                step,
                because,
                change,
                once,
                days,
                futures.calendar.begin(after.begin),
                was,
                is_,
                soonest,
                sooner,
            )

    def _sooner(self, course: Course, number: int, month: int) -> tuple[int, Fraction]:
        """A stage of a course moved to an earlier month, if no limit more is exceeded then; what that costs more."""
        stage = course[number]
        if month >= stage.begin:
            return stage.begin, Fraction(0)
        moved = (*course[:number], Stage(month, stage.mix), *course[number + 1 :])
        if self._exceeded(moved) > self._exceeded(course):
            return stage.begin, Fraction(0)
        return month, self._cost(moved) - self._cost(course)


def _without_ordered(whole: Effort, after: Evaluation, new: Container[str]) -> Effort:
    """An effort without the entries, and the lists, of exits whose addresses are ordered with the change."""
    ordered = {one.exit for one in after.plan.exits if one.exit in new and one.purchase}
    entries, partners = 0, set[str]()
    for partner in after.plan.partners:
        own = sum(len(part.blocks) for part in partner.parts if part.exit in ordered) if partner.fixed else 0
        entries += own
        partners |= {partner.destination} if own else set()
    left = tuple(one for one in whole.partners if one not in partners)
    return replace(whole, entries=max(0, whole.entries - entries), partners=left)
