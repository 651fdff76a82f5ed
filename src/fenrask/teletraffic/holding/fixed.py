"""Holds that are all alike."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding.contract import Draw, Parameter, Simple

__all__ = ["Fixed"]


@dataclass(frozen=True)
class Fixed:
    """Holds of exactly `mean_s`, s, at least 0."""

    stacks: ClassVar[bool] = True

    mean_s: Parameter

    def survival(self, t: Floats) -> Floats:
        return np.where(t < self.mean_s, 1.0, 0.0)

    def integrated_survival(self, t: Floats) -> Floats:
        return np.minimum(t, self.mean_s)

    def smooth_from(self, period_s: float) -> Parameter:
        return self.mean_s

    def simple(self) -> Iterator[Simple]:
        yield Simple(1.0, self, Draw.FIXED, float(self.mean_s))
