"""The ports that one host holds which opens a maximum number of connections, and keeps each port for a while after.

A port may serve a connection again only some time after the last one ended (TIME_WAIT; RFC 7857, section 4): a host
counts a connection against its limit while it is open, and holds its port for longer.
"""

from dataclasses import dataclass
from functools import cached_property, lru_cache
from math import ceil, exp

import numpy as np

from fenrask.teletraffic.arguments import Floats

__all__ = ["HostLaw", "host_law", "peakedness", "truncated"]

_DEVIATIONS, _AT_LEAST = 12.0, 30.0
_LEAST, _NEVER = 0.02, 1e-12
_TURNS, _NEAR = 60, 1e-13
_TINY = 1e-300


@dataclass(frozen=True)
class HostLaw:
    """What a host has open, truncated Poisson; and what it keeps after, of the mean and about the variance it has.

    Both as if independent of one another: that the second is less where the first is at its limit is in its variance.
    """

    most: int
    load: float
    kept: float
    """Ports kept after, mean."""
    dispersion: float
    """Variance of these, and twice what they vary together with those open, over their mean."""
    together: tuple[Floats, Floats] | None = None
    """The weights, where they are known by more than these."""

    @cached_property
    def size(self) -> int:
        """Numbers of ports that the host may be thought to hold, from 0 on."""
        return self.most + self._most_kept + 1 if self.together is None else self.together[0].size

    @property
    def _most_kept(self) -> int:
        return ceil(self.kept + _DEVIATIONS * self.kept**0.5 + _AT_LEAST) if self.kept else 0

    def weights(self, tilt: float = 1.0) -> tuple[Floats, Floats]:
        """By ports held: their probability, and that fewer than `most` are open too; the weight of n times tilt^n.

        Of shape (size,) both; the sum of the first is 1.
        """
        if self.together is not None:
            own, able = self.together
            logs = np.log(np.maximum(own, _TINY)) + np.arange(own.size) * np.log(tilt)
            tilted = np.exp(logs - np.max(logs))
            tilted /= np.sum(tilted)
            return tilted, tilted * able / np.maximum(own, _TINY)
        open_ = truncated(self.most, self.load * tilt)
        able = np.concatenate([open_[: self.most], [0.0]])
        if not self.kept:
            return open_, able
        kept = self._kept(tilt)
        return np.convolve(open_, kept), np.convolve(able, kept)

    def mean(self, tilt: float = 1.0) -> float:
        """Ports held, of these weights."""
        if self.together is not None:
            own = self.weights(tilt)[0]
            return float(np.dot(own, np.arange(own.size)))
        each = [truncated(self.most, self.load * tilt), *([self._kept(tilt)] if self.kept else [])]
        return sum(float(np.dot(weights, np.arange(weights.size))) for weights in each)

    def _kept(self, tilt: float) -> Floats:
        """The weights of the ports kept after, times tilt to the number."""
        logs = self._kept_by_number + np.arange(self._most_kept + 1) * np.log(tilt)
        weights = np.exp(logs - np.max(logs))
        found: Floats = weights / np.sum(weights)
        return found

    @cached_property
    def _kept_by_number(self) -> Floats:
        """Logarithms of weights x^k / k!^v of this mean, v the inverse of the dispersion (Conway & Maxwell 1962)."""
        k, power = np.arange(self._most_kept + 1.0), 1 / self.dispersion
        factorials = np.concatenate([[0.0], np.cumsum(np.log(k[1:]))]) * power
        low, high = np.log(self.kept) - 40.0, power * np.log(self.kept + 2.0) + 2.0
        log_x = min(high, power * np.log(self.kept))
        for _ in range(_TURNS):
            logs = k * log_x - factorials
            weights = np.exp(logs - np.max(logs))
            whole = float(np.sum(weights))
            mean, square = float(np.dot(weights, k)) / whole, float(np.dot(weights, k * k)) / whole
            if abs(mean - self.kept) <= _NEAR * self.kept:
                break
            low, high = (log_x, high) if mean < self.kept else (low, log_x)
            # The mean grows by the variance (Newton); where that leaves the bracket, it is halved.
            variance = square - mean * mean
            ahead = log_x + (self.kept - mean) / variance if variance > 0 else low
            log_x = ahead if low < ahead < high else (low + high) / 2
        found: Floats = k * log_x - factorials
        return found


def truncated(most: int, load: float) -> Floats:
    """A Poisson law of this mean, cut off above `most`: shape (most + 1,)."""
    k = np.arange(most + 1.0)
    logs = k * np.log(load) - np.concatenate([[0.0], np.cumsum(np.log(k[1:]))])
    weights = np.exp(logs - np.max(logs))
    found: Floats = weights / np.sum(weights)
    return found


@lru_cache(maxsize=4096)
def host_law(most: int, load: float, after: float, held_back: float | None = None) -> HostLaw:
    """The law of a host that would have `load` connections open with no limit, and has `most` at most.

    after: how long a port is kept after its connection's end, as a factor of its life. held_back: the share of the time
    in which its limit alone keeps it from opening more; None where there are ports without end, so that this is
    Erlang's loss.

    What is kept are the connections that ended within that time: seen backward, those that a host begins in it from
    now on (a loss system is reversible: Kelly 1979). Their variance is exact for a short and for a long time, and goes
    over from one to the other exponentially, which is exact for one connection at most of an exponential life. Where
    the ports are the limit, and not the host, they are Poisson.
    """
    open_ = truncated(most, load)
    full = float(open_[-1])
    back = full if held_back is None else held_back
    kept = load * (1 - back) * after
    if not kept:
        return HostLaw(most, load, 0.0, 1.0)
    thinned = min(1.0, back / full) if full > _NEVER else 0.0
    if (law := _together(most, load, after, open_, thinned)) is not None:
        return HostLaw(most, load, kept, 1.0, law)
    varied = _varied(most, load, after, open_) if full > _NEVER else 1.0
    return HostLaw(most, load, kept, 1 - (1 - varied) * thinned)


_MOST_STEPS = 500_000


def _together(most: int, load: float, after: float, open_: Floats, thinned: float) -> tuple[Floats, Floats] | None:
    """The weights by number of ports, each number kept as it is with each number open; None where that is too much.

    From each number open, how many a host begins within the time: by uniformisation (Jensen 1953). At its limit it
    begins none but for those that the ports alone keep it from: a share `thinned` is none.
    """
    rate, wanted = load + most, load * after
    kept, steps = ceil(wanted + _DEVIATIONS * wanted**0.5 + _AT_LEAST), rate * after
    last = ceil(steps + _DEVIATIONS * steps**0.5 + _AT_LEAST)
    if (most + 1) * kept * last > _MOST_STEPS:
        return None
    poisson = truncated(last, steps)
    ends = np.arange(most + 1.0)[:, None] / rate
    begins = np.full((most + 1, 1), load / rate)
    begins[most] *= 1 - thinned
    stays = 1 - ends - begins
    now = np.zeros((most + 1, kept + 1))
    now[:, 0] = 1.0
    found = poisson[0] * now
    for step in range(1, last + 1):
        after_one = stays * now
        after_one[1:] += ends[1:] * now[:-1]
        after_one[:-1, 1:] += begins[:-1] * now[1:, :-1]
        after_one[most, 1:] += begins[most] * now[most, :-1]
        now = after_one
        found = found + poisson[step] * now
    own, able = np.zeros(most + kept + 1), np.zeros(most + kept + 1)
    for number in range(most + 1):
        own[number : number + kept + 1] += open_[number] * found[number]
        if number < most:
            able[number : number + kept + 1] += open_[number] * found[number]
    return own, able


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
    weights = law.weights()[0]
    k = np.arange(weights.size)
    mean = float(np.dot(weights, k))
    return (float(np.dot(weights, k**2)) - mean**2) / mean


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
