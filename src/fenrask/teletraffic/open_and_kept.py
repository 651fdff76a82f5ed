"""Ports of which some serve connections and some are kept after them, as a birth and death process of both numbers.

Hosts that have a limit of open connections open the fewer the more are open; ports are the limit of both together.
That has no product form (a kept port holds no host back), so that the balance of the numbers is solved.
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrask.teletraffic.arguments import Floats

__all__ = ["Shared", "balanced", "cut_off"]

_DEVIATIONS = 6.5
_LEAST_WIDTH = 4
_HALVINGS = 50
_FASTEST = 1.5
"""How much faster than in proportion kept ports may come free, at most, where they are more than in the mean."""
_OF_PROPORTION = 0.2


@dataclass(frozen=True)
class Shared:
    """Ports that hosts share, and about which numbers the process moves, all of them where no port is the limit.

    opens: by connections open, how many more are opened in a life, shape (most open + 1,). after: for how long a port
    is kept, as a factor of a life. open_mean, open_variance: of the connections open. variance: of all ports held.
    """

    ports: int
    opens: Floats
    after: float
    open_mean: float
    open_variance: float
    variance: float

    @property
    def kept_mean(self) -> float:
        """Ports kept."""
        return self.open_mean * self.after

    @cached_property
    def pull(self) -> float:
        """By how much more ports come free in a life for each that is kept above the mean.

        A port is kept for a fixed time, not for one that comes to an end at any moment. By this rate the process,
        made linear about its mean, has the variance of ports held that fixed times give (van Kampen 1961).
        """
        low, high = 1 / self.after, _FASTEST / self.after
        for _ in range(_HALVINGS):
            middle = (low * high) ** 0.5
            together, kept = self._varied(middle)
            low, high = (middle, high) if self.open_variance + 2 * together + kept > self.variance else (low, middle)
        return low

    def _varied(self, pull: float) -> tuple[float, float]:
        """What open and kept ports vary together, and the variance of those kept."""
        together = (self.open_variance - self.open_mean) / (self.open_mean / self.open_variance + pull)
        return together, (together + self.open_mean) / pull

    @property
    def open_range(self) -> tuple[int, int]:
        """Between which numbers of open connections the process is, but for a chance of some 1e-10."""
        away = _DEVIATIONS * self.open_variance**0.5 + _LEAST_WIDTH
        return max(0, int(self.open_mean - away)), min(self.ports, self.opens.size - 1, int(self.open_mean + away) + 1)

    @property
    def kept_range(self) -> tuple[int, int]:
        """The same of the ports kept."""
        mean, least_open = self.kept_mean, self.open_range[0]
        away = _DEVIATIONS * max(self._varied(self.pull)[1], mean / _FASTEST) ** 0.5 + _LEAST_WIDTH
        return max(0, int(mean - away)), min(self.ports - least_open, int(mean + away) + 1)

    @property
    def work(self) -> float:
        """Multiplications that its balance takes, about."""
        (least, most), (fewest, top) = self.open_range, self.kept_range
        fewer, more = sorted((most - least + 1, top - fewest + 1))
        return float(more) * fewer**3


def balanced(shared: Shared) -> tuple[float, float]:
    """Of the connections that hosts open, the share that finds no port; and how many they open in a life."""
    held, chances = _stationary(shared)
    return _refused(shared, held, chances), float(np.sum(chances))


def cut_off(shared: Shared, tilt: float) -> float:
    """The same share as a product form has it: by the law of ports without end, cut off where the ports are taken.

    That law is of hosts whose load is lowered by a tilt, and weighed by the tilt to the number as if it were not.
    """
    lowered = replace(shared, ports=shared.opens.size + 2**31, opens=shared.opens * tilt)
    held, chances = _stationary(lowered)
    return _refused(
        shared, held, chances * np.where(held <= shared.ports, tilt ** np.maximum(shared.ports - held, 0), 0)
    )


def _refused(shared: Shared, held: NDArray[np.int_], opened: Floats) -> float:
    return float(np.sum(opened[held == shared.ports]) / np.sum(opened))


def _stationary(shared: Shared) -> tuple[NDArray[np.int_], Floats]:
    """Ports held, by numbers open and kept; and what hosts then open in a life, times the chance of it.

    The process is solved level by level, by matrices that lead from one to the next (Gaver, Jacobs & Latouche 1984).
    """
    (least, most), (fewest, top) = shared.open_range, shared.kept_range
    open_, kept = np.arange(least, most + 1)[:, None], np.arange(fewest, top + 1)[None, :]
    held = open_ + kept
    pulled = shared.kept_mean / shared.after + shared.pull * (kept - shared.kept_mean)
    # Connections open, ports kept, and how often both change so; nothing leaves the range.
    moves = [
        (1, 0, np.where((held >= shared.ports) | (open_ == most), 0.0, shared.opens[open_])),
        (-1, 1, np.where((open_ == least) | (kept == top), 0.0, open_)),
        (0, -1, np.where(kept + 0 * open_ == fewest, 0.0, np.maximum(pulled, _OF_PROPORTION * kept / shared.after))),
    ]
    if open_.size >= kept.size:
        chances = _by_level(moves)
    else:
        chances = _by_level([(by_kept, by_open, rate.T) for by_open, by_kept, rate in moves]).T
    return held, chances * shared.opens[open_]


def _by_level(moves: list[tuple[int, int, Floats]]) -> Floats:
    """The stationary law of a process on levels (rows) and places in them, of moves by one level at most."""
    levels, size = moves[0][2].shape
    leaving = np.sum([rate for _, _, rate in moves], axis=0)

    def block(level: int, by: int) -> Floats:
        found: Floats = np.zeros((size, size)) if by else -np.diag(leaving[level])
        for up, along, rate in moves:
            if up == by:
                here = rate[level, max(0, -along) : size - max(0, along)]
                found += np.diag(here, along)
        return found

    # From the last level down: what the levels above give back to one.
    ways: list[Floats] = []
    own = block(levels - 1, 0)
    for level in range(levels - 1, 0, -1):
        way = np.asarray(np.linalg.solve(-own.T, block(level - 1, 1).T).T, dtype=np.float64)
        ways.append(way)
        own = block(level - 1, 0) + ways[-1] @ block(level, -1)
    equations = np.vstack([own.T[:-1], np.ones(size)])
    first: Floats = np.maximum(np.linalg.solve(equations, np.eye(size)[-1]), 0.0)
    found = [first]
    for way in reversed(ways):
        found.append(found[-1] @ way)
    chances: Floats = np.array(found)
    return chances / np.sum(chances)
