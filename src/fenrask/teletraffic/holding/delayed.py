"""A hold that lasts a fixed time longer: a life and the release after it."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding.contract import HoldingTime, Parameter, Simple

__all__ = ["Delayed"]


@dataclass(frozen=True)
class Delayed:
    """A law with a fixed time added, s, at least 0."""

    stacks: ClassVar[bool] = True

    law: HoldingTime
    delay_s: Parameter

    @property
    def mean_s(self) -> Parameter:
        return self.law.mean_s + self.delay_s

    def survival(self, t: Floats) -> Floats:
        return np.where(t < self.delay_s, 1.0, self.law.survival(np.maximum(t - self.delay_s, 0.0)))

    def integrated_survival(self, t: Floats) -> Floats:
        later = self.law.integrated_survival(np.maximum(t - self.delay_s, 0.0))
        return np.minimum(t, self.delay_s) + later

    def smooth_from(self, period_s: float) -> Parameter:
        return self.law.smooth_from(period_s) + self.delay_s

    def simple(self) -> Iterator[Simple]:
        for part in self.law.simple():
            yield part._replace(delay_s=part.delay_s + float(self.delay_s))
