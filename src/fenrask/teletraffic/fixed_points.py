"""Shares that depend on themselves: what is refused changes what comes, and that changes what is refused."""

from collections.abc import Callable

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["where_equal"]

_TURNS, _NEAR = 60, 1e-10
_OWN, _HALVED = 2, 6
"""So many of its own values are tried first; of so many turns one halves what is left."""


def where_equal(of: Callable[[Floats], Floats], shape: tuple[int, ...]) -> Floats:
    """The share from 0 to 1 that a function of it is equal to, above it before and below it after; of a shape.

    Its own values are tried first, which is near where it hardly changes; then regula falsi as Anderson & Bjorck have
    it (BIT 13, 1973), with a halving now and then: it never leaves its bracket.
    """
    low, high, side = np.zeros(shape), np.ones(shape), np.zeros(shape)
    below, above = of(low) - low, of(high) - high
    # Where nothing is refused of nothing that comes again, nothing is.
    none = below <= 0
    high = np.where(none, 0.0, high)
    told = below
    for turn in range(_TURNS):
        if turn < _OWN:
            middle = np.clip(told, low, high)
        else:
            span = np.where(below > above, below - above, 1.0)
            part = np.where(below > above, below / span, 0.5) if turn % _HALVED else np.full(shape, 0.5)
            middle = np.clip(low + part * (high - low), low, high)
        told = of(middle)
        value = told - middle
        more = value > 0
        # An end that stays twice counts for less, by how the other one fell.
        stays = np.where(more, side > 0, side < 0)
        fell = 1 - value / np.where(more, np.where(none, 1.0, below), np.where(above < 0, above, -1.0))
        less = np.where(stays, np.where(fell > 0, fell, 0.5), 1.0)
        below, above = np.where(more, value, below * less), np.where(more, above * less, value)
        low, high, side = np.where(more, middle, low), np.where(more, high, middle), np.where(more, 1.0, -1.0)
        if np.all((high - low <= _NEAR * high) | (np.abs(value) <= _NEAR * middle)):
            break
    result: Floats = np.where(none, 0.0, middle)
    return result
