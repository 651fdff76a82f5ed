"""Designs through the months: what each costs in all, until when it does, and in which month one overtakes another."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import accumulate, permutations

from fenrask.designs import Candidate, Comparison, effort
from fenrask.estate import ChangeCost
from fenrask.progress import gone_through
from fenrask.what_if.growth import months_ahead, once_in

__all__ = ["Overtaking", "Through", "overtakings", "through_months"]


@dataclass(frozen=True)
class Through:
    """A design through some months, this one among them."""

    candidate: Candidate
    once: Fraction
    """What it costs once to change to it: exits put up and taken down, and others' work where that has a price."""
    amounts: tuple[Fraction, ...]
    """What each month costs, with what exits cost once that come and go in it."""
    passing: int
    """For how many months from now it meets every need and carries every load; 0 where it does not today."""

    @property
    def total(self) -> Fraction:
        """All months, with what is paid once."""
        return self.once + sum(self.amounts, Fraction(0))

    @property
    def so_far(self) -> list[Fraction]:
        """What is paid from today to the end of each month."""
        return [*accumulate(self.amounts, initial=self.once)][1:]


@dataclass(frozen=True)
class Overtaking:
    """From the end of a month on, a design has cost less in all than another, which had cost less before."""

    design: str
    other: str
    month: int
    saved: Fraction
    """What it has cost less by the end of all months."""


def through_months(comparison: Comparison, months: int) -> list[Through]:
    """Each design, in the order of the comparison; the first is the estate as it is."""
    current, found = comparison.candidates[0].evaluation, list[Through]()
    for candidate in gone_through(comparison.candidates, "design"):
        described = candidate.evaluation.described
        ahead = months_ahead(described, months)
        cost = described.estate.targets.change_cost or ChangeCost()
        once = effort(current, candidate.evaluation, candidate.patch).price(cost) if candidate.patch else Fraction(0)
        amounts = tuple(then.bill.total + once_in(described, month) for month, then in enumerate(ahead))
        well = int(candidate.passes)
        while 0 < well < months and ahead[well].meets_all:
            well += 1
        found.append(Through(candidate, once, amounts, well))
    return found


def overtakings(designs: Sequence[Through]) -> Iterator[Overtaking]:
    """Each last overtaking of one by another, of the designs that pass today and the estate as it is, the first."""
    for first, second in permutations([each for each in designs if each.passing or each is designs[0]], 2):
        ahead = [mine < theirs for mine, theirs in zip(first.so_far, second.so_far, strict=True)]
        if ahead[-1] and not all(ahead):
            month = max(number for number, is_ahead in enumerate(ahead) if not is_ahead) + 1
            yield Overtaking(
                first.candidate.design.name, second.candidate.design.name, month, second.total - first.total
            )
