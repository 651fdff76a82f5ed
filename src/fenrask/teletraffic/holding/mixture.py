"""Mixtures: a share of the holds follows one law, a share another."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from fenrask.teletraffic.arguments import Floats, unusable
from fenrask.teletraffic.holding.contract import HoldingTime, Parameter, Simple
from fenrask.teletraffic.holding.exponential import Exponential

__all__ = ["Mixture", "balanced", "hyperexponential"]


@dataclass(frozen=True)
class Mixture:
    """Laws with their shares, which are at least 0 and sum to 1."""

    stacks: ClassVar[bool] = True

    parts: tuple[tuple[Parameter, HoldingTime], ...]

    def __post_init__(self) -> None:
        shares = [share for share, _ in self.parts]
        if not shares or any(np.any(np.less(one, 0)) for one in shares) or np.any(np.abs(sum(shares) - 1) > 1e-9):
            raise unusable("parts", f"shares {shares}", "shares of at least 0 that sum to 1")

    @property
    def mean_s(self) -> Parameter:
        return sum(share * law.mean_s for share, law in self.parts)

    def survival(self, t: Floats) -> Floats:
        total: Floats = np.sum([share * law.survival(t) for share, law in self.parts], axis=0)
        return total

    def integrated_survival(self, t: Floats) -> Floats:
        total: Floats = np.sum([share * law.integrated_survival(t) for share, law in self.parts], axis=0)
        return total

    def smooth_from(self, period_s: float) -> Parameter:
        latest: Parameter = 0.0
        for _, law in self.parts:
            latest = np.maximum(latest, law.smooth_from(period_s))
        return latest

    def simple(self) -> Iterator[Simple]:
        for share, law in self.parts:
            for part in law.simple():
                yield part._replace(share=float(share) * part.share)


def hyperexponential(shares: Sequence[float], means_s: Sequence[float]) -> Mixture:
    """A mixture of exponentials: more variable than one of them."""
    return Mixture(tuple((share, Exponential(mean)) for share, mean in zip(shares, means_s, strict=True)))


def balanced(mean_s: float, cv: float) -> Mixture:
    """Two exponentials of a mean, s, and a coefficient of variation of at least 1, by balanced means.

    Each of the two carries half of the mean (Whitt 1982, "Approximating a point process by a renewal
    process", Operations Research 30). UnusableInput for a variation below 1: no mixture has one.
    """
    if mean_s <= 0 or cv < 1:
        raise unusable("cv", f"{cv:g} with a mean of {mean_s:g}", "at least 1, and a mean above 0")
    square = cv**2
    root = ((square - 1) / (square + 1)) ** 0.5
    # (1 - root) / 2 without the difference of nearly equal numbers.
    rare = 1 / ((square + 1) * (1 + root))
    return hyperexponential((1 - rare, rare), (mean_s / (2 * (1 - rare)), mean_s / (2 * rare)))
