"""One pool whose servers are alike: any free one does."""

import math

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.random_numbers import drawn_holds, standard_exponential, uniform
from fenrask.teletraffic.simulation.kernels.slices import (
    MASK,
    WHEEL,
    all_free,
    arrivals,
    clear,
    due_in,
    grown,
    hang,
    insert,
    sort,
    wheel_of_slices,
)

__all__ = ["pool"]


@compiled
def pool(s, rates, step_s, slices, warm, servers, cleared, law, batch, on_off, retry):
    """One pool whose servers are alike: who is refused does not depend on which server it was.

    s: generator state. rates: new calls per s in each step, shape (n,); step_s: its width, s, of `slices` slices.
    law: the row of shares in force in each step, int64 of shape (n,); cumulated shares of the parts of the law of
    holds, shape (n_rows, n_parts); kinds of the parts, their two parameters, the delay after each, and measured holds.
    warm: steps at the beginning that are run but not counted. servers: in each step, shape (n,); cleared: whether
    all calls are lost at the step's beginning, shape (n,). batch: calls that come at once, the mean of a geometric
    number, at least 1. on_off: mean s of both states of a source of arrivals that is silent now and then, (0, 0) for
    none; the mean rate stays. retry: share of refused calls that try again, mean delay in s.

    Returns by step, int64 of shape (n - warm,): attempts, refused, held at the end of it; and the number of retries
    that were let go for want of room to note them.
    """
    rows, mixes, kinds, scale, spread, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent = np.zeros(n_steps, dtype=np.int64)
    most = 1
    for step in range(n_steps):
        most = max(most, servers[step])
    width = step_s / slices
    inverse = 1.0 / width
    following, ends = np.empty(most, dtype=np.int32), np.zeros(most)
    all_free(following)
    free, n = np.int32(0), 0
    wheel = wheel_of_slices()
    at, holds, keys, items = np.empty(256), np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    # Calls that are to try again hang in lists of their own.
    again = np.empty(4 * most + 4096 if retry[0] > 0.0 else 1, dtype=np.int32)
    all_free(again)
    again_at, again_free, let_go = np.zeros(again.size), np.int32(0), 0
    again_head = np.full(WHEEL, -1, dtype=np.int32)
    switching = on_off[0] > 0.0
    on, switch, duty = True, math.inf, 1.0
    if switching:
        duty = on_off[0] / (on_off[0] + on_off[1])
        on = uniform(s) < duty
        switch = standard_exponential(s) * (on_off[0] if on else on_off[1]) * inverse
    for step in range(n_steps):
        limit = servers[step]
        if cleared[step]:
            all_free(following)
            clear(wheel)
            free, n = np.int32(0), 0
        mean, shares = rates[step] * width / duty, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            b = g & MASK
            at, count = arrivals(s, mean, batch, at)
            if count > holds.size:
                holds = np.empty(2 * count)
            drawn_holds(s, shares, kinds, scale, spread, delays, table, holds, count)
            drawn = count
            if not switching and n + count <= limit and again_head[b] < 0:
                for i in range(count):
                    end = g + at[i] + holds[i] * inverse
                    server = free
                    free = following[server]
                    ends[server] = end
                    hang(wheel, following, server, end, g)
                n += count
                attempts[step] += count
                if wheel[b, 3] == 0:
                    if wheel[b, 0] >= 0:
                        following[wheel[b, 1]] = free
                        free = wheel[b, 0]
                        n -= wheel[b, 2]
                        wheel[b, 0], wheel[b, 2] = -1, 0
                    continue
                count = 0
            # One by one: the endings of this slice, and what is to try again in it.
            keys, items, size = due_in(wheel, following, ends, keys, items, g)
            node = again_head[b]
            again_head[b] = -1
            while node >= 0:
                after = again[node]
                if again_at[node] < g + 1:
                    at = grown(at, count)
                    at[count] = again_at[node] - g
                    count += 1
                    again[node] = again_free
                    again_free = node
                else:
                    again[node] = again_head[b]
                    again_head[b] = node
                node = after
            sort(at, count)
            low = 0
            given = 0
            for i in range(count):
                now = g + at[i]
                while low < size and keys[low] <= now:
                    following[items[low]] = free
                    free = items[low]
                    low += 1
                    n -= 1
                while switch <= now:
                    on = not on
                    switch += standard_exponential(s) * (on_off[0] if on else on_off[1]) * inverse
                if not on:
                    continue
                attempts[step] += 1
                if n < limit:
                    server = free
                    free = following[server]
                    if given == drawn:
                        drawn_holds(s, shares, kinds, scale, spread, delays, table, holds, 1)
                        given = 0
                    end = now + holds[given] * inverse
                    given += 1
                    ends[server] = end
                    n += 1
                    if end < g + 1:
                        if size >= keys.size:
                            keys, items = grown(keys, size), grown(items, size)
                        insert(keys, items, low, size, end, server)
                        size += 1
                    else:
                        hang(wheel, following, server, end, g)
                    continue
                blocked[step] += 1
                if retry[0] > 0.0 and uniform(s) < retry[0]:
                    if again_free < 0:
                        let_go += 1
                        continue
                    when = now + standard_exponential(s) * retry[1] * inverse
                    # One that is due in this very slice comes at the beginning of the next.
                    when = max(when, float(g + 1))
                    node = again_free
                    again_free = again[node]
                    again_at[node] = when
                    c = int(min(when, 9.0e15)) & MASK
                    again[node] = again_head[c]
                    again_head[c] = node
            for i in range(low, size):
                following[items[i]] = free
                free = items[i]
            n -= size - low
        concurrent[step] = n
    return attempts[warm:], blocked[warm:], concurrent[warm:], let_go
