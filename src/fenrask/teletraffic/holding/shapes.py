"""Laws of lives as they are stated: by a word, a mean, and one more figure where a law needs one."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from fenrask.teletraffic.holding.contract import HoldingTime
from fenrask.teletraffic.holding.exponential import Exponential
from fenrask.teletraffic.holding.fixed import Fixed
from fenrask.teletraffic.holding.lognormal import Lognormal
from fenrask.teletraffic.holding.mixture import balanced

__all__ = ["SHAPES", "Shape", "law_of"]

_MOST_P95 = math.exp(1.6448536269514722**2 / 2)
"""A lognormal's p95 is mean * exp(1.645 s - s^2 / 2), largest at s = 1.645: 3.868 means."""


@dataclass(frozen=True)
class Shape:
    """A law of a mean, s, above 0, and of a figure; figure: its key, empty where it needs none.

    fits: whether there is such a law; expected: what it then has to be, in words.
    """

    law: Callable[[float, float], HoldingTime]
    figure: str = ""
    fits: Callable[[float, float], bool] = lambda *_: True
    expected: str = ""


SHAPES: dict[str, Shape] = {
    "exponential": Shape(lambda mean_s, _: Exponential(mean_s)),
    "fixed": Shape(lambda mean_s, _: Fixed(mean_s)),
    "lognormal": Shape(
        Lognormal.of_percentile,
        "p95",
        lambda mean_s, p95_s: 0 < p95_s <= mean_s * _MOST_P95,
        "a p95 that a lognormal of this mean can have: above 0, at most 3.868 means",
    ),
    "hyperexponential": Shape(balanced, "cv"),
}


def law_of(shape: str, mean_s: float, figure: float | None = None) -> HoldingTime:
    """The law that is stated so; holds of no length where the mean is 0."""
    return SHAPES[shape].law(mean_s, figure or 0.0) if mean_s else Fixed(0.0)
