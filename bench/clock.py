"""Timing in pairs, so that drift of the machine's speed falls on both sides alike."""

import statistics
import time
from collections.abc import Callable

__all__ = ["best_s", "paired_ratio"]


def best_s(call: Callable[[], object], times: int = 3) -> float:
    """The least processor time of several runs, s."""
    return min(_once(call) for _ in range(times))


def paired_ratio(one: Callable[[], object], other: Callable[[], object], times: int = 9) -> tuple[float, float, float]:
    """Median wall time of each, s, measured in turn, and the median of the ratios pair by pair."""
    pairs = [(_wall(one), _wall(other)) for _ in range(times)]
    ratios = [a / b for a, b in pairs]
    return (
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
        statistics.median(ratios),
    )


def _once(call: Callable[[], object]) -> float:
    start = time.process_time()
    call()
    return time.process_time() - start


def _wall(call: Callable[[], object]) -> float:
    start = time.perf_counter()
    call()
    return time.perf_counter() - start
