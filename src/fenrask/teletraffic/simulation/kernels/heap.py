"""A pool on calls as they were, with the endings on a heap."""

import numpy as np

from fenrask.compiling import compiled

__all__ = ["pop", "push", "traced", "tried"]


@compiled
def push(keys, items, size, key, item):
    child = size
    while child > 0:
        parent = (child - 1) >> 1
        if keys[parent] <= key:
            break
        keys[child], items[child] = keys[parent], items[parent]
        child = parent
    keys[child], items[child] = key, item


@compiled
def pop(keys, items, size):
    """Take the first away; what is left has size - 1."""
    last = size - 1
    key, item = keys[last], items[last]
    parent = 0
    while True:
        child = 2 * parent + 1
        if child >= last:
            break
        if child + 1 < last and keys[child + 1] < keys[child]:
            child += 1
        if keys[child] >= key:
            break
        keys[parent], items[parent] = keys[child], items[child]
        parent = child
    keys[parent], items[parent] = key, item


@compiled
def traced(times, holds, servers):
    """A pool on calls as they were: times in rising order, s; holds, s. Returns whether each was refused, bool."""
    blocked = np.zeros(times.size, dtype=np.bool_)
    keys, items, size = np.empty(servers + 1), np.empty(servers + 1, dtype=np.int32), 0
    for i in range(times.size):
        while size > 0 and keys[0] <= times[i]:
            pop(keys, items, size)
            size -= 1
        if size < servers:
            push(keys, items, size, times[i] + holds[i], np.int32(0))
            size += 1
        else:
            blocked[i] = True
    return blocked


@compiled
def tried(times, holds, servers, retries, first_s):
    """The same where who is refused tries again after `first_s` s, then after twice that, and so on, `retries` times.

    Returns at which try each was served, 0 for the first, int8; -1 for none.
    """
    n = times.size
    tries = np.zeros(n, dtype=np.int8)
    keys, items, size = np.empty(servers + 1), np.empty(servers + 1, dtype=np.int32), 0
    due, who, waiting = np.empty(n + 1), np.empty(n + 1, dtype=np.int32), 0
    i = 0
    while i < n or waiting > 0:
        if waiting > 0 and (i >= n or due[0] < times[i]):
            now, call = due[0], who[0]
            pop(due, who, waiting)
            waiting -= 1
        else:
            now, call = times[i], np.int32(i)
            i += 1
        while size > 0 and keys[0] <= now:
            pop(keys, items, size)
            size -= 1
        if size < servers:
            push(keys, items, size, now + holds[call], np.int32(0))
            size += 1
        elif tries[call] < retries:
            push(due, who, waiting, now + first_s * 2.0 ** tries[call], call)
            waiting += 1
            tries[call] += 1
        else:
            tries[call] = -1
    return tries
