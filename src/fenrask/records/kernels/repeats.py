"""Compiled: how like themselves counts by second are after some time: their autocorrelation."""

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond

__all__ = ["likeness", "pairs_apart"]


@compiled_beyond(FEW >> 5)
def pairs_apart(seconds, starts, most):
    """The number of pairs of connections that begin 0 to `most` seconds apart; shape (most + 1,).

    By going through all pairs: for few seconds. A connection with itself is a pair of those that are 0 s apart.
    """
    found = np.zeros(most + 1, dtype=np.float64)
    for place in range(seconds.size):
        for other in range(place, seconds.size):
            apart = seconds[other] - seconds[place]
            if apart > most:
                break
            found[apart] += starts[place] * starts[other]
    return found


@compiled_beyond(FEW)
def likeness(apart, seconds, starts, span, width, most):
    """How like themselves counts are after 0 to `most` seconds, 1 at 0; shape (most + 1,).

    apart: as `pairs_apart` has it, up to `most` + width; width: odd, above 1; how many seconds are counted together
    about each one, from the first that sees a connection on. Of counts about their mean; fewer of them are held against
    each other the later.
    """
    # Of sums over a width, pairs weigh the more the nearer to so far apart: width at it, nothing a width beside it.
    summed = np.empty(most + 1, dtype=np.float64)
    whole, before, after = width * apart[0], 0.0, 0.0
    for by in range(1, width):
        whole += 2 * (width - by) * apart[by]
    for by in range(width):
        before += apart[by]
        after += apart[by + 1]
    for late in range(most + 1):
        summed[late] = whole
        whole += after - before
        before += apart[late + 1] - apart[abs(late - width + 1)]
        if late < most - 1:
            after += apart[late + 1 + width] - apart[late + 1]
    begin, end = _edge(seconds, starts, most, width), _edge(span - 1 - seconds, starts, most, width)
    long = span + width - 1
    mean = width * starts.sum() / long
    variance = summed[0] - long * mean * mean
    if variance <= 1e-9 * summed[0]:
        summed[:] = 1.0
        return summed
    about = 2 * width * starts.sum()
    for late in range(most + 1):
        summed[late] = (summed[late] - mean * about + (long - late) * mean * mean) / variance * long / (long - late)
        about -= begin[late] + end[late]
    return summed


@compiled
def _edge(seconds, starts, most, width):
    """Counts together over a width, in those that see the first connections first; seconds: from the edge on."""
    found = np.zeros(most + 2, dtype=np.float64)
    for place in range(seconds.size):
        if seconds[place] <= most:
            found[seconds[place]] += starts[place]
            found[min(seconds[place] + width, most + 1)] -= starts[place]
    return np.cumsum(found)
