"""Holds without memory."""

from dataclasses import dataclass

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["Exponential"]


@dataclass(frozen=True)
class Exponential:
    """Exponential holds of a mean, s, above 0."""

    mean_s: float

    def survival(self, t: Floats) -> Floats:
        return np.exp(-t / self.mean_s)

    def integrated_survival(self, t: Floats) -> Floats:
        return -self.mean_s * np.expm1(-t / self.mean_s)
