"""How unevenly chance spreads: the busiest of several equal places, where each connection falls on any of them."""

from math import lgamma, log

import numpy as np

__all__ = ["busiest_part"]

_FEW = 400
"""Connections up to here are counted out; beyond, their number on each place is close to normal."""


def busiest_part(connections: float, places: int) -> float:
    """The mean number on the busiest place, as a factor of an even part; connections: at least 1, else one counts.

    Of few, the distribution of the most by counting (the coefficient of x^n in the k-th power of the exponential series
    cut off at m; Feller 1968, II.5); of many, the mean of the largest of normal deviates that sum to 0.
    """
    if places < 2:
        return 1.0
    number = max(1, round(connections))
    if number > _FEW:
        spread = float(np.sqrt((places - 1) / number))
        # Deviates that sum to 0 are as those that are free, less their mean: the largest is larger by this factor.
        return 1.0 + spread * _largest_of_normal(places) * float(np.sqrt(places / (places - 1)))
    logs = np.array([lgamma(j + 1) for j in range(number + 1)])
    # Scaled by the even part, so that terms neither vanish nor overflow.
    even = number / places
    weights = np.exp(np.arange(number + 1) * log(even) - logs - even)
    whole, mean = _power(weights, places)[number], 0.0
    for most in range(number):
        cut = np.where(np.arange(number + 1) <= most, weights, 0.0)
        at_most = _power(cut, places)[number] / whole
        mean += 1.0 - at_most
    return mean / even


def _power(series: np.ndarray, times: int) -> np.ndarray:
    """A series to a power, cut off at its length."""
    found, base = np.zeros_like(series), series
    found[0] = 1.0
    while times:
        if times & 1:
            found = np.convolve(found, base)[: series.size]
        base = np.convolve(base, base)[: series.size]
        times >>= 1
    return found


def _largest_of_normal(number: int) -> float:
    """The mean of the largest of so many normal deviates."""
    points = np.linspace(-8.0, 8.0, 4001)
    density = np.exp(-points * points / 2)
    below = np.cumsum(density)
    below /= below[-1]
    return float(points[-1] - np.sum(below**number) * (points[1] - points[0]))
