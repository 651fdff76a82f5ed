"""A pool on calls as they were, with the endings on a heap."""

import numpy as np

from fenrask.compiling import compiled

__all__ = ["pop", "push", "traced"]


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
