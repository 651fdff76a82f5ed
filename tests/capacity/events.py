"""A simulation of a pool of ports, event by event, in plain Python: nothing of the program's own."""

import heapq
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def refused(times: Floats, holds: Floats, ports: int) -> NDArray[np.bool_]:
    """Connections as they come, in order, each with its hold: whether so many ports refuse each."""
    ends: list[float] = []
    found = np.zeros(times.size, dtype=bool)
    for place, (time, hold) in enumerate(zip(times.tolist(), holds.tolist(), strict=True)):
        while ends and ends[0] <= time:
            heapq.heappop(ends)
        if len(ends) < ports:
            heapq.heappush(ends, time + hold)
        else:
            found[place] = True
    return found


def at_levels(dice: np.random.Generator, rate: float, levels: Sequence[float] | Floats, each_s: float) -> Floats:
    """Arrival times of a rate that is so many times its mean in one stretch of `each_s` seconds after the other."""
    numbers = dice.poisson(rate * each_s * np.asarray(levels))
    begins = np.repeat(np.arange(numbers.size) * each_s, numbers)
    return np.sort(begins + dice.uniform(0.0, each_s, begins.size))


def lognormal(dice: np.random.Generator, cv: float, size: int) -> Floats:
    """Levels of a mean of 1."""
    sigma = np.sqrt(np.log1p(cv * cv))
    return dice.lognormal(-sigma * sigma / 2, sigma, size)
