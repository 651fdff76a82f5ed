"""Mixtures: a share of the holds follows one law, a share another."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenrask.teletraffic.arguments import Floats, unusable
from fenrask.teletraffic.holds.contract import Hold
from fenrask.teletraffic.holds.exponential import Exponential

__all__ = ["Mixture", "hyperexponential"]


@dataclass(frozen=True)
class Mixture:
    """Laws with their shares, which are at least 0 and sum to 1."""

    parts: tuple[tuple[float, Hold], ...]

    def __post_init__(self) -> None:
        shares = [share for share, _ in self.parts]
        if not shares or min(shares) < 0 or abs(sum(shares) - 1) > 1e-9:
            raise unusable("parts", f"shares {shares}", "shares of at least 0 that sum to 1")

    @property
    def mean_s(self) -> float:
        return sum(share * law.mean_s for share, law in self.parts)

    def survival(self, t: Floats) -> Floats:
        total: Floats = np.sum([share * law.survival(t) for share, law in self.parts], axis=0)
        return total

    def integrated_survival(self, t: Floats) -> Floats:
        total: Floats = np.sum([share * law.integrated_survival(t) for share, law in self.parts], axis=0)
        return total


def hyperexponential(shares: Sequence[float], means_s: Sequence[float]) -> Mixture:
    """A mixture of exponentials: more variable than one of them."""
    return Mixture(tuple((share, Exponential(mean)) for share, mean in zip(shares, means_s, strict=True)))
