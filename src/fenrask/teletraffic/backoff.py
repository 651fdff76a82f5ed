"""Connections that find no server and are tried again as hosts do it: after 1, 2, 4 ... s (RFC 6298, section 5.5)."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.fixed_points import where_equal
from fenrask.teletraffic.retrial_queue import odds_beside

__all__ = ["FIRST_S", "Full", "USUAL_RETRIES", "Waits", "tried_again", "waits", "waits_of"]

FIRST_S = 1.0
"""The first retransmission of a SYN comes after one second (RFC 6298, section 2.1), each next one after twice that."""
USUAL_RETRIES = 6
"""How often a SYN is sent again before a host gives up, as the sample's kernel has it."""


@dataclass(frozen=True)
class Full:
    """A pool of servers, and what it refuses when it is full.

    formula: the refused share of a load that comes once, rising; lump: how many servers and connections count as one
    (peakedness, or pools that share them).
    """

    servers: float
    formula: Callable[[Floats], Floats]
    lump: float = 1.0


def tried_again(load: Floats, pool: Full, hold_s: float, retries: int) -> tuple[Floats, Floats]:
    """The share of connections whose first try is refused, and that of their later tries, each after one refusal.

    load: fresh load, Erlang; hold_s: mean hold, s. Tries that come when they like see the pool as fresh ones do
    (b = B(a (1 + b + b^2 + ..)), "retrials see time averages": Greenberg & Wolff 1987). Those of a back-off find the
    same full pool again where it lasts, and leave it fuller: by how much this changes the odds is read off a table
    (`retrial_queue`).
    """
    independent = where_equal(lambda share: pool.formula(load * attempts(share, retries)), load.shape)
    odds = independent / np.maximum(1 - independent, 1e-12)
    found = [odds * times for times in odds_beside(load / pool.lump, pool.servers / pool.lump, hold_s, retries)]
    first, later = (each / (1 + each) for each in found)
    return first, later


def attempts(refused: ArrayLike, retries: ArrayLike) -> Any:
    """Attempts for each connection, in the mean, where a share of all attempts is refused, each for itself."""
    share, number = np.asarray(refused, dtype=np.float64), np.asarray(retries)
    below = np.minimum(share, 1 - 1e-9)
    return np.where(share < 1 - 1e-9, (1 - below ** (number + 1)) / (1 - below), number + 1.0)[()]


@dataclass(frozen=True)
class Waits:
    """What senders feel. dropped: the share of first tries; lost: of connections, for good; attempts: for each of them.

    mean_s, p95_s: how long those that come about in the end wait for that, s: mean, and what 95 of 100 do not exceed.
    """

    dropped: float
    lost: float
    mean_s: float
    p95_s: float
    attempts: float
    retries: int


def waits(first: float, later: float, retries: int, first_s: float = FIRST_S) -> Waits:
    """Where a share of first tries is refused, and of each later one that comes after a refusal."""
    refused = [1.0, *(first * later**number for number in range(retries + 1))]
    served = [before - after for before, after in zip(refused, refused[1:], strict=False)]
    return waits_of([*served, refused[-1]], first, first_s)


def waits_of(served: "list[float]", dropped: float, first_s: float = FIRST_S) -> Waits:
    """From how many came about at each try, and at last how many never did; dropped: the share of first tries."""
    *by_try, lost = served
    total, came = sum(served), sum(by_try)
    if not total:
        return Waits(dropped, 0.0, 0.0, 0.0, 1.0, len(by_try) - 1)
    each = [first_s * (2.0**number - 1) for number in range(len(by_try))]
    mean = sum(some * wait for some, wait in zip(by_try, each, strict=True)) / came if came else 0.0
    below, p95 = 0.0, each[-1]
    for some, wait in zip(by_try, each, strict=True):
        below += some
        if below >= 0.95 * came:
            p95 = wait
            break
    sent = sum(some * (number + 1) for number, some in enumerate(by_try)) + lost * len(by_try)
    return Waits(dropped, lost / total, mean, p95, sent / total, len(by_try) - 1)
