"""How soon the ports of an exit are full, once a case begins at its busiest moment."""

from collections.abc import Callable

import numpy as np

from fenrask.capacity import ExitCapacity
from fenrask.capacity.assignments import Stream

__all__ = ["full_after"]

_LONGEST_S = 86_400.0


def full_after(before: ExitCapacity | None, after: ExitCapacity, storm_s: float | None = None) -> float | None:
    """Seconds until the pool that binds has all its ports taken; None where in the mean it never has, within a day.

    What was held goes on ending as it did, and what comes is held as it is in the case (Campbell's theorem), both at
    the rates of the case's busiest moment. storm_s: over which what is opened again comes; default: at once.
    """
    ports = after.ports
    if ports is None:
        return None
    now = _named(after, ports.binding)
    if now is None or not ports.capacity:
        return None
    then = _named(before, ports.binding) if before is not None else None
    scale = ports.concurrent / max(now.load.peak.concurrent, 1e-300)
    left, come = _held(then, now.load.peak.time_s), _held(now, now.load.peak.time_s)
    standing = then.load.persistent if then is not None else 0.0
    again = now.load.persistent - standing

    def held(time_s: float) -> float:
        ended = left(np.inf) - left(time_s)
        back = again * min(1.0, time_s / storm_s if storm_s else 1.0)
        return scale * (ended + come(time_s) + standing + back)

    if held(_LONGEST_S) < ports.capacity:
        return None
    low, high = 0.0, _LONGEST_S
    if held(0.0) >= ports.capacity:
        return 0.0
    # What comes outruns what ends, so that the first time is the only one; searched on a scale of its own.
    times = np.concatenate([[0.0], np.geomspace(0.1, _LONGEST_S, 200)])
    first = int(np.argmax([held(float(time)) >= ports.capacity for time in times]))
    low, high = float(times[first - 1]), float(times[first])
    for _ in range(30):
        middle = (low + high) / 2
        low, high = (low, middle) if held(middle) >= ports.capacity else (middle, high)
    return high


def _named(exit_capacity: ExitCapacity, label: str) -> Stream | None:
    return next((stream for stream in exit_capacity.streams if stream.label == label), None)


def _held(stream: Stream | None, moment_s: float) -> Callable[[float], float]:
    """What has come within a time and is still held, at the rates of a moment; of infinite time, all that is held."""
    if stream is None:
        return lambda time_s: 0.0
    load = stream.load
    curves, step = load.curves, int(moment_s // load.curves.step_s)
    rates = [
        float(rate * curves.profiles[curves.profile[number], step % curves.profiles.shape[1]])
        for rate, number in zip(load.rates.tolist(), load.numbers.tolist(), strict=True)
    ]
    laws = [curves.curve(int(number)).law for number in load.numbers]

    def within(time_s: float) -> float:
        if time_s == np.inf:
            return sum(rate * float(np.max(law.mean_s)) for rate, law in zip(rates, laws, strict=True))
        at = np.array([time_s])
        each = (float(np.ravel(law.integrated_survival(at))[0]) for law in laws)
        return sum(rate * one for rate, one in zip(rates, each, strict=True))

    return within
