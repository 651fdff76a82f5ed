"""Elementary functions without cancellation, for probabilities by the saddle point (Loader 2000)."""

import math

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["log1pmx", "stirling_error"]


def log1pmx(x: Floats) -> Floats:
    """log(1 + x) - x without cancellation: with r = x / (2 + x), log(1 + x) = 2 (r + r^3/3 + r^5/5 + ...)."""
    r = x / (2 + x)
    largest = float(np.max(np.abs(r), initial=0.0))
    if largest > 0.35:
        with np.errstate(divide="ignore"):
            far: Floats = np.where(np.abs(x) < 0.5, log1pmx(np.clip(x, -0.5, 0.5)), np.log1p(x) - x)
        return far
    square = r * r
    terms = 2 if largest == 0 else max(2, math.ceil(-37 / (2 * math.log(largest))))
    total = np.full(x.shape, 1.0 / (2 * terms + 1))
    for k in range(terms - 1, 0, -1):
        total = total * square + 1.0 / (2 * k + 1)
    result: Floats = r * (2 * square * total - x)
    return result


def stirling_error(n: Floats) -> Floats:
    """log Gamma(n + 1) less Stirling's main part, n >= 16."""
    s = 1 / (n * n)
    return (1 / 12 - s * (1 / 360 - s * (1 / 1260 - s * (1 / 1680 - s * (1 / 1188 - s * 691 / 360360))))) / n
