"""Where an exit's load leaves the range in which the formulas were held against simulations: see docs/validity.md."""

from collections.abc import Iterator

import numpy as np

from fenrask.capacity.assignments import Stream
from fenrask.capacity.sizing import ExitCapacity
from fenrask.units import figure, percent, span_text

__all__ = ["beyond_range"]

_ROOM, _ROOM_OF_BURSTS = 0.6, 0.85
"""Ports free at the peak, of all, above which no doubt matters; few bursts reach far above their mean."""
_STEEP, _FEW, _VARIED = 2.0, 10.0, 0.5


def beyond_range(exit_capacity: ExitCapacity) -> Iterator[str]:
    """What does not hold of the pool that binds, in words; nothing where it has ample room."""
    ports = exit_capacity.ports
    stream = next((each for each in exit_capacity.streams if ports and each.label == ports.binding), None)
    if ports is None or stream is None or ports.headroom > _ROOM_OF_BURSTS:
        return
    if _few_bursts(stream):
        yield "few connections come in bursts: the formula may be far too low"
    if ports.headroom > _ROOM:
        return
    rise = _rise(stream)
    if rise >= _STEEP:
        times, within = figure(round(rise, 1)), span_text(stream.hold_s)
        yield f"the rate rises {times} times within one holding time ({within}); right after, up to thrice as many fail"
    if (varies := float(np.hypot(stream.level_cv, stream.fast_cv))) > _VARIED:
        varied, tried = percent(varies), percent(_VARIED)
        yield f"the load varies by {varied} within the hour; formulas were held against simulations up to {tried}"
    if stream.jobs[0] and (stream.retries or stream.retry_share or stream.sources is not None):
        yield "retries and hosts' limits are not counted beside jobs that start at one time"


def _few_bursts(stream: Stream) -> bool:
    """Whether so few connections come in bursts, not batches, that Hayward's formula is far too low."""
    concurrent = stream.load.peak.concurrent
    peakedness = stream.peakedness + concurrent * stream.fast_cv**2
    return peakedness > 1 and not stream.overlap and concurrent / peakedness < _FEW


def _rise(stream: Stream) -> float:
    """How many times the rate rises within one holding time, at most; 1 where holds are short beside the steps."""
    new, step_s = stream.load.new_per_s, stream.load.curves.step_s
    if stream.hold_s < step_s / 2 or stream.load.is_level:
        return 1.0
    back = min(new.size - 1, max(1, round(stream.hold_s / step_s)))
    least = np.min([np.roll(new, steps) for steps in range(1, back + 1)], axis=0)
    some = least > 0
    return float(np.max(new[some] / least[some])) if some.any() else 1.0
