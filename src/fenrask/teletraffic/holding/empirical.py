"""Holds as they were measured."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, unusable

__all__ = ["Empirical"]


@dataclass(frozen=True)
class Empirical:
    """Measured holds, s, each as likely as any other; at least one."""

    measured_s: tuple[float, ...]

    @classmethod
    def of(cls, measured_s: ArrayLike) -> "Empirical":
        """From an array of any shape; UnusableInput for none, or for negative or infinite ones."""
        (values,) = broadcast(measured_s=measured_s)
        if not values.size:
            raise unusable("measured_s", "no hold", "at least one")
        return cls(tuple(float(one) for one in values.flat))

    @cached_property
    def _sorted(self) -> tuple[Floats, Floats]:
        """The holds in rising order, and the sums of the first so many of them."""
        holds = np.sort(np.array(self.measured_s))
        return holds, np.concatenate([[0.0], np.cumsum(holds)])

    @property
    def mean_s(self) -> float:
        return float(self._sorted[1][-1]) / len(self.measured_s)

    def survival(self, t: Floats) -> Floats:
        holds, _ = self._sorted
        return 1 - np.searchsorted(holds, t, side="right") / holds.size

    def integrated_survival(self, t: Floats) -> Floats:
        """E min(hold, t): the shorter ones whole, the longer ones up to t."""
        holds, sums = self._sorted
        shorter = np.searchsorted(holds, t, side="right")
        rest = np.where(shorter < holds.size, np.where(np.isfinite(t), t, 0.0) * (holds.size - shorter), 0.0)
        return (sums[shorter] + rest) / holds.size
