"""What the kernels do in one slice of time: its arrivals, its endings in order, and the wheel on which they hang.

What ends in a slice hangs in a linked list of a wheel, so that a slice's endings are given back at once.
"""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.random_numbers import poisson, uniform

__all__ = [
    "MASK",
    "WHEEL",
    "all_free",
    "arrivals",
    "clear",
    "due_in",
    "grown",
    "hang",
    "insert",
    "put_in_order",
    "sort",
    "wheel_of_slices",
]

WHEEL = 16384
MASK = WHEEL - 1
_GAPS = (12983, 5771, 2565, 1140, 506, 225, 100, 44, 20, 8, 1)


@compiled
def grown(array, size):
    if size < array.size:
        return array
    longer = np.empty(max(2 * array.size, size + 1), dtype=array.dtype)
    longer[: array.size] = array
    return longer


@compiled
def insert(keys, items, low, size, key, item):
    """Into what is in order from low on; what is left then has size + 1."""
    i = size - 1
    while i >= low and keys[i] > key:
        keys[i + 1], items[i + 1] = keys[i], items[i]
        i -= 1
    keys[i + 1], items[i + 1] = key, item


@compiled
def put_in_order(keys, items, size):
    """Put the first so many in order, in place: by insertion, over narrowing gaps where they are many (Shell 1959)."""
    for gap in _GAPS:
        if gap > 1 and gap * 6 > size:
            continue
        for i in range(gap, size):
            key, item, j = keys[i], items[i], i - gap
            while j >= 0 and keys[j] > key:
                keys[j + gap], items[j + gap] = keys[j], items[j]
                j -= gap
            keys[j + gap], items[j + gap] = key, item


@compiled
def sort(at, count):
    """The same of one array."""
    for gap in _GAPS:
        if gap > 1 and gap * 6 > count:
            continue
        for i in range(gap, count):
            value, j = at[i], i - gap
            while j >= 0 and at[j] > value:
                at[j + gap] = at[j]
                j -= gap
            at[j + gap] = value


@compiled
def arrivals(s, mean, batch, at):
    """Places in the slice, in [0, 1), of its arrivals, unsorted, `mean` of them in the mean; and their number.

    Those of a batch come at one place; a batch has `batch` in the mean, geometrically.
    """
    count = 0
    epochs = poisson(s, mean / batch) if mean > 0.0 else 0
    if batch == 1.0:
        if epochs > at.size:
            at = np.empty(2 * epochs)
        for i in range(epochs):
            at[i] = uniform(s)
        return at, epochs
    for _ in range(epochs):
        place = uniform(s)
        more = True
        while more:
            if count >= at.size:
                at = grown(at, count)
            at[count] = place
            count += 1
            more = uniform(s) >= 1.0 / batch
    return at, count


@compiled
def wheel_of_slices():
    """For each slice: first and last server of its list, how many, and whether some end rounds later; shape (n, 4)."""
    wheel = np.empty((WHEEL, 4), dtype=np.int32)
    clear(wheel)
    return wheel


@compiled
def clear(wheel):
    wheel[:, 0], wheel[:, 1], wheel[:, 2], wheel[:, 3] = -1, -1, 0, 0


@compiled
def all_free(following):
    """Make one list of all servers."""
    for i in range(following.size):
        following[i] = i + 1
    following[following.size - 1] = -1


@compiled
def hang(wheel, following, server, end, g):
    """Into the list of the slice in which it ends, or into the last one that the wheel has from here."""
    away = int(min(end, 9.0e15)) - g
    if away >= WHEEL:
        away = WHEEL - 1
        wheel[(g + away) & MASK, 3] = 1
    c = (g + away) & MASK
    first = wheel[c, 0]
    following[server] = first
    if first < 0:
        wheel[c, 1] = server
    wheel[c, 0] = server
    wheel[c, 2] += 1


@compiled
def due_in(wheel, following, ends, keys, items, g):
    """What ends in a slice, in order: times, servers, how many; what hung there and ends later is hung up again."""
    b = g & MASK
    size, server = 0, wheel[b, 0]
    wheel[b, 0], wheel[b, 2], wheel[b, 3] = -1, 0, 0
    while server >= 0:
        after = following[server]
        if ends[server] < g + 1:
            if size >= keys.size:
                keys, items = grown(keys, size), grown(items, size)
            keys[size], items[size] = ends[server], server
            size += 1
        else:
            hang(wheel, following, server, ends[server], g)
        server = after
    put_in_order(keys, items, size)
    return keys, items, size
