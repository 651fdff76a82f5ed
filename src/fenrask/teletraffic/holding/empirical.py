"""Holds as they were measured."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, unusable
from fenrask.teletraffic.holding.contract import Draw, Simple

__all__ = ["Empirical"]


@dataclass(frozen=True)
class Empirical:
    """Measured holds, s, at least one: each as likely as any other, or with the shares that are given."""

    stacks: ClassVar[bool] = False

    measured_s: tuple[float, ...]
    shares: tuple[float, ...] = ()

    @classmethod
    def of(cls, measured_s: ArrayLike) -> "Empirical":
        """From an array of any shape; UnusableInput for none, or for negative or infinite ones."""
        (values,) = broadcast(measured_s=measured_s)
        if not values.size:
            raise unusable("measured_s", "no hold", "at least one")
        return cls(tuple(float(one) for one in values.flat))

    @cached_property
    def _sorted(self) -> tuple[Floats, Floats, Floats]:
        """The holds in rising order; up to each of them, the share of all, and what these add to the mean."""
        holds = np.array(self.measured_s)
        order = np.argsort(holds, kind="stable")
        holds = holds[order]
        if not self.shares:
            return holds, np.arange(holds.size + 1) / holds.size, np.cumsum([0.0, *holds]) / holds.size
        shares = np.array(self.shares)[order]
        shares /= shares.sum()
        below = np.concatenate([[0.0], np.cumsum(shares)])
        below[-1] = 1.0
        return holds, below, np.concatenate([[0.0], np.cumsum(shares * holds)])

    @property
    def mean_s(self) -> float:
        return float(self._sorted[2][-1])

    def survival(self, t: Floats) -> Floats:
        holds, below, _ = self._sorted
        longer: Floats = 1 - below[np.searchsorted(holds, t, side="right")]
        return longer

    def integrated_survival(self, t: Floats) -> Floats:
        """E min(hold, t): the shorter ones whole, the longer ones up to t."""
        holds, below, sums = self._sorted
        shorter = np.searchsorted(holds, t, side="right")
        rest = np.where(shorter < holds.size, np.where(np.isfinite(t), t, 0.0) * (1 - below[shorter]), 0.0)
        found: Floats = sums[shorter] + rest
        return found

    def smooth_from(self, period_s: float) -> float:
        return float(self._sorted[0][-1])

    def simple(self) -> Iterator[Simple]:
        """Those that are as likely as each other together."""
        together: dict[float, list[float]] = {}
        for hold, share in zip(self.measured_s, self.shares or (1.0,) * len(self.measured_s), strict=True):
            together.setdefault(share, []).append(hold)
        whole = sum(share * len(holds) for share, holds in together.items())
        for share, holds in together.items():
            values = tuple(holds)
            yield Simple(share * len(holds) / whole, Empirical(values), Draw.VALUES, values=values)
