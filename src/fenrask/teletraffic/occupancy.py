"""Connections held over time: the M_t/G/infinity mean for rates that repeat, exact for steps of any length.

m(t) is the integral over u of rate(t - u) P(hold > u), and the number held is Poisson with that mean
(Eick, Massey & Whitt, "The physics of the M_t/G/infinity queue", Operations Research 41, 1993). For rates
constant by steps it is a sum of differences of the hold's integrated survival function: nothing is
simulated, and no step is cut into smaller ones.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, unusable
from fenrask.teletraffic.holds import Hold

__all__ = ["Peak", "held", "peak_held"]

_MOST_STEPS = 2_000_000
_REST = 1e-13
_GOLDEN = (5**0.5 - 1) / 2


def held(times_s: ArrayLike, rates_per_s: ArrayLike, step_s: float, hold: Hold) -> Any:
    """Mean connections held at `times_s`, for rates that repeat after `len(rates_per_s) * step_s`.

    times_s: any shape, s, of any sign; rates_per_s: shape (n_steps,), new connections per second, each
    valid from its step's start; step_s: length of a step, s, above 0; hold: the law of holds. Returns floats
    of the shape of times_s. UnusableInput for a step of 0 or rates that are negative or not finite.
    """
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    if rates.ndim != 1 or not rates.size or not np.isfinite(step_s) or step_s <= 0:
        raise unusable("step_s", f"{step_s!r} with {rates.size} rates", "a step above 0 s, and at least one rate")
    times = np.asarray(times_s, dtype=np.float64)
    if not np.all(np.isfinite(times)):
        raise unusable("times_s", "a time that is not finite", "finite times, s")
    period = rates.size * step_s
    phase = np.mod(times, period)
    flat = np.array([_held_at(float(one), rates, step_s, hold) for one in phase.flat])
    return flat.reshape(times.shape)[()]


@dataclass(frozen=True)
class Peak:
    """The busiest moment: when, how many are held, and how long after the rate's last highest step began it is."""

    time_s: float
    held: float
    lag_s: float


def peak_held(rates_per_s: ArrayLike, step_s: float, hold: Hold) -> Peak:
    """The busiest moment of a period, between steps too, with its lag behind the start of the highest rate.

    Within a step the number held moves without a jump, so that the best of a few points in each step is
    refined by golden section. Arguments as those of `held`; the lag is positive, within one period.
    """
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    period = rates.size * step_s
    grid = np.arange(rates.size * 4) * (step_s / 4)
    values = np.stack([_held_in_steps(part * step_s / 4, rates, step_s, hold) for part in range(4)], axis=1).ravel()
    best = int(np.argmax(values))
    low, high = grid[best] - step_s / 4, grid[best] + step_s / 4
    one, other = high - _GOLDEN * (high - low), low + _GOLDEN * (high - low)
    at_one, at_other = held(one, rates, step_s, hold), held(other, rates, step_s, hold)
    for _ in range(40):
        if at_one >= at_other:
            high, other, at_other = other, one, at_one
            one = high - _GOLDEN * (high - low)
            at_one = held(one, rates, step_s, hold)
        else:
            low, one, at_one = one, other, at_other
            other = low + _GOLDEN * (high - low)
            at_other = held(other, rates, step_s, hold)
    time = (low + high) / 2
    value = float(held(time, rates, step_s, hold))
    if value <= values[best]:
        time, value = float(grid[best]), float(values[best])
    start = float(np.argmax(rates)) * step_s
    return Peak(float(np.mod(time, period)), value, float(np.mod(time - start, period)))


def _held_at(phase: float, rates: Floats, step_s: float, hold: Hold) -> float:
    """m at one time of the period."""
    n = rates.size
    current = min(int(phase / step_s), n - 1)
    weights, rest = _weights(phase - current * step_s, rates, step_s, hold)
    return float(np.dot(rates[np.mod(current - np.arange(n), n)], weights)) + rest * float(np.mean(rates))


def _held_in_steps(inside: float, rates: Floats, step_s: float, hold: Hold) -> Floats:
    """m at the same moment of every step, shape (n_steps,): a circular convolution."""
    weights, rest = _weights(inside, rates, step_s, hold)
    around = np.fft.irfft(np.fft.rfft(rates) * np.fft.rfft(weights), rates.size)
    found: Floats = around + rest * np.mean(rates)
    return found


def _weights(inside: float, rates: Floats, step_s: float, hold: Hold) -> tuple[Floats, float]:
    """How much each step before a moment counts, s, whole periods folded; and what is left of the mean hold.

    Steps are taken backward until what lies further cannot matter: beyond x the sum is the mean rate times
    what is left, give or take P(hold > x) times the period times the spread of the rates (integration by parts).
    """
    n = rates.size
    spread, scale = float(np.ptp(rates)) * n * step_s, float(np.mean(rates)) * hold.mean_s
    batch = n * max(1, -(-256 // n))
    folded, reached, before = np.zeros(n), 0.0, 0
    while before < _MOST_STEPS:
        edges = np.maximum(inside + step_s * np.arange(before - 1, before + batch), 0.0)
        grown = hold.integrated_survival(edges)
        folded += np.diff(grown).reshape(-1, n).sum(axis=0)
        reached, before = float(grown[-1]), before + batch
        if float(hold.survival(edges[-1:])[0]) * spread <= _REST * scale:
            break
    return folded, max(0.0, hold.mean_s - reached)
