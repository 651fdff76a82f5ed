"""Connections held over time: the M_t/G/infinity mean for rates that repeat, exact for steps of any length.

m(t) is the integral over u of rate(t - u) P(hold > u), and the number held is Poisson with that mean
(Eick, Massey & Whitt, "The physics of the M_t/G/infinity queue", Operations Research 41, 1993). For rates
constant by steps it is a sum of differences of the hold's integrated survival function: nothing is
simulated, and no step is cut into smaller ones.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats, broadcast, unusable
from fenrask.teletraffic.holding import HoldingTime, stacked

__all__ = ["Peak", "concurrent", "concurrent_each", "peak_concurrent", "peak_near"]

_MOST_STEPS = 2_000_000
_REST = 1e-13
_LEVEL = 1e-10
"""Values that differ by less, as a share, count as one height."""
_AT_ONCE = 100_000
"""Products up to which one call does all; beyond, moment by moment, it would take too much memory."""
_POINTS = 4
"""Moments in each step that are looked at before a peak is refined."""


def concurrent(times_s: ArrayLike, rates_per_s: ArrayLike, step_s: float, holding_time: HoldingTime) -> Any:
    """Mean connections held at `times_s`, for rates that repeat after `len(rates_per_s) * step_s`.

    times_s: any shape, s, of any sign; rates_per_s: shape (n_steps,), new connections per second, each
    valid from its step's start; step_s: length of a step, s, above 0; hold: the law of holds. Returns floats
    of the shape of times_s. UnusableInput for a step of 0 or rates that are negative or not finite.
    """
    times = np.asarray(times_s, dtype=np.float64)
    return concurrent_each(times.ravel(), rates_per_s, step_s, [holding_time])[0].reshape(times.shape)[()]


def concurrent_each(times_s: ArrayLike, rates_per_s: ArrayLike, step_s: float, holds: Sequence[HoldingTime]) -> Floats:
    """`held` for many laws at once: shape (n_holds, n_times), for times_s of shape (n_times,)."""
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    if rates.ndim != 1 or not rates.size or not np.isfinite(step_s) or step_s <= 0:
        raise unusable("step_s", f"{step_s!r} with {rates.size} rates", "a step above 0 s, and at least one rate")
    times = np.asarray(times_s, dtype=np.float64)
    if not np.all(np.isfinite(times)):
        raise unusable("times_s", "a time that is not finite", "finite times, s")
    phase = np.mod(times, rates.size * step_s)
    current = np.minimum((phase / step_s).astype(int), rates.size - 1)
    inside = np.maximum(phase - current * step_s, 0.0)
    result = np.empty((len(holds), times.size))
    if np.ptp(rates) == 0:
        result[:] = rates[0] * np.array([[law.mean_s] for law in holds], dtype=np.float64).reshape(-1, 1)
        return result
    moments, which = np.unique(inside, return_inverse=True)
    # Column i of `back` holds the rates of the steps before that of time i, the latest first.
    back = rates[np.mod(current - np.arange(rates.size)[:, None], rates.size)]
    mean_rate = float(np.mean(rates))
    places = [np.flatnonzero(which == number) for number in range(moments.size)]
    for numbers, law in stacked(holds):
        weights, rest = _weights(moments, rates, step_s, law)
        if times.size * len(numbers) * rates.size <= _AT_ONCE:
            together = np.einsum("tln,nt->lt", weights[which], back)
            result[numbers] = together + rest[which, :, 0].T * mean_rate
            continue
        for weight, left, here in zip(weights, rest, places, strict=True):
            result[np.array(numbers)[:, None], here] = weight @ back[:, here] + left * mean_rate
    return result


@dataclass(frozen=True)
class Peak:
    """The busiest moment: when, how many are held, and how long after the first highest step began it is."""

    time_s: float
    concurrent: float
    lag_s: float


def peak_concurrent(rates_per_s: ArrayLike, step_s: float, holding_time: HoldingTime) -> Peak:
    """The busiest moment of a period, between steps too, with its lag behind the start of the highest rate.

    Arguments as those of `held`; the lag is positive, within one period.
    """
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    period = rates.size * step_s
    grid: Floats = np.arange(rates.size * _POINTS, dtype=np.float64) * float(step_s / _POINTS)
    values = concurrent_each(grid, rates, step_s, [holding_time])[0]
    time, value = peak_near(lambda times: concurrent_each(times, rates, step_s, [holding_time])[0], grid, values)
    start = float(np.argmax(rates)) * step_s
    return Peak(float(np.mod(time, period)), value, float(np.mod(time - start, period)))


def peak_near(concurrent_at: Callable[[Floats], Floats], grid: Floats, values: Floats) -> tuple[float, float]:
    """The highest point of a function without jumps near the highest of its values on an even grid.

    Returns its time, which may lie a little before or after the grid, and its value. The surroundings are
    looked at ever closer. Of a level top the beginning is taken.
    """
    best = int(np.flatnonzero(values >= np.max(values) * (1 - _LEVEL))[0])
    time, value = float(grid[best]), float(values[best])
    width = float(grid[1] - grid[0]) if grid.size > 1 else 0.0
    for _ in range(3 if width else 0):
        near = time + width * np.linspace(-1, 1, 41)
        found = concurrent_at(near)
        value = max(value, float(np.max(found)))
        time = float(near[np.flatnonzero(found >= value * (1 - _LEVEL))[0]])
        width /= 20
    return time, value


def _weights(inside: Floats, rates: Floats, step_s: float, holding_time: HoldingTime) -> tuple[Floats, Floats]:
    """How much each step before a moment counts, s, whole periods folded; and what is left of the mean hold.

    inside: moments, s from their step's start. Shapes (n_moments, n_laws, n_steps) and (n_moments, n_laws, 1).
    Steps are taken backward until what lies further cannot matter: beyond x the sum is the mean rate times
    what is left, give or take P(hold > x) times the period times the spread of the rates (integration by parts).
    """
    n = rates.size
    mean = np.atleast_2d(holding_time.mean_s)
    spread, scale = float(np.ptp(rates)) * n * step_s, float(np.mean(rates)) * mean
    shape = (inside.size, mean.shape[0])
    folded, reached, before, batch = np.zeros((*shape, n)), np.zeros((*shape, 1)), 0, n
    while before < _MOST_STEPS:
        steps = step_s * np.arange(before - 1, before + batch)
        edges = np.maximum(inside[:, None, None] + steps, 0.0)
        grown = holding_time.integrated_survival(edges)
        folded += np.diff(grown, axis=2).reshape(*shape, -1, n).sum(axis=2)
        reached, before = grown[..., -1:], before + batch
        if np.all(holding_time.survival(edges[:1, :, -1:])[0] * spread <= _REST * scale):
            break
        batch = min(2 * batch, n * max(1, 65_536 // n))
    return folded, np.maximum(0.0, mean - reached)
