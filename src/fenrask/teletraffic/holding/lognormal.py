"""Lognormal holds: most are short, a few are very long."""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from fenrask.teletraffic.arguments import Floats, unusable
from fenrask.teletraffic.holding.contract import Draw, Parameter, Simple

__all__ = ["Lognormal"]

_P95 = 1.6448536269514722
"""The standard normal's 95th percentile."""
_WIDE = 1.5
"""Periods: exp(-2 pi^2 1.5^2) is 5e-20 (Poisson's summation)."""
_ROOT_2 = math.sqrt(2)
_erfc = np.frompyfunc(math.erfc, 1, 1)


@dataclass(frozen=True)
class Lognormal:
    """Lognormal holds of a mean, s, above 0, and a standard deviation `sigma` of the logarithm, at least 0.

    Its median is mean_s exp(-sigma^2 / 2), well below the mean.
    """

    stacks: ClassVar[bool] = True

    mean_s: Parameter
    sigma: Parameter

    @classmethod
    def of_percentile(cls, mean_s: float, p95_s: float) -> "Lognormal":
        """The law of a mean and a 95th percentile, both in s.

        p95 = mean exp(1.645 sigma - sigma^2 / 2) has two solutions where p95 is above the mean; the one with
        the lighter tail is taken. UnusableInput where there is none: above 3.868 means.
        """
        if mean_s <= 0 or p95_s <= 0:
            raise unusable("p95_s", f"{p95_s:g} with a mean of {mean_s:g}", "a mean and a percentile above 0")
        slack = _P95**2 - 2 * math.log(p95_s / mean_s)
        if slack < 0:
            raise unusable("p95_s", f"{p95_s:g} with a mean of {mean_s:g}", "at most 3.868 means")
        root = math.sqrt(slack)
        return cls(mean_s, _P95 - root if p95_s >= mean_s else _P95 + root)

    def survival(self, t: Floats) -> Floats:
        return _upper(self._scaled(t))

    def integrated_survival(self, t: Floats) -> Floats:
        """E min(hold, t) = mean P(short of t, weighted by length) + t P(hold > t)."""
        scaled = self._scaled(t)
        # At infinity all is in the first part.
        rest = np.where(np.isfinite(t), t, 0.0) * _upper(scaled)
        return self.mean_s * (1 - _upper(scaled - self.sigma)) + rest

    def smooth_from(self, period_s: float) -> Parameter:
        """Near t it falls within some sigma t: a sum by periods of a bell so wide is its integral."""
        with np.errstate(divide="ignore"):
            # Without a spread it is a fixed hold: never.
            return np.divide(_WIDE * period_s, self.sigma)

    def simple(self) -> Iterator[Simple]:
        sigma = float(self.sigma)
        yield Simple(1.0, self, Draw.LOGNORMAL, math.log(self.mean_s) - sigma**2 / 2, sigma)

    def _scaled(self, t: Floats) -> Floats:
        """(log t - mu) / sigma."""
        with np.errstate(divide="ignore", invalid="ignore"):
            distance = np.log(t / self.mean_s) + np.square(self.sigma) / 2
            without_spread = np.where(distance < 0, -np.inf, np.inf)
            return np.where(np.equal(self.sigma, 0), without_spread, distance / self.sigma)


def _upper(z: Floats) -> Floats:
    """The standard normal's upper tail."""
    return np.asarray(_erfc(z / _ROOT_2), dtype=np.float64) / 2
