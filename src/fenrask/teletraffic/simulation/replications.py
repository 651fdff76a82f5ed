"""Runs again and again until the refused share is known well enough: the same whatever the number of workers."""

import math
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np

from fenrask.errors import WorkersLost
from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.simulation.settings import Run, Setting

__all__ = ["Found", "Interrupted", "Stop", "Watch", "interval", "replicated", "students"]

_FEW, _MANY, _SMALL = 2, 16, 2e6
"""Runs between two looks at the interval, by the size of a run; the looks are the same for any number of workers."""


@dataclass(frozen=True)
class Stop:
    """When to stop: at an interval whose half is `precision` of the refused share, or that lies below what is
    negligible; else after so many runs or attempts."""

    precision: float = 0.1
    negligible: float = 0.0
    most_runs: int = 200
    most_attempts: float = 2e8


@dataclass(frozen=True)
class Found:
    """What the runs of one setting showed.

    share: refused of all attempts; low and high: its 95 % interval, from the spread between runs. by_step: refused
    share of each step over all runs; held_mean, held_low, held_high: held at the end of each step, its mean and its
    5th and 95th percentile; all of shape (n_steps,).
    """

    runs: int
    attempts: int
    blocked: int
    share: float
    low: float
    high: float
    precise: bool
    by_step: Floats
    attempts_by_step: Floats
    held_mean: Floats
    held_low: Floats
    held_high: Floats
    let_go: int
    at_host: int = 0
    """Calls of all runs that hosts did not open, by limits of their own: they are no attempts."""
    served: tuple[float, ...] = ()
    """Calls of all runs that were served at each try, at last those that never were; empty where nothing tells."""
    interrupted: bool = False


@dataclass(frozen=True)
class Watch:
    """Who looks on: hears of runs done and of about how many it will take; ends all when there is enough."""

    told: Callable[[int, int], None] = lambda *_: None
    ended: Callable[[], bool] = lambda: False


def replicated(
    setting: Setting, executor: Executor, stop: Stop | None = None, seed: int = 1, watch: Watch = Watch()
) -> Found:
    """Run a setting in batches until the stop; between batches the watch may make do with what there is.

    At least one batch is run, but for an
    interrupt from the keyboard or the loss of the workers: then what is done counts, and Interrupted is raised where
    that is not even two runs.
    """
    rule = stop or Stop()
    runs: list[Run] = []
    calls = setting.calls
    expected = float(np.mean(calls.drawn.rates)) * calls.steps * calls.step_s
    batch = int(min(_MANY, max(_FEW, _SMALL // max(1.0, expected))))
    try:
        while True:
            numbers = range(len(runs), min(len(runs) + batch, max(2, rule.most_runs)))
            _run(setting, executor, seed, numbers, runs)
            found = _summed(runs, rule)
            watch.told(len(runs), max(len(runs), math.ceil(_runs_needed(found, rule))))
            enough = len(runs) >= rule.most_runs or found.attempts >= rule.most_attempts
            if found.precise or enough or watch.ended():
                return found
    except (KeyboardInterrupt, WorkersLost) as stopped:
        if len(runs) < 2:
            why = str(stopped) if isinstance(stopped, WorkersLost) else "stopped before two runs were done"
            raise Interrupted(why) from None
        return replace(_summed(runs, rule), interrupted=True)


class Interrupted(Exception):
    """Stopped from the keyboard, or left by its workers, before anything was known."""


def _run(setting: Setting, executor: Executor, seed: int, numbers: range, runs: list[Run]) -> None:
    """One batch onto the runs, in order; what is not done by an interrupt is not waited for."""
    futures = [executor.submit(setting.run, seed, number) for number in numbers]
    try:
        for run in futures:
            runs.append(run.result())
    finally:
        for future in futures:
            future.cancel()


def _runs_needed(found: Found, rule: Stop) -> float:
    """Of the stop's limits the first that will be met, as things look."""
    by_attempts = rule.most_attempts / max(1.0, found.attempts / found.runs)
    most = min(rule.most_runs, by_attempts)
    if not found.share:
        return most
    half = (found.high - found.low) / 2 / found.share
    return min(most, found.runs * (half / rule.precision) ** 2) if rule.precision else most


def _summed(runs: list[Run], rule: Stop) -> Found:
    attempts = np.array([run.attempts.sum() for run in runs], dtype=np.float64)
    blocked = np.array([run.blocked.sum() for run in runs], dtype=np.float64)
    low, share, high = interval(attempts, blocked)
    offered = np.sum([run.attempts for run in runs], axis=0).astype(np.float64)
    lost = np.sum([run.blocked for run in runs], axis=0).astype(np.float64)
    concurrent = np.stack([run.concurrent for run in runs]).astype(np.float64)
    by_step = np.divide(lost, offered, out=np.zeros_like(lost), where=offered > 0)
    return Found(
        len(runs),
        int(attempts.sum()),
        int(blocked.sum()),
        share,
        low,
        high,
        (share > 0 and (high - low) / 2 <= rule.precision * share) or high <= rule.negligible,
        by_step,
        offered,
        concurrent.mean(axis=0),
        np.percentile(concurrent, 5, axis=0),
        np.percentile(concurrent, 95, axis=0),
        sum(run.let_go for run in runs),
        sum(run.at_host for run in runs),
        _served(runs),
    )


def _served(runs: list[Run]) -> tuple[float, ...]:
    some = [run.served for run in runs if run.served is not None]
    return tuple(np.sum(some, axis=0).astype(float).tolist()) if some else ()


def interval(attempts: Floats, blocked: Floats, level: float = 0.95) -> tuple[float, float, float]:
    """Low, estimate and high of a ratio of sums, from independent runs; each of shape (n_runs,), n_runs at least 2.

    The ratio estimator's interval by the spread of its residuals (Cochran 1977, "Sampling techniques", chapter 6),
    with Student's quantile. Where nothing was refused at all, high is the share at which that had a chance of 1 - level
    were refusals alone as likely each (the rule of three).
    """
    n, total = attempts.size, float(attempts.sum())
    if not total:
        return 0.0, 0.0, 0.0
    share = float(blocked.sum()) / total
    if not blocked.any():
        return 0.0, 0.0, -math.log(1 - level) / total
    residuals = blocked - share * attempts
    deviation = math.sqrt(float(np.dot(residuals, residuals)) / (n - 1) / n) / (total / n)
    half = students((1 + level) / 2, n - 1) * deviation
    return max(0.0, share - half), share, min(1.0, share + half)


def students(p: float, freedom: int) -> float:
    """Student's quantile by the expansion in the normal's (Abramowitz & Stegun 1964, 26.7.5); freedom at least 1."""
    if freedom == 1:
        return math.tan(math.pi * (p - 0.5))
    if freedom == 2:
        return (2 * p - 1) * math.sqrt(2 / (4 * p * (1 - p)))
    z = NormalDist().inv_cdf(p)
    v = freedom
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + math.fsum(term / float(v) ** (power + 1) for power, term in enumerate(terms))
