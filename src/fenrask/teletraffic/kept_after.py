"""The ports that one host holds which opens a maximum number of connections, and keeps each port for a while after.

A port may serve a connection again only some time after the last one ended (TIME_WAIT; RFC 7857, section 4): a host
counts a connection against its limit while it is open, and holds its port for longer.
"""

from dataclasses import dataclass
from functools import lru_cache
from math import ceil, exp

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["HostLaw", "host_law", "peakedness", "size_of_law", "truncated"]

_DEVIATIONS, _AT_LEAST = 12.0, 30.0
_LEAST, _NEVER = 0.02, 1e-12
_TURNS, _NEAR = 60, 1e-13


@dataclass(frozen=True)
class HostLaw:
    """By ports that a host holds: their probability, and that fewer than its limit are open too; of one shape."""

    own: Floats
    able: Floats


def truncated(most: int, load: float) -> Floats:
    """A Poisson law of this mean, cut off above `most`: shape (most + 1,)."""
    k = np.arange(most + 1.0)
    logs = k * np.log(load) - np.concatenate([[0.0], np.cumsum(np.log(k[1:]))])
    weights = np.exp(logs - np.max(logs))
    found: Floats = weights / np.sum(weights)
    return found


def size_of_law(most: int, load: float, after: float) -> int:
    """Numbers of ports that a host may be thought to hold, from 0 on: the length of its law; arguments as below."""
    return most + (_most_kept(load * after) if after else 0) + 1


@lru_cache(maxsize=4096)
def host_law(most: int, load: float, after: float) -> HostLaw:
    """The law of a host that would have `load` connections open with no limit, and has `most` at most.

    after: how long a port is kept after its connection's end, as a factor of its life. Ports are without end, so that
    what is open is Erlang's loss.

    What is kept are the connections that ended within that time: seen backward, those that a host begins in it from
    now on (a loss system is reversible: Kelly 1979). Their law is exact where there are few enough to sum. Else they
    are thought to be independent of those open, with a variance, of them and of both together, that is exact for a
    short and for a long time, and goes over from one to the other exponentially, which is exact for one connection at
    most of an exponential life.
    """
    open_ = truncated(most, load)
    able = np.concatenate([open_[:most], [0.0]])
    kept = load * (1 - float(open_[-1])) * after
    if not kept:
        return HostLaw(open_, able)
    if (law := _together(most, load, after, open_)) is not None:
        return law
    dispersion = _varied(most, load, after, open_) if float(open_[-1]) > _NEVER else 1.0
    weights = _kept_by_number(kept, dispersion)
    return HostLaw(np.convolve(open_, weights), np.convolve(able, weights))


def _most_kept(mean: float) -> int:
    return int(ceil(mean + _DEVIATIONS * mean**0.5 + _AT_LEAST))


def _kept_by_number(mean: float, dispersion: float) -> Floats:
    """Weights x^k / k!^v of this mean, v the inverse of the dispersion (Conway & Maxwell 1962)."""
    k, power = np.arange(_most_kept(mean) + 1.0), 1 / dispersion
    factorials = np.concatenate([[0.0], np.cumsum(np.log(k[1:]))]) * power
    low, high = np.log(mean) - 40.0, power * np.log(mean + 2.0) + 2.0
    log_x = min(high, power * np.log(mean))
    found: Floats = k
    for _ in range(_TURNS):
        logs = k * log_x - factorials
        weights = np.exp(logs - np.max(logs))
        found = weights / np.sum(weights)
        here, square = float(np.dot(found, k)), float(np.dot(found, k * k))
        if abs(here - mean) <= _NEAR * mean:
            break
        low, high = (log_x, high) if here < mean else (low, log_x)
        # The mean grows by the variance (Newton); where that leaves the bracket, it is halved.
        variance = square - here * here
        ahead = log_x + (mean - here) / variance if variance > 0 else low
        log_x = ahead if low < ahead < high else (low + high) / 2
    return found


_MOST_STEPS = 500_000


def _together(most: int, load: float, after: float, open_: Floats) -> HostLaw | None:
    """The weights by number of ports, each number kept as it is with each number open; None where that is too much.

    From each number open, how many a host begins within the time: by uniformisation (Jensen 1953).
    """
    rate, wanted = load + most, load * after
    kept, steps = _most_kept(wanted), rate * after
    last = ceil(steps + _DEVIATIONS * steps**0.5 + _AT_LEAST)
    if (most + 1) * kept * last > _MOST_STEPS:
        return None
    poisson = truncated(last, steps)
    ends = np.arange(most + 1.0)[:, None] / rate
    begins = np.full((most + 1, 1), load / rate)
    begins[most] = 0.0
    stays = 1 - ends - begins
    now = np.zeros((most + 1, kept + 1))
    now[:, 0] = 1.0
    found = poisson[0] * now
    for step in range(1, last + 1):
        after_one = stays * now
        after_one[1:] += ends[1:] * now[:-1]
        after_one[:-1, 1:] += begins[:-1] * now[1:, :-1]
        now = after_one
        found = found + poisson[step] * now
    own, able = np.zeros(most + kept + 1), np.zeros(most + kept + 1)
    for number in range(most + 1):
        own[number : number + kept + 1] += open_[number] * found[number]
        if number < most:
            able[number : number + kept + 1] += open_[number] * found[number]
    return HostLaw(own, able)


def _varied(most: int, load: float, after: float, open_: Floats) -> float:
    k = np.arange(most + 1.0)
    full, mean = float(open_[-1]), float(np.dot(open_, k))
    ahead = _ahead(most, load, open_)
    begins = open_[:most] / (1 - full)
    first = float(1 - begins[-1]) - (1 - full)
    alone = 1 + 2 * load * _within(first, float(np.dot(begins, ahead[1:])), after, twice=True)
    both = load * _within(-(most - mean) * full, float(np.dot(open_ * (k - mean), ahead)), after, twice=False)
    return min(1.0, max(_LEAST, alone + 2 * both / (load * (1 - full) * after)))


def peakedness(law: HostLaw) -> float:
    """The variance over the mean of the ports that a host of this law holds."""
    k = np.arange(law.own.size)
    mean = float(np.dot(law.own, k))
    return (float(np.dot(law.own, k**2)) - mean**2) / mean


def _ahead(most: int, load: float, open_: Floats) -> Floats:
    """By connections open: by how much more than in the mean a host will be below its limit, in lives, from now on.

    The solution of Poisson's equation of the birth and death process, shape (most + 1,).
    """
    full, step, found = float(open_[-1]), 0.0, [0.0]
    for i in range(most):
        step = (i * step - full) / load
        found.append(found[-1] + step)
    ahead = np.array(found)
    shifted: Floats = ahead - float(np.dot(open_, ahead))
    return shifted


def _within(first: float, in_all: float, time: float, twice: bool) -> float:
    """The integral up to a time of what begins so and comes to so much in all, if it falls off exponentially.

    twice: of (1 - u / time) times it.
    """
    if not first or not in_all or first * in_all < 0:
        return 0.0
    lasts = in_all / first
    part = 1 - exp(-time / lasts)
    return in_all * (1 - lasts / time * part) if twice else in_all * part
