"""Hosts with servers of their own: blocks that are fixed, and blocks that grow as they fill."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.random_numbers import (
    drawn_holds,
    exponentials,
    standard_exponential,
    uniform,
)
from fenrask.teletraffic.simulation.kernels.slices import (
    all_free,
    arrivals,
    due_in,
    grown,
    hang,
    insert,
    sort,
    wheel_of_slices,
)

__all__ = ["blocks", "growing"]


@compiled
def _still(ends, n, now):
    """Let go what has ended; how many are left. Without a branch, which nobody could foretell."""
    left = 0
    for i in range(n):
        end = ends[i]
        ends[left] = end
        left += end > now
    return left


@compiled
def blocks(s, rates, step_s, warm, owners, servers, law):
    """So many owners, each with `servers` of its own and calls at `rates` per s; one owner after another.

    What has ended is looked for only where all seems taken, and at the end of a step. Returns as `pool`, summed over
    owners.
    """
    rows, mixes, kinds, scale, spread, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent = np.zeros(n_steps, dtype=np.int64)
    ends, holds, gaps, used = np.empty(max(1, servers)), np.empty(256), np.empty(256), 256
    for _ in range(owners):
        n, given, row = 0, holds.size, -1
        for step in range(n_steps):
            rate, closes = rates[step], (step + 1) * step_s
            if rows[step] != row:
                # Holds that were drawn before another mix began are not for it.
                row, given = rows[step], holds.size
            if rate > 0.0:
                gap, tried, lost = 1.0 / rate, 0, 0
                now = step * step_s + gap * standard_exponential(s)
                while now < closes:
                    tried += 1
                    if n == servers:
                        n = _still(ends, n, now)
                    if n < servers:
                        if given == holds.size:
                            drawn_holds(s, mixes[row], kinds, scale, spread, delays, table, holds, holds.size)
                            given = 0
                        ends[n] = now + holds[given]
                        given += 1
                        n += 1
                    else:
                        lost += 1
                    if used == gaps.size:
                        exponentials(s, gaps, gaps.size)
                        used = 0
                    now += gap * gaps[used]
                    used += 1
                attempts[step] += tried
                blocked[step] += lost
            n = _still(ends, n, closes)
            concurrent[step] += n
    return attempts[warm:], blocked[warm:], concurrent[warm:], 0


@compiled
def growing(s, rates, step_s, slices, warm, owners, first, last, total, open_each, law):
    """Owners whose blocks double from `first` up to `last` servers as they fill, of `total` servers in all.

    open_each: servers that each owner has for good, as far as there are blocks for them.
    rates: of all owners together, each as likely. A block is halved when a quarter of it is used, and given back
    when none is. Returns as `pool`, and the servers in blocks at the end of each step.
    """
    rows, mixes, kinds, scale, spread, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent, owned = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    width = step_s / slices
    inverse = 1.0 / width
    most = max(1, total)
    following, ends = np.empty(most, dtype=np.int32), np.zeros(most)
    all_free(following)
    owner = np.zeros(most, dtype=np.int32)
    free, n, taken = np.int32(0), 0, 0
    used, block = np.zeros(owners, dtype=np.int64), np.zeros(owners, dtype=np.int64)
    for h in range(owners if open_each else 0):
        size = first
        while size < open_each and 2 * size <= last:
            size *= 2
        if taken + size <= total:
            block[h], used[h] = size, min(size, open_each)
            taken += size
    wheel = wheel_of_slices()
    at, holds, keys, items = np.empty(256), np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    for step in range(n_steps):
        mean, shares = rates[step] * width, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            at, count = arrivals(s, mean, 1.0, at)
            if count > holds.size:
                holds = np.empty(2 * count)
            drawn_holds(s, shares, kinds, scale, spread, delays, table, holds, count)
            keys, items, size = due_in(wheel, following, ends, keys, items, g)
            sort(at, count)
            low = 0
            for i in range(count + 1):
                now = g + at[i] if i < count else float(g + 1)
                while low < size and (i == count or keys[low] <= now):
                    server = items[low]
                    low += 1
                    following[server] = free
                    free = server
                    n -= 1
                    h = owner[server]
                    used[h] -= 1
                    if used[h] == 0:
                        taken -= block[h]
                        block[h] = 0
                    elif block[h] > first and 4 * used[h] <= block[h]:
                        block[h] //= 2
                        taken -= block[h]
                if i == count:
                    break
                attempts[step] += 1
                h = int(uniform(s) * owners)
                if used[h] == block[h]:
                    more = first if block[h] == 0 else block[h]
                    if block[h] + more > last or taken + more > total:
                        blocked[step] += 1
                        continue
                    block[h] += more
                    taken += more
                server = free
                free = following[server]
                owner[server] = h
                used[h] += 1
                n += 1
                end = now + holds[i] * inverse
                ends[server] = end
                if end < g + 1:
                    if size >= keys.size:
                        keys, items = grown(keys, size), grown(items, size)
                    insert(keys, items, low, size, end, server)
                    size += 1
                else:
                    hang(wheel, following, server, end, g)
        concurrent[step], owned[step] = n, taken
    return attempts[warm:], blocked[warm:], concurrent[warm:], owned[warm:]
