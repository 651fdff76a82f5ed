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
from numpy.typing import ArrayLike, NDArray

from fenrask.teletraffic.arguments import Floats, broadcast, unusable
from fenrask.teletraffic.holding import HoldingTime, Stacks, stacked

__all__ = [
    "Peak",
    "concurrent",
    "concurrent_each",
    "concurrent_rows",
    "concurrent_sum",
    "Summands",
    "peak_concurrent",
    "peak_near",
]

_MOST_STEPS = 250_000
"""Steps that are followed backward: 28 years of hours. Of holds that last for years in the mean, what lies beyond is
taken at the mean rate, which moves the result by some millionths."""
_REST = 1e-13
_PERIODS = 16
"""Periods that are followed backward before the rest is summed up at once."""
_GREGORY = (1 / 2, -1 / 12, 1 / 24, -19 / 720, 3 / 160, -863 / 60480, 275 / 24192)
"""What a sum is more than its integral, by the differences at its beginning."""
_NODES, _SHARES = np.polynomial.legendre.leggauss(4)
_LEVEL = 1e-10
"""Values that differ by less, as a share, count as one height."""
_AT_ONCE = 100_000
"""Products up to which one call does all; beyond, moment by moment, it would take too much memory."""
_FIRST_STEPS = 4
"""Steps that are followed back at first: most holds are shorter."""
_LOOKED_AT = 13
"""Moments that are looked at in each round of the search for a peak."""
_ROUNDS = 5
_POINTS = 4
"""Moments in each step that are looked at before a peak is refined."""


def concurrent(times_s: ArrayLike, rates_per_s: ArrayLike, step_s: float, holding_time: HoldingTime) -> Any:
    """Mean connections held at `times_s`, for rates that repeat after `len(rates_per_s) * step_s`.

    times_s: any shape, s, of any sign; rates_per_s: shape (n_steps,), new connections per second, each
    valid from its step's start; step_s: length of a step, s, above 0; holding_time: the law of holds. Returns floats
    of the shape of times_s. UnusableInput for a step of 0 or rates that are negative or not finite.
    """
    times = np.asarray(times_s, dtype=np.float64)
    return concurrent_each(times.ravel(), rates_per_s, step_s, [holding_time])[0].reshape(times.shape)[()]


def concurrent_each(
    times_s: ArrayLike, rates_per_s: ArrayLike, step_s: float, holds: Sequence[HoldingTime] | Stacks
) -> Floats:
    """`concurrent` for many laws, or their stacks: shape (n_holds, n_times), for times_s of shape (n_times,)."""
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    if rates.ndim != 1 or not rates.size:
        raise unusable("rates_per_s", f"an array of shape {rates.shape}", "at least one rate")
    stacks = holds if isinstance(holds, Stacks) else Stacks(stacked(holds))
    return concurrent_rows(times_s, rates[None], np.zeros(stacks.laws, dtype=np.intp), step_s, stacks)


def concurrent_rows(
    times_s: ArrayLike, profiles: ArrayLike, which_profile: NDArray[np.intp], step_s: float, stacks: Stacks
) -> Floats:
    """The same where each law has a profile of its own: shape (n_holds, n_times).

    profiles: shape (n_profiles, n_steps), rates by step; which_profile: the number of each law's, shape (n_holds,).
    """
    rates = np.asarray(profiles, dtype=np.float64)
    moments, which, current = _phases(times_s, rates.shape[1], step_s)
    means, uneven = rates.mean(axis=1), _unevenness(rates)
    level = np.ptp(rates, axis=1) == 0
    result = np.empty((stacks.laws, which.size))
    if np.all(level[which_profile]):
        for numbers, law in stacks:
            result[numbers] = (rates[:, 0][which_profile[numbers]] * np.ravel(law.mean_s))[:, None]
        return result
    places = [np.flatnonzero(which == number) for number in range(moments.size)]
    for numbers, law in stacks:
        weights, rest = _weights(moments, rates.shape[1], uneven, step_s, law)
        steps, of_law, rows = weights.shape[2], which_profile[numbers], np.asarray(numbers)
        for profile in np.unique(of_law).tolist():
            some = np.flatnonzero(of_law == profile)
            back = _before(rates[profile], current, steps)
            if which.size * some.size * steps <= _AT_ONCE:
                together = np.einsum("tln,nt->lt", weights[:, some][which], back)
                result[rows[some]] = together + rest[:, some][which].T * means[profile]
                continue
            for weight, left, here in zip(weights, rest, places, strict=True):
                values = weight[some] @ back[:, here] + left[some, None] * means[profile]
                result[rows[some][:, None], here] = values
        flat = level[of_law]
        if flat.any():
            result[rows[flat]] = (rates[:, 0][of_law[flat]] * np.ravel(law.mean_s)[flat])[:, None]
    return result


@dataclass(frozen=True)
class Summands:
    """Loads to be added up: of each the number of its profile, so many times that, and its law, or all laws' stacks.

    profile, factors: shape (n_holds,).
    """

    profile: Sequence[int] | NDArray[np.intp]
    factors: Floats
    holds: Sequence[HoldingTime] | Stacks


def concurrent_sum(times_s: ArrayLike, profiles: ArrayLike, step_s: float, loads: Summands) -> Floats:
    """All loads together, each with a law and a profile of its own: shape (n_times,), for times_s of shape (n_times,).

    profiles: shape (n_profiles, n_steps), rates by step, each valid from its step's start. A law's weights are the
    same whatever the profile, so they are worked out once and added up before they meet it.
    """
    rates = np.asarray(profiles, dtype=np.float64)
    steps = rates.shape[1]
    moments, which, current = _phases(times_s, steps, step_s)
    means, uneven = rates.mean(axis=1), _unevenness(rates)
    of_load, holds = np.asarray(loads.profile, dtype=np.intp), loads.holds
    weighed, left = np.zeros((rates.shape[0], moments.size, steps)), np.zeros(moments.size)
    for numbers, law in holds if isinstance(holds, Stacks) else Stacks.of(holds):
        weights, rest = _weights(moments, steps, uneven, step_s, law)
        number, times = of_load[numbers], loads.factors[numbers]
        left += rest @ (times * means[number])
        # Those of one profile side by side, so that one pass adds them all up.
        order = np.argsort(number, kind="stable")
        present, first = np.unique(number[order], return_index=True)
        scaled = weights[:, order] * times[order, None]
        weighed[present, :, : weights.shape[2]] += np.add.reduceat(scaled, first, axis=1).swapaxes(0, 1)
    before = rates[:, np.mod(current - np.arange(steps)[:, None], steps)]
    total: Floats = left[which] + np.einsum("ptn,pnt->t", weighed[:, which], before)
    return total


def _phases(times_s: ArrayLike, steps: int, step_s: float) -> tuple[Floats, NDArray[np.intp], NDArray[np.intp]]:
    """The distinct moments inside a step, s; which of them each time is; and the step in which each time lies."""
    if not np.isfinite(step_s) or step_s <= 0:
        raise unusable("step_s", repr(step_s), "a step above 0 s")
    times = np.asarray(times_s, dtype=np.float64)
    if not np.all(np.isfinite(times)):
        raise unusable("times_s", "a time that is not finite", "finite times, s")
    phase = np.mod(times, steps * step_s)
    current = np.minimum((phase / step_s).astype(np.intp), steps - 1)
    moments, which = np.unique(np.maximum(phase - current * step_s, 0.0), return_inverse=True)
    return moments, which, current


def _before(rates: Floats, current: NDArray[np.intp], steps: int) -> Floats:
    """Column i holds the rates of so many steps before that of time i, the latest first; shape (steps, n_times)."""
    before: Floats = rates[np.mod(current - np.arange(steps)[:, None], rates.size)]
    return before


def _unevenness(rates: Floats) -> float:
    """By how much the rates of any row differ, in means of it; 0 for none."""
    means, spread = rates.mean(axis=1), np.ptp(rates, axis=1)
    return float(np.max(np.divide(spread, means, out=np.zeros_like(means), where=means > 0), initial=0.0))


@dataclass(frozen=True)
class Peak:
    """The busiest moment: when, how many are held, and how long after the first highest step began it is."""

    time_s: float
    concurrent: float
    lag_s: float


def peak_concurrent(
    rates_per_s: ArrayLike, step_s: float, holding_time: HoldingTime, known: Floats | None = None
) -> Peak:
    """The busiest moment of a period, between steps too, with its lag behind the start of the highest rate.

    Arguments as those of `concurrent`; known: its values at the quarters of each step, shape (4 n_steps,), where
    they have been computed. The lag is positive, within one period.
    """
    (rates,) = broadcast(rates_per_s=np.atleast_1d(np.asarray(rates_per_s, dtype=np.float64)))
    period = rates.size * step_s
    grid: Floats = np.arange(rates.size * _POINTS, dtype=np.float64) * float(step_s / _POINTS)
    fits = known is not None and known.shape == grid.shape
    values = known if fits and known is not None else concurrent_each(grid, rates, step_s, [holding_time])[0]
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
    nearest = width / ((_LOOKED_AT - 1) / 2) ** _ROUNDS
    for turn in range(_ROUNDS if width else 0):
        near = time + width * np.linspace(-1, 1, _LOOKED_AT)
        found = concurrent_at(near)
        value = max(value, float(np.max(found)))
        before, time = time, float(near[np.flatnonzero(found >= value * (1 - _LEVEL))[0]])
        width /= (_LOOKED_AT - 1) / 2
        # Most peaks are where a busy step ends: it falls to both sides, and no closer look finds more.
        if turn == 0 and time == before:
            beside = concurrent_at(np.array([time - nearest, time + nearest]))
            if np.max(beside) < value * (1 - _LEVEL):
                break
    return time, value


def _weights(inside: Floats, n: int, uneven: float, step_s: float, holding_time: HoldingTime) -> tuple[Floats, Floats]:
    """How much each of the steps before a moment counts, s, whole periods folded; and what is left of the mean hold.

    inside: moments, s from their step's start; uneven: by how much the rates differ, in means. Shapes (n_moments,
    n_laws, n_steps) and (n_moments, n_laws), with at most n steps: those beyond the holding times count for nothing.
    Steps are taken backward until what lies further cannot matter: beyond x the sum is the mean rate times what is
    left, give or take P(hold > x) times the period times the spread of the rates (integration by parts). Of holds of
    which a few last for very long, what lies further is summed up at once (`_beyond`) as soon as that is exact.
    """
    mean = np.atleast_2d(holding_time.mean_s)
    spread = uneven * n * step_s
    shape = (inside.size, mean.shape[0])
    folded, reached, before, batch = np.zeros((*shape, 0)), np.zeros((*shape, 1)), 0, min(n, _FIRST_STEPS)
    while before < _MOST_STEPS:
        steps = step_s * np.arange(before - 1, before + batch)
        edges = np.maximum(inside[:, None, None] + steps, 0.0)
        grown = holding_time.integrated_survival(edges)
        parts = np.diff(grown, axis=2)
        if before < n:
            folded = np.concatenate([folded, parts], axis=2) if before else parts
        else:
            folded += parts.reshape(*shape, -1, n).sum(axis=2)
        reached, before = grown[..., -1:], before + batch
        if np.all(holding_time.survival(edges[:1, :, -1:])[0] * spread <= _REST * mean):
            break
        if before >= _PERIODS * n and np.all(holding_time.smooth_from(step_s * n) <= step_s * (before - n)):
            further, left_out = _beyond(inside, n, before, step_s, holding_time)
            if left_out * n * uneven <= _REST * np.min(mean):
                return folded + further, np.zeros(shape)
        # First the rest of the period, then whole ones.
        batch = n - before if before < n else n if before == n else min(2 * batch, n * max(1, 65_536 // n))
    return folded, np.maximum(0.0, mean - reached)[..., 0]


def _beyond(inside: Floats, n: int, before: int, step_s: float, holding_time: HoldingTime) -> tuple[Floats, float]:
    """What all steps further back than `before`, whole periods, count for together, folded; and the last term of it.

    The sum over periods of a smooth function is its integral and a series in its differences at the beginning
    (Gregory's formula: Whittaker and Robinson 1924, "The Calculus of Observations", section 72). The integral over all
    that lies beyond is one over a single step of what is left of the mean, by Gauss and Legendre's rule.
    """
    periods = len(_GREGORY)
    edges = inside[:, None, None] + step_s * np.arange(before - 1, before + periods * n)
    counted = np.diff(holding_time.integrated_survival(edges), axis=2)
    differences = counted.reshape(*counted.shape[:2], periods, n)
    begins = inside[:, None, None, None] + step_s * np.arange(before - 1, before + n - 1)[:, None]
    nodes = (begins + step_s * (1 + _NODES) / 2).reshape(inside.size, 1, -1)
    mean = np.atleast_2d(holding_time.mean_s)
    left = np.maximum(0.0, mean - holding_time.integrated_survival(nodes)).reshape(*counted.shape[:2], n, -1)
    total: Floats = left @ _SHARES / (2 * n)
    for factor in _GREGORY:
        term = factor * differences[:, :, 0]
        total = total + term
        differences = np.diff(differences, axis=2)
    return total, float(np.max(np.abs(term)))
