"""Holds without memory."""

from dataclasses import dataclass

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding.contract import Parameter

__all__ = ["Exponential"]


@dataclass(frozen=True)
class Exponential:
    """Exponential holds of a mean, s, above 0."""

    mean_s: Parameter

    def survival(self, t: Floats) -> Floats:
        fallen: Floats = np.exp(-t / self.mean_s)
        return fallen

    def integrated_survival(self, t: Floats) -> Floats:
        grown: Floats = -self.mean_s * np.expm1(-t / self.mean_s)
        return grown
