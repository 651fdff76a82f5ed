"""Which exits there are from which month on: today's, and others in their place."""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import NamedTuple

from fenrask.designs.contract import Patch
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.progress import gone_through
from fenrask.what_if.confidence import ExitConfidence, assured
from fenrask.what_if.growth import Crossing, after, crowded_in
from fenrask.what_if.kept import LimitConfidence
from fenrask.what_if.ranges import ranges
from fenrask.what_if.schedule.when import Months

__all__ = ["TODAY", "Course", "Futures", "Life", "Stage", "Sure", "lives_of", "renewed", "spans"]


@dataclass(frozen=True)
class Sure:
    """What holds in a month with the confidence asked for; nothing where nothing is a range."""

    exits: Mapping[tuple[str, str], ExitConfidence]
    """What exits need over all samples, by exit and the destination that alone sees the addresses."""
    limits: Sequence[LimitConfidence]
    """The limits beside ports that are kept to in fewer samples than that."""
    crowded: Sequence[Crossing]
    """Subnets and parts of them that have too few addresses for hosts in more samples than the others."""


TODAY = 0
"""The mix of the exits that there are."""


class Stage(NamedTuple):
    """A mix of exits, by its number among those of `Futures`, from the beginning of a month on."""

    begin: int
    mix: int


Course = tuple[Stage, ...]
"""What holds through the months; the first stage begins today."""


class Futures:
    """The estate of each month with each mix of exits, each evaluated once.

    months: how many, this one among them; begin: the day on which it begins, by default by the estate; share: see
    `grow`; level: the confidence, where anything is a range.
    """

    def __init__(
        self, described: Described, months: int, share: float, level: float, begin: date | None = None
    ) -> None:
        self.calendar = Months.of(described, begin)
        self.described, self.months, self.share, self.level = described, months, share, level
        self._estates = [described]
        self._patches: list[Patch] = [{}]
        self._known: dict[tuple[int, int], Evaluation] = {}
        self._sure: dict[tuple[int, int], Sure] = {}
        self._arrived: dict[tuple[Evaluation, Hashable], Evaluation] = {}

    def add(self, patch: Patch) -> int:
        """The number of the mix that a patch makes of today's estate; UnusableInput where it does not hold together."""
        if patch in self._patches:
            return self._patches.index(patch)
        estate = self.described.patched(patch, f"exits {len(self._estates)}")
        self._patches.append(patch)
        self._estates.append(estate)
        return len(self._estates) - 1

    def patch(self, mix: int) -> Patch:
        """What makes a mix of today's estate."""
        return self._patches[mix]

    def estate(self, mix: int) -> Described:
        """Today's estate with a mix."""
        return self._estates[mix]

    def in_month(self, mix: int, month: int) -> Evaluation:
        """A month with a mix and the addresses that the estate says that it has."""
        known = self._known.get((mix, month))
        if known is None:
            near = self._known.get((mix, month - 1)) or self._known.get((TODAY, month))
            known = evaluate(after(self._estates[mix], month, self.share), near)
            self._known[mix, month] = known
        return known

    def sure_in(self, mix: int, month: int) -> Sure:
        """What each exit needs in a month over all samples, with the confidence; nothing where nothing is a range."""
        known = self._sure.get((mix, month))
        if known is None:
            now = self.in_month(mix, month)
            known = self._sure[mix, month] = _sure(now, self.level, month)
        return known

    def with_orders(self, month: Evaluation, patch: Patch, owned: Hashable, name: str) -> Evaluation:
        """A month, one of these, with what has arrived by then; owned: what tells that patch from others."""
        key = (month, owned)
        if key not in self._arrived:
            self._arrived[key] = evaluate(month.described.patched(patch, name), month)
        return self._arrived[key]

    def through(self, course: Course) -> Iterator[tuple[Evaluation, Sure]]:
        """Each month as a course has it."""
        for stage, until in spans(course, self.months):
            for month in gone_through(range(stage.begin, until), "month"):
                yield self.in_month(stage.mix, month), self.sure_in(stage.mix, month)


def _sure(now: Evaluation, level: float, month: int) -> Sure:
    if not ranges(now.described, month):
        return Sure({}, (), ())
    found = assured(now, level, month)
    exits = {(one.sized.exit, one.sized.toward): one for one in found.exits}
    limits = [one for one in found.limits if one.kept < level]
    return Sure(exits, limits, [*crowded_in(month, now.described, found.hosts, level)])


class Life(NamedTuple):
    """An exit with addresses of its own that stay, from a month until before another."""

    exit: str
    begin: int
    until: int


def renewed(before: Described, after: Described) -> set[str]:
    """The exits of an estate that another does not have, or says other addresses of."""
    had = before.estate.exits
    return {
        name for name in after.estate.exits if name not in had or _addresses(before, name) != _addresses(after, name)
    }


def lives_of(futures: Futures, course: Course) -> list[Life]:
    """Each exit's life by a course, in the order of the estate: one that gets other addresses begins anew."""
    open_, found = dict[str, int](), list[Life]()
    before = futures.estate(TODAY)
    for stage, _ in spans(course, futures.months):
        now = futures.estate(stage.mix)
        new = renewed(before, now)
        for name, begin in [*open_.items()]:
            if name in new or name not in now.estate.exits:
                found.append(Life(name, begin, stage.begin))
                del open_[name]
        open_ |= {name: stage.begin for name in now.estate.exits if name not in open_}
        before = now
    return [*found, *(Life(name, begin, futures.months) for name, begin in open_.items())]


def _addresses(described: Described, name: str) -> object:
    """What an estate says of the addresses of an exit, and of what it is."""
    stated = described.data["exits"][name]
    return [stated.get(key) for key in ("kind", "addresses", "at_least", "addresses_for")]


def spans(course: Course, months: int) -> list[tuple[Stage, int]]:
    """Each stage with the month before which it ends."""
    ends = [*(one.begin for one in course[1:]), months]
    return [*zip(course, ends, strict=True)]
