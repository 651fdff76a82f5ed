"""Erlang's formula for many (ports, load) pairs against the recursion in plain Python."""

from collections.abc import Iterator

import numpy as np

from bench.clock import best_s
from fenrask.teletraffic import erlang_b

_PAIRS = 100_000
_SAMPLE = 20


def measure() -> Iterator[str]:
    """The recursion is timed on a sample of the same pairs and scaled up: all would take hours."""
    dice = np.random.default_rng(5)
    ports = np.floor(10 ** dice.uniform(0, 6, _PAIRS))
    load = ports * dice.uniform(0.5, 1.2, _PAIRS)
    ours = best_s(lambda: erlang_b(ports, load))
    plain = best_s(lambda: [_recursion(int(c), a) for c, a in zip(ports[:_SAMPLE], load[:_SAMPLE], strict=True)], 1)
    ratio = plain * _PAIRS / _SAMPLE / ours
    yield f"{_PAIRS:,} pairs up to 10^6 ports in {ours:.2f} s"
    yield f"{ratio:,.0f} times faster than the recursion (1,000 asked for)"


def _recursion(ports: int, load: float) -> float:
    blocking = 1.0
    for k in range(1, ports + 1):
        blocking = load * blocking / (k + load * blocking)
    return blocking
