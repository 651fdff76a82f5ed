"""One pool whose servers are found by a limited search of a map of who is taken."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.random_numbers import duration, part_of, standard_exponential, uniform
from fenrask.teletraffic.simulation.kernels.slices import MASK, WHEEL, arrivals, grown, insert, put_in_order, sort

__all__ = ["filled", "searched"]

_FREE, _BUSY, _ENDED = 0, 1, 2


@compiled
def _found(s, state, reusable, rounds, late, chance):
    """The server that a search finds, or -1: from a random place on, one after another, some rounds of it.

    In the last `late` tries of a round one that has ended, but is not yet free, is taken with a chance.
    """
    size = state.size
    for tries in rounds:
        place, left = int(uniform(s) * size), min(tries, size)
        whole = left == size
        while left > 0:
            if state[place] == _FREE:
                return place
            if left <= late and state[place] == _ENDED and reusable[place] and uniform(s) < chance:
                return place
            left -= 1
            place += 1
            if place == size:
                place = 0
        if whole:
            return -1
    return -1


@compiled
def searched(s, rates, step_s, slices, warm, servers, law, reuse, rounds, late, chance, retry):
    """One pool of `servers` with a map of who is taken, and a limited search for a free one.

    As `pool`; besides: a server is taken for a life, then stays ended for the delay of its part of the law; reuse:
    whether those of a part may be given out again before their time, bool of shape (n_parts,), in the last `late`
    tries of a round, with a chance each time. rounds: tries of each round, int64. Returns as `pool`; held counts the
    ended ones too.
    """
    rows, mixes, kinds, scale, spread, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent = np.zeros(n_steps, dtype=np.int64)
    width = step_s / slices
    inverse = 1.0 / width
    state = np.zeros(servers, dtype=np.int8)
    reusable = np.zeros(servers, dtype=np.bool_)
    due, frees = np.zeros(servers), np.zeros(servers)
    following, before = np.empty(servers, dtype=np.int32), np.empty(servers, dtype=np.int32)
    in_list = np.full(servers, -1, dtype=np.int32)
    head = np.full(WHEEL, -1, dtype=np.int32)
    at, keys, items = np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    again, waiting = np.empty(1024), 0
    n, let_go = 0, 0
    for step in range(n_steps):
        mean, shares = rates[step] * width, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            b = g & MASK
            at, count = arrivals(s, mean, 1.0, at)
            if waiting:
                kept = 0
                for i in range(waiting):
                    if again[i] < g + 1:
                        at = grown(at, count)
                        at[count] = again[i] - g
                        count += 1
                    else:
                        again[kept] = again[i]
                        kept += 1
                waiting = kept
            size, server = 0, head[b]
            head[b] = -1
            while server >= 0:
                after = following[server]
                in_list[server] = -1
                if due[server] < g + 1:
                    if size >= keys.size:
                        keys, items = grown(keys, size), grown(items, size)
                    keys[size], items[size] = due[server], server
                    size += 1
                else:
                    _link(head, following, before, in_list, server, due[server], g)
                server = after
            put_in_order(keys, items, size)
            sort(at, count)
            low = 0
            for i in range(count + 1):
                now = g + at[i] if i < count else float(g + 1)
                while low < size and (i == count or keys[low] <= now):
                    key, server = keys[low], items[low]
                    low += 1
                    # One that was given out again early has another time by now.
                    if due[server] != key or in_list[server] >= 0 or state[server] == _FREE:
                        continue
                    if state[server] == _BUSY and frees[server] > key:
                        state[server] = _ENDED
                        due[server] = frees[server]
                        if due[server] < g + 1:
                            if size >= keys.size:
                                keys, items = grown(keys, size), grown(items, size)
                            insert(keys, items, low, size, due[server], server)
                            size += 1
                        else:
                            _link(head, following, before, in_list, server, due[server], g)
                    else:
                        state[server] = _FREE
                        n -= 1
                if i == count:
                    break
                attempts[step] += 1
                found = _found(s, state, reusable, rounds, late, chance)
                if found < 0:
                    blocked[step] += 1
                    if retry[0] > 0.0 and uniform(s) < retry[0]:
                        again = grown(again, waiting)
                        again[waiting] = max(now + standard_exponential(s) * retry[1] * inverse, float(g + 1))
                        waiting += 1
                    continue
                if state[found] == _FREE:
                    n += 1
                elif in_list[found] >= 0:
                    _unlink(head, following, before, in_list, found)
                part = part_of(s, shares)
                ends = now + duration(s, part, kinds, scale, spread, table) * inverse
                state[found], reusable[found] = _BUSY, reuse[part]
                due[found], frees[found] = ends, ends + delays[part] * inverse
                if ends < g + 1:
                    if size >= keys.size:
                        keys, items = grown(keys, size), grown(items, size)
                    insert(keys, items, low, size, ends, found)
                    size += 1
                else:
                    _link(head, following, before, in_list, found, ends, g)
        concurrent[step] = n
    return attempts[warm:], blocked[warm:], concurrent[warm:], let_go


@compiled
def filled(s, servers, ended, rounds, late, chance, attempts):
    """So many calls that never end, onto a pool of which `ended` servers have ended and are reusable; the rest is free.

    Returns whether each was refused, bool of shape (attempts,).
    """
    state, reusable = np.zeros(servers, dtype=np.int8), np.ones(servers, dtype=np.bool_)
    state[:ended] = _ENDED
    blocked = np.zeros(attempts, dtype=np.bool_)
    for i in range(attempts):
        found = _found(s, state, reusable, rounds, late, chance)
        if found >= 0:
            state[found] = _BUSY
        else:
            blocked[i] = True
    return blocked


@compiled
def _link(head, following, before, in_list, server, end, g):
    away = min(int(min(end, 9.0e15)) - g, WHEEL - 1)
    c = (g + away) & MASK
    first = head[c]
    following[server], before[server], in_list[server] = first, -1, c
    if first >= 0:
        before[first] = server
    head[c] = server


@compiled
def _unlink(head, following, before, in_list, server):
    prior, after = before[server], following[server]
    if prior >= 0:
        following[prior] = after
    else:
        head[in_list[server]] = after
    if after >= 0:
        before[after] = prior
    in_list[server] = -1
