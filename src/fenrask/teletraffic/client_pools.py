"""A client's pool: connections that requests share one after another, and that are closed when idle for long enough.

Requests in progress are an M/M/inf queue, or M/M/c where the pool has a most. A request takes the connection that was
used last, so that as many are open as were in use at once at any time in the last `idle_s`: the maximum of the queue
over a window. How often a level is first reached follows from the mean time to it (Keilson 1979, "Markov chain models:
rarity and exponentiality"): from below a level the time to it is close to exponential.
"""

from dataclasses import dataclass

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.erlang import erlang_b, log_poisson

__all__ = ["PoolUse", "pool_use"]

_SPREADS, _MORE = 12.0, 40


@dataclass(frozen=True)
class PoolUse:
    """What requests come to in one client.

    open: connections that are open in the mean; opened_per_s: new ones per s; wait_s: mean time that a request waits
    for a connection, infinite where the pool's most cannot serve them.
    """

    open: float
    opened_per_s: float
    wait_s: float


def pool_use(
    requests_per_s: float, request_s: float, idle_s: float, most: int | None = None, at_once: int = 1
) -> PoolUse:
    """The connections of one client, by requests per s, the mean time of one, s, and the idle time allowed, s.

    most: connections that the pool may have, at_once: requests that one connection carries at a time, where a
    connection is opened when all others are full.
    """
    offered = requests_per_s * request_s
    if offered <= 0:
        return PoolUse(0.0, 0.0, 0.0)
    slots = None if most is None else most * at_once
    if slots is not None and offered >= slots:
        return PoolUse(float(slots // at_once), 0.0, np.inf)
    highest = int(offered + _SPREADS * np.sqrt(offered)) + _MORE
    levels = np.arange(highest if slots is None else min(highest, slots), dtype=np.float64)
    weights = np.exp(log_poisson(levels, np.full(levels.size, offered)))
    below = np.cumsum(weights)
    wait = 0.0
    if slots is not None:
        # Of M/M/c: those that wait are beside those in service (Erlang 1917).
        blocked = float(erlang_b(slots, offered))
        waits = blocked / (1 - offered / slots * (1 - blocked))
        wait = waits * request_s / (slots - offered)
        served = below[-1] if slots == levels.size else 1.0
        # Below the most, weights are those of Poisson; all states together are 1.
        weights, below = weights * (1 - waits) / served, below * (1 - waits) / served
    per_s = _first_reached(requests_per_s, weights, below)
    # The n-th connection is opened where n - 1 are full.
    opened = np.arange(0, levels.size, at_once)
    closed = below[opened] * np.exp(-per_s[opened] * idle_s)
    return PoolUse(float(np.sum(1 - closed)), float(np.sum(per_s[opened] * closed)), wait)


def _first_reached(requests_per_s: float, weights: Floats, below: Floats) -> Floats:
    """How often each level n + 1 is reached per s, from the stationary state at or below n: one over the mean time.

    weights: of each state, below: of it and all lower ones; both of shape (n_levels,).
    """
    seen = weights > 1e-290
    times = np.cumsum(np.where(seen, below * below / np.where(seen, weights, 1.0), 0.0))
    per_s: Floats = np.where(times > 0, requests_per_s * below / np.where(times > 0, times, 1.0), 0.0)
    return per_s
