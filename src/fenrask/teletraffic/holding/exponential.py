"""Holds without memory."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding.contract import Draw, Parameter, Simple

__all__ = ["Exponential"]


@dataclass(frozen=True)
class Exponential:
    """Exponential holds of a mean, s, above 0."""

    stacks: ClassVar[bool] = True

    mean_s: Parameter

    def survival(self, t: Floats) -> Floats:
        fallen: Floats = np.exp(-t / self.mean_s)
        return fallen

    def integrated_survival(self, t: Floats) -> Floats:
        grown: Floats = -self.mean_s * np.expm1(-t / self.mean_s)
        return grown

    def smooth_from(self, period_s: float) -> float:
        return 0.0

    def simple(self) -> Iterator[Simple]:
        yield Simple(1.0, self, Draw.EXPONENTIAL, float(self.mean_s))
