"""Holds that are all alike."""

from dataclasses import dataclass

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding.contract import Parameter

__all__ = ["Fixed"]


@dataclass(frozen=True)
class Fixed:
    """Holds of exactly `mean_s`, s, at least 0."""

    mean_s: Parameter

    def survival(self, t: Floats) -> Floats:
        return np.where(t < self.mean_s, 1.0, 0.0)

    def integrated_survival(self, t: Floats) -> Floats:
        return np.minimum(t, self.mean_s)
