"""A pool of servers whose refused arrivals come again by a back-off: the chain of those served and those waiting.

A two-dimensional birth-death chain (Falin & Templeton 1997, "Retrial Queues", section 2.1) whose waiting senders come
again at one rate, which is worked out from how far their back-off has gone. Too slow to be asked for each pool; the
table beside it (`retrial_queue.json`, written by `docs/retrials.py`) holds its answers.
"""

import json
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["GRID", "odds_beside", "retrial_queue"]

_OLDER = 0.6
"""How much more slowly than on average over tries those come again that wait while a pool is full, since most of them
have waited long: fitted once to simulations of 60 to 1,000 servers, holds of 20 to 400 s and 1 to 8 tries, which the
chain then meets within 7 in 100 of the first tries refused."""

GRID: "dict[str, tuple[float, ...]]" = {
    "retries": (1, 2, 3, 4, 5, 6, 8, 10),
    "servers": (16, 64, 256, 1024),
    "hold_s": (5, 20, 80, 320, 1280),
    "excess": (-6, -4.5, -3.5, -3, -2.5, -2, -1.5, -1, -0.5, 0, 0.5, 1, 1.5, 2, 3, 4.5, 6),
}
"""Where the table has values; excess: log(load / servers) * sqrt(servers), how far the load is above the servers in
its own standard deviations."""


def retrial_queue(load: float, servers: int, hold_s: float, retries: int) -> tuple[float, float]:
    """The share of first tries refused, and that of the later ones; holds are exponential.

    load: fresh load, Erlang; hold_s: mean hold, s; retries: at least 1, after 1, 2, 4 ... s.
    """
    low, high = 0.0, 1.0
    first = later = 0.0
    for _ in range(16):
        share = (low + high) / 2
        first, later = _solved(load, servers, hold_s, retries, share)
        low, high = (share, high) if later > share else (low, share)
    return first, later


def _solved(load: float, servers: int, hold_s: float, retries: int, refused: float) -> tuple[float, float]:
    """The same, where so large a share of later tries is taken to be refused.

    A level is a number of waiting senders. From one to the next leads a fresh arrival at a full pool alone, so that
    each level follows from the one above by one system of three diagonals, from the top down.
    """
    from scipy.linalg.lapack import dgtsv  # half a second of start-up, for who makes the table alone

    came, ended = load / hold_s, 1 / hold_s
    again, last = _comes_again(refused, retries)
    usual = min(load, servers)
    taken = np.arange(max(0, int(usual - 7 * np.sqrt(usual) - 7)), servers + 1.0)
    beyond = _waiting(load, servers, retries) * came
    most = int(beyond + 7 * np.sqrt(servers) + 6 * np.sqrt(beyond) + 30)
    leaves = taken[1:] * ended
    begins = np.full(taken.size - 1, came)
    diagonal = np.full(taken.size, came)
    diagonal[1:] += leaves
    sides = np.zeros((taken.size, 2), order="F")
    sides[-1, 1] = 1.0
    totals, scales = np.zeros(most + 1), np.zeros(most + 1)
    from_above = np.zeros(taken.size)
    for waiting in range(most, 0, -1):
        out = diagonal + waiting * again
        out[-1] += waiting * again * (last - 1) - (came if waiting == most else 0.0)
        sides[:, 0] = from_above
        *_, found, _ = dgtsv(-begins, out, -leaves, sides)
        # As many from below as make the full pool's probability 1; the scales put the levels together.
        level = np.maximum(found[:, 0] + (1 - found[-1, 0]) / found[-1, 1] * found[:, 1], 0.0)
        totals[waiting] = level.sum()
        down = np.append(0.0, level[:-1]) * waiting * again
        down[-1] += last * waiting * again
        below = down.sum() / came
        scales[waiting - 1] = scales[waiting] + np.log(below)
        from_above = down / below
    level = np.ones(taken.size)
    passed = np.cumsum(from_above)
    for place in range(taken.size - 2, -1, -1):
        level[place] = (leaves[place] * level[place + 1] + passed[place]) / came
    totals[0] = level.sum()
    full = np.exp(scales - scales.max())
    waiting_in_all = float((full * totals) @ np.arange(most + 1))
    return float(full.sum() / (full @ totals)), float(full @ np.arange(most + 1)) / max(waiting_in_all, 1e-300)


def _comes_again(refused: float, retries: int) -> tuple[float, float]:
    """How often a waiting sender comes again, 1/s, and the chance that it is its last try."""
    reached = refused ** np.arange(retries)
    return _OLDER * reached.sum() / (reached * 2.0 ** np.arange(retries)).sum(), reached[-1] / reached.sum()


def _waiting(load: float, servers: int, retries: int) -> float:
    """Seconds that fresh arrivals wait in the mean where more come than any chance could serve; 0 where not."""
    if load <= servers:
        return 0.0
    refused = float((1 - servers / load) ** (1 / (retries + 1)))
    return refused * (1 - refused**retries) / (1 - refused) / _comes_again(refused, retries)[0]


def odds_beside(load: Floats, servers: float, hold_s: float, retries: int) -> tuple[Floats, Floats]:
    """How many times the odds are, of a first and of a later try to be refused, beside tries that come independently.

    From the table: between its values in straight lines, in the logarithms; beyond the most servers on to their limit,
    beyond the other edges as at these. load: fresh load, Erlang, shape (n,).
    """
    table = _table()
    size = 1 / np.sqrt(max(servers, 1.0))
    excess = np.log(np.maximum(load, 1e-9) / max(servers, 1e-9)) / size
    # The correction vanishes with the servers as their root: straight lines in one over it.
    each = table[min(int(np.searchsorted(GRID["retries"], retries)), len(GRID["retries"]) - 1)]
    each = _between(each, [-1 / np.sqrt(number) for number in GRID["servers"]], -min(size, 0.25))
    each = _between(each, [np.log(hold) for hold in GRID["hold_s"]], float(np.log(np.clip(hold_s, 5.0, 1280.0))))
    first, later = (np.exp(np.interp(excess, GRID["excess"], row)) for row in each.T)
    return first, later


def _between(values: Floats, at: "list[float]", here: float) -> Floats:
    """Values along their first axis, at a place between two of `at`, or on beyond the last."""
    upper = int(np.clip(np.searchsorted(at, here), 1, len(at) - 1))
    part = (here - at[upper - 1]) / (at[upper] - at[upper - 1])
    found: Floats = (1 - part) * values[upper - 1] + part * values[upper]
    return found


@cache
def _table() -> Floats:
    """Logarithms of the odds' ratios; shape (retries, servers, holds, excess, first and later)."""
    text = Path(__file__).with_suffix(".json").read_text(encoding="utf-8")
    found: Any = json.loads(text)
    shape = tuple(len(GRID[axis]) for axis in ("retries", "servers", "hold_s", "excess"))
    return np.array(found["log_odds"], dtype=np.float64).reshape(*shape, 2)
