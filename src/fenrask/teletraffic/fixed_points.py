"""Shares that depend on themselves: what is refused changes what comes, and that changes what is refused."""

from collections.abc import Callable

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["where_equal"]

_TURNS, _NEAR = 60, 1e-10


def where_equal(of: Callable[[Floats], Floats], shape: tuple[int, ...]) -> Floats:
    """The share from 0 to 1 that a function of it is equal to, above it before and below it after; of a shape.

    By regula falsi in the Illinois form with a halving now and then: it never leaves its bracket.
    """
    low, high = np.zeros(shape), np.ones(shape)
    below, above = of(low) - low, of(high) - high
    # Where nothing is refused of nothing that comes again, nothing is.
    high = np.where(below <= 0, 0.0, high)
    for turn in range(_TURNS):
        span = np.where(below > above, below - above, 1.0)
        part = np.where(below > above, below / span, 0.5) if turn % 4 != 3 else np.full(shape, 0.5)
        middle = np.clip(low + part * (high - low), low, high)
        value = of(middle) - middle
        more = value > 0
        low, high = np.where(more, middle, low), np.where(more, high, middle)
        below, above = np.where(more, value, below / 2), np.where(more, above / 2, value)
        if np.all((high - low <= _NEAR * high) | (np.abs(value) <= _NEAR * middle)):
            break
    result: Floats = np.where(below <= 0, 0.0, middle)
    return result
