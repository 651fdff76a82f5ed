"""Whole designs side by side."""

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction

from fenrask.designs.contract import Design, Patch
from fenrask.designs.judge import Judged, judge
from fenrask.designs.standard import STANDARD
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["Candidate", "Comparison", "LeftOut", "compare"]


@dataclass(frozen=True)
class Candidate:
    """A design that could be made, with its patch and its judgement."""

    design: Design
    patch: Patch
    judged: Judged


@dataclass(frozen=True)
class LeftOut:
    """A design that could not be made, and why."""

    design: Design
    why: str


@dataclass(frozen=True)
class Comparison:
    """All designs in the order of the registry; amounts are money a month."""

    candidates: tuple[Candidate, ...]
    left_out: tuple[LeftOut, ...]

    def difference(self, candidate: Candidate) -> Fraction:
        """What a design costs more than the first."""
        return candidate.judged.bill.total - self.candidates[0].judged.bill.total

    @property
    def cheapest(self) -> Candidate | None:
        """The cheapest of those that meet every need and carry every load."""
        fit = [one for one in self.candidates if one.judged.meets_all]
        return min(fit, key=lambda one: one.judged.bill.total, default=None)


def compare(described: Described, designs: Iterable[Design] = STANDARD) -> Comparison:
    """Make, size, price and judge each design."""
    candidates, left_out = [], []
    for design in designs:
        try:
            patch = design.patch(described)
        except NoAnswer as error:
            left_out.append(LeftOut(design, error.cause))
            continue
        candidates.append(Candidate(design, patch, judge(described.patched(patch, f"design {design.name}"))))
    return Comparison(tuple(candidates), tuple(left_out))
