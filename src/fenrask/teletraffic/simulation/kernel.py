"""The simulation's compiled kernels: arrays in, arrays out, no objects, no global state.

Time runs in slices of one width. What ends in a slice hangs in a linked list of a wheel, so that a slice's
endings are given back at once. Where a slice cannot refuse anybody (held + arriving <= servers) the order within
it tells nothing and is not made; else its endings and arrivals are taken one by one in exact order, endings first
at one instant. Both ways give the same process: nothing is rounded to slices.

Random numbers are xoshiro256++ (Blackman & Vigna 2021), seeded by splitmix64, one stream a run; Poisson numbers by
transformed rejection (Hoermann 1993). The same seed gives the same run wherever it is run.
"""

import math

import numpy as np

from fenrask.compiling import compiled

__all__ = ["blocks", "filled", "growing", "pool", "searched", "seeded", "traced"]

_EXPONENTIAL, _FIXED, _LOGNORMAL = 0, 1, 2
_FREE, _BUSY, _ENDED = 0, 1, 2
_STEP = 1.0 / 9007199254740992.0
_WHEEL = 16384
_MASK = _WHEEL - 1
_GAPS = (12983, 5771, 2565, 1140, 506, 225, 100, 44, 20, 8, 1)


def _ziggurat(tail, area, height, edge):
    """Edges and heights of 256 layers of one area under a falling density; the lowest holds the tail."""
    edges = np.empty(257)
    edges[0], edges[1] = area / height(tail), tail
    for i in range(2, 256):
        edges[i] = edge(height(edges[i - 1]) + area / edges[i - 1])
    edges[256] = 0.0
    heights = np.array([height(one) for one in edges])
    heights[0] = 0.0
    return edges, heights


_EDGES, _HEIGHTS = _ziggurat(
    7.69711747013104972, 0.0039496598225815571993, lambda x: math.exp(-x), lambda y: -math.log(y)
)
_NORMAL_EDGES, _NORMAL_HEIGHTS = _ziggurat(
    3.6541528853610088, 0.00492867323399, lambda x: math.exp(-0.5 * x * x), lambda y: math.sqrt(-2.0 * math.log(y))
)


# --- random numbers ---------------------------------------------------------------------------------------------------


@compiled
def seeded(seed, run):
    """The state of a generator, uint64 of shape (4,), for one run of a seed."""
    state = np.empty(4, dtype=np.uint64)
    z = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(run) * np.uint64(0xD1342543DE82EF95)
    for i in range(4):
        z += np.uint64(0x9E3779B97F4A7C15)
        x = z
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        state[i] = x ^ (x >> np.uint64(31))
    return state


@compiled
def _bits(s):
    """64 of them."""
    total = s[0] + s[3]
    result = ((total << np.uint64(23)) | (total >> np.uint64(41))) + s[0]
    t = s[1] << np.uint64(17)
    s[2] ^= s[0]
    s[3] ^= s[1]
    s[1] ^= s[2]
    s[0] ^= s[3]
    s[2] ^= t
    s[3] = (s[3] << np.uint64(45)) | (s[3] >> np.uint64(19))
    return result


@compiled
def _uniform(s):
    """In [0, 1), of 53 bits."""
    return float(_bits(s) >> np.uint64(11)) * _STEP


@compiled
def _standard_exponential(s):
    """By the ziggurat of 256 layers (Marsaglia & Tsang 2000)."""
    while True:
        # The lowest bits choose the layer, the others the place in it.
        bits = _bits(s)
        layer = int(bits & np.uint64(255))
        x = float(bits >> np.uint64(11)) * _STEP * _EDGES[layer]
        if x < _EDGES[layer + 1]:
            return x
        x = _at_the_edge(s, layer, x)
        if x >= 0.0:
            return x


@compiled
def _at_the_edge(s, layer, x):
    """What a place outside a layer's inner part comes to; negative where it is under no density."""
    if layer == 0:
        return _EDGES[1] - math.log(1.0 - _uniform(s))
    if _HEIGHTS[layer] + _uniform(s) * (_HEIGHTS[layer + 1] - _HEIGHTS[layer]) < math.exp(-x):
        return x
    return -1.0


@compiled
def _exponentials(s, out, count):
    """So many at once, the same as one by one: the generator's state stays in registers meanwhile."""
    r0, r1, r2, r3 = s[0], s[1], s[2], s[3]
    i = 0
    while i < count:
        total = r0 + r3
        bits = ((total << np.uint64(23)) | (total >> np.uint64(41))) + r0
        t = r1 << np.uint64(17)
        r2 ^= r0
        r3 ^= r1
        r1 ^= r2
        r0 ^= r3
        r2 ^= t
        r3 = (r3 << np.uint64(45)) | (r3 >> np.uint64(19))
        layer = int(bits & np.uint64(255))
        x = float(bits >> np.uint64(11)) * _STEP * _EDGES[layer]
        if x >= _EDGES[layer + 1]:
            s[0], s[1], s[2], s[3] = r0, r1, r2, r3
            x = _at_the_edge(s, layer, x)
            r0, r1, r2, r3 = s[0], s[1], s[2], s[3]
            if x < 0.0:
                continue
        out[i] = x
        i += 1
    s[0], s[1], s[2], s[3] = r0, r1, r2, r3


@compiled
def _normal(s):
    """By the ziggurat too, its tail by Marsaglia's method (1964)."""
    while True:
        bits = _bits(s)
        u = 2.0 * float(bits >> np.uint64(11)) * _STEP - 1.0
        layer = int(bits & np.uint64(255))
        x = u * _NORMAL_EDGES[layer]
        if abs(x) < _NORMAL_EDGES[layer + 1]:
            return x
        if layer == 0:
            while True:
                x = -math.log(1.0 - _uniform(s)) / _NORMAL_EDGES[1]
                if -2.0 * math.log(1.0 - _uniform(s)) > x * x:
                    return _NORMAL_EDGES[1] + x if u > 0.0 else -_NORMAL_EDGES[1] - x
        low, high = _NORMAL_HEIGHTS[layer], _NORMAL_HEIGHTS[layer + 1]
        if low + _uniform(s) * (high - low) < math.exp(-0.5 * x * x):
            return x


@compiled
def _poisson(s, mean):
    if mean < 12.0:
        limit, product, count = math.exp(-mean), _uniform(s), 0
        while product > limit:
            product *= _uniform(s)
            count += 1
        return count
    root = math.sqrt(mean)
    b = 0.931 + 2.53 * root
    a = -0.059 + 0.02483 * b
    inverse = 1.1239 + 1.1328 / (b - 3.4)
    squeeze = 0.9277 - 3.6224 / (b - 2.0)
    while True:
        u, v = _uniform(s) - 0.5, _uniform(s)
        us = 0.5 - abs(u)
        k = math.floor((2.0 * a / us + b) * u + mean + 0.43)
        if us >= 0.07 and v <= squeeze:
            return int(k)
        if k < 0.0 or (us < 0.013 and v > us):
            continue
        if math.log(v) + math.log(inverse) - math.log(a / (us * us) + b) <= k * math.log(mean) - mean - math.lgamma(
            k + 1.0
        ):
            return int(k)


@compiled
def _part(s, shares):
    """Which part of a law a hold follows, by its cumulated shares."""
    if shares.size == 1:
        return 0
    u, i = _uniform(s), 0
    while u >= shares[i] and i < shares.size - 1:
        i += 1
    return i


@compiled
def _duration(s, i, kinds, one, two, table):
    """A life of part i, s, without the delay after it."""
    kind = kinds[i]
    if kind == _EXPONENTIAL:
        return one[i] * _standard_exponential(s)
    if kind == _FIXED:
        return one[i]
    if kind == _LOGNORMAL:
        return math.exp(one[i] + two[i] * _normal(s))
    return table[int(one[i]) + int(_uniform(s) * two[i])]


@compiled
def _holds(s, shares, kinds, one, two, delays, table, holds, count):
    """So many holds, s, at once."""
    if shares.size == 1 and kinds[0] == _EXPONENTIAL:
        mean, delay = one[0], delays[0]
        _exponentials(s, holds, count)
        for j in range(count):
            holds[j] = mean * holds[j] + delay
        return
    for j in range(count):
        i = _part(s, shares)
        holds[j] = _duration(s, i, kinds, one, two, table) + delays[i]


# --- the endings of one slice, in order -------------------------------------------------------------------------------


@compiled
def _insert(keys, items, low, size, key, item):
    """Into what is in order from low on; what is left then has size + 1."""
    i = size - 1
    while i >= low and keys[i] > key:
        keys[i + 1], items[i + 1] = keys[i], items[i]
        i -= 1
    keys[i + 1], items[i + 1] = key, item


@compiled
def _ordered(keys, items, size):
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


# --- a heap, for calls as they were -----------------------------------------------------------------------------------


@compiled
def _push(keys, items, size, key, item):
    child = size
    while child > 0:
        parent = (child - 1) >> 1
        if keys[parent] <= key:
            break
        keys[child], items[child] = keys[parent], items[parent]
        child = parent
    keys[child], items[child] = key, item


@compiled
def _pop(keys, items, size):
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
def _grown(array, size):
    if size < array.size:
        return array
    longer = np.empty(max(2 * array.size, size + 1), dtype=array.dtype)
    longer[: array.size] = array
    return longer


# --- arrivals of one slice --------------------------------------------------------------------------------------------


@compiled
def _arrivals(s, mean, batch, at):
    """Places in the slice, in [0, 1), of its arrivals, unsorted, `mean` of them in the mean; and their number.

    Those of a batch come at one place; a batch has `batch` in the mean, geometrically.
    """
    count = 0
    epochs = _poisson(s, mean / batch) if mean > 0.0 else 0
    if batch == 1.0:
        if epochs > at.size:
            at = np.empty(2 * epochs)
        for i in range(epochs):
            at[i] = _uniform(s)
        return at, epochs
    for _ in range(epochs):
        place = _uniform(s)
        more = True
        while more:
            if count >= at.size:
                at = _grown(at, count)
            at[count] = place
            count += 1
            more = _uniform(s) >= 1.0 / batch
    return at, count


@compiled
def _sorted(at, count):
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


# --- the wheel: lists of servers by the slice in which they fall free -------------------------------------------------


@compiled
def _wheel():
    """For each slice: first and last server of its list, how many, and whether some end rounds later; shape (n, 4)."""
    wheel = np.empty((_WHEEL, 4), dtype=np.int32)
    _cleared(wheel)
    return wheel


@compiled
def _cleared(wheel):
    wheel[:, 0], wheel[:, 1], wheel[:, 2], wheel[:, 3] = -1, -1, 0, 0


@compiled
def _all_free(following):
    """Make one list of all servers."""
    for i in range(following.size):
        following[i] = i + 1
    following[following.size - 1] = -1


@compiled
def _hang(wheel, following, server, end, g):
    """Into the list of the slice in which it ends, or into the last one that the wheel has from here."""
    away = int(min(end, 9.0e15)) - g
    if away >= _WHEEL:
        away = _WHEEL - 1
        wheel[(g + away) & _MASK, 3] = 1
    c = (g + away) & _MASK
    first = wheel[c, 0]
    following[server] = first
    if first < 0:
        wheel[c, 1] = server
    wheel[c, 0] = server
    wheel[c, 2] += 1


@compiled
def _due(wheel, following, ends, keys, items, g):
    """What ends in a slice, in order: times, servers, how many; what hung there and ends later is hung up again."""
    b = g & _MASK
    size, server = 0, wheel[b, 0]
    wheel[b, 0], wheel[b, 2], wheel[b, 3] = -1, 0, 0
    while server >= 0:
        after = following[server]
        if ends[server] < g + 1:
            if size >= keys.size:
                keys, items = _grown(keys, size), _grown(items, size)
            keys[size], items[size] = ends[server], server
            size += 1
        else:
            _hang(wheel, following, server, ends[server], g)
        server = after
    _ordered(keys, items, size)
    return keys, items, size


# --- one pool of alike servers ----------------------------------------------------------------------------------------


@compiled
def pool(s, rates, step_s, slices, warm, servers, cleared, law, batch, sources, on_off, retry):
    """One pool whose servers are alike: who is refused does not depend on which server it was.

    s: generator state. rates: new calls per s in each step, shape (n,); step_s: its width, s, of `slices` slices.
    law: the row of shares in force in each step, int64 of shape (n,); cumulated shares of the parts of the law of
    holds, shape (n_rows, n_parts); kinds of the parts, their two parameters, the delay after each, and measured holds.
    warm: steps at the beginning that are run but not counted. servers: in each step, shape (n,); cleared: whether
    all calls are lost at the step's beginning, shape (n,). batch: calls that come at once, the mean of a geometric
    number, at least 1. sources: where above 0, calls come of so many sources, one each at most: the rate is that of
    all idle. on_off: mean s of both states of a source of arrivals that is silent now and then, (0, 0) for none; the
    mean rate stays. retry: share of refused calls that try again, mean delay in s.

    Returns by step, int64 of shape (n - warm,): attempts, refused, held at the end of it; and the number of retries
    that were let go for want of room to note them.
    """
    rows, mixes, kinds, one, two, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent = np.zeros(n_steps, dtype=np.int64)
    most = 1
    for step in range(n_steps):
        most = max(most, servers[step])
    width = step_s / slices
    inverse = 1.0 / width
    following, ends = np.empty(most, dtype=np.int32), np.zeros(most)
    _all_free(following)
    free, n = np.int32(0), 0
    wheel = _wheel()
    at, holds, keys, items = np.empty(256), np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    # Calls that are to try again hang in lists of their own.
    again = np.empty(4 * most + 4096 if retry[0] > 0.0 else 1, dtype=np.int32)
    _all_free(again)
    again_at, again_free, let_go = np.zeros(again.size), np.int32(0), 0
    again_head = np.full(_WHEEL, -1, dtype=np.int32)
    switching = on_off[0] > 0.0
    on, switch, duty = True, math.inf, 1.0
    if switching:
        duty = on_off[0] / (on_off[0] + on_off[1])
        on = _uniform(s) < duty
        switch = _standard_exponential(s) * (on_off[0] if on else on_off[1]) * inverse
    plain = sources <= 0.0 and not switching
    for step in range(n_steps):
        limit = servers[step]
        if cleared[step]:
            _all_free(following)
            _cleared(wheel)
            free, n = np.int32(0), 0
        mean, shares = rates[step] * width / duty, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            b = g & _MASK
            at, count = _arrivals(s, mean, batch, at)
            if count > holds.size:
                holds = np.empty(2 * count)
            _holds(s, shares, kinds, one, two, delays, table, holds, count)
            drawn = count
            if plain and n + count <= limit and again_head[b] < 0:
                for i in range(count):
                    end = g + at[i] + holds[i] * inverse
                    server = free
                    free = following[server]
                    ends[server] = end
                    _hang(wheel, following, server, end, g)
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
            keys, items, size = _due(wheel, following, ends, keys, items, g)
            node = again_head[b]
            again_head[b] = -1
            while node >= 0:
                after = again[node]
                if again_at[node] < g + 1:
                    at = _grown(at, count)
                    at[count] = again_at[node] - g
                    count += 1
                    again[node] = again_free
                    again_free = node
                else:
                    again[node] = again_head[b]
                    again_head[b] = node
                node = after
            _sorted(at, count)
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
                    switch += _standard_exponential(s) * (on_off[0] if on else on_off[1]) * inverse
                if not on or (sources > 0.0 and _uniform(s) * sources >= sources - n):
                    continue
                attempts[step] += 1
                if n < limit:
                    server = free
                    free = following[server]
                    if given == drawn:
                        _holds(s, shares, kinds, one, two, delays, table, holds, 1)
                        given = 0
                    end = now + holds[given] * inverse
                    given += 1
                    ends[server] = end
                    n += 1
                    if end < g + 1:
                        if size >= keys.size:
                            keys, items = _grown(keys, size), _grown(items, size)
                        _insert(keys, items, low, size, end, server)
                        size += 1
                    else:
                        _hang(wheel, following, server, end, g)
                    continue
                blocked[step] += 1
                if retry[0] > 0.0 and _uniform(s) < retry[0]:
                    if again_free < 0:
                        let_go += 1
                        continue
                    when = now + _standard_exponential(s) * retry[1] * inverse
                    # One that is due in this very slice comes at the beginning of the next.
                    when = max(when, float(g + 1))
                    node = again_free
                    again_free = again[node]
                    again_at[node] = when
                    c = int(min(when, 9.0e15)) & _MASK
                    again[node] = again_head[c]
                    again_head[c] = node
            for i in range(low, size):
                following[items[i]] = free
                free = items[i]
            n -= size - low
        concurrent[step] = n
    return attempts[warm:], blocked[warm:], concurrent[warm:], let_go


# --- one pool whose servers are found by a search ---------------------------------------------------------------------


@compiled
def _found(s, state, reusable, rounds, late, chance):
    """The server that a search finds, or -1: from a random place on, one after another, some rounds of it.

    In the last `late` tries of a round one that has ended, but is not yet free, is taken with a chance.
    """
    size = state.size
    for tries in rounds:
        place, left = int(_uniform(s) * size), min(tries, size)
        whole = left == size
        while left > 0:
            if state[place] == _FREE:
                return place
            if left <= late and state[place] == _ENDED and reusable[place] and _uniform(s) < chance:
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
    rows, mixes, kinds, one, two, delays, table = law
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
    head = np.full(_WHEEL, -1, dtype=np.int32)
    at, keys, items = np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    again, waiting = np.empty(1024), 0
    n, let_go = 0, 0
    for step in range(n_steps):
        mean, shares = rates[step] * width, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            b = g & _MASK
            at, count = _arrivals(s, mean, 1.0, at)
            if waiting:
                kept = 0
                for i in range(waiting):
                    if again[i] < g + 1:
                        at = _grown(at, count)
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
                        keys, items = _grown(keys, size), _grown(items, size)
                    keys[size], items[size] = due[server], server
                    size += 1
                else:
                    _link(head, following, before, in_list, server, due[server], g)
                server = after
            _ordered(keys, items, size)
            _sorted(at, count)
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
                                keys, items = _grown(keys, size), _grown(items, size)
                            _insert(keys, items, low, size, due[server], server)
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
                    if retry[0] > 0.0 and _uniform(s) < retry[0]:
                        again = _grown(again, waiting)
                        again[waiting] = max(now + _standard_exponential(s) * retry[1] * inverse, float(g + 1))
                        waiting += 1
                    continue
                if state[found] == _FREE:
                    n += 1
                elif in_list[found] >= 0:
                    _unlink(head, following, before, in_list, found)
                part = _part(s, shares)
                ends = now + _duration(s, part, kinds, one, two, table) * inverse
                state[found], reusable[found] = _BUSY, reuse[part]
                due[found], frees[found] = ends, ends + delays[part] * inverse
                if ends < g + 1:
                    if size >= keys.size:
                        keys, items = _grown(keys, size), _grown(items, size)
                    _insert(keys, items, low, size, ends, found)
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
    away = min(int(min(end, 9.0e15)) - g, _WHEEL - 1)
    c = (g + away) & _MASK
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


# --- hosts with servers of their own ----------------------------------------------------------------------------------


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
    rows, mixes, kinds, one, two, delays, table = law
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
                now = step * step_s + gap * _standard_exponential(s)
                while now < closes:
                    tried += 1
                    if n == servers:
                        n = _still(ends, n, now)
                    if n < servers:
                        if given == holds.size:
                            _holds(s, mixes[row], kinds, one, two, delays, table, holds, holds.size)
                            given = 0
                        ends[n] = now + holds[given]
                        given += 1
                        n += 1
                    else:
                        lost += 1
                    if used == gaps.size:
                        _exponentials(s, gaps, gaps.size)
                        used = 0
                    now += gap * gaps[used]
                    used += 1
                attempts[step] += tried
                blocked[step] += lost
            n = _still(ends, n, closes)
            concurrent[step] += n
    return attempts[warm:], blocked[warm:], concurrent[warm:], 0


@compiled
def growing(s, rates, step_s, slices, warm, owners, first, last, total, law):
    """Owners whose blocks double from `first` up to `last` servers as they fill, of `total` servers in all.

    rates: of all owners together, each as likely. A block is halved when a quarter of it is used, and given back
    when none is. Returns as `pool`, and the servers in blocks at the end of each step.
    """
    rows, mixes, kinds, one, two, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent, owned = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    width = step_s / slices
    inverse = 1.0 / width
    most = max(1, total)
    following, ends = np.empty(most, dtype=np.int32), np.zeros(most)
    _all_free(following)
    owner = np.zeros(most, dtype=np.int32)
    free, n, taken = np.int32(0), 0, 0
    used, block = np.zeros(owners, dtype=np.int64), np.zeros(owners, dtype=np.int64)
    wheel = _wheel()
    at, holds, keys, items = np.empty(256), np.empty(256), np.empty(256), np.empty(256, dtype=np.int32)
    for step in range(n_steps):
        mean, shares = rates[step] * width, mixes[rows[step]]
        for g in range(step * slices, (step + 1) * slices):
            at, count = _arrivals(s, mean, 1.0, at)
            if count > holds.size:
                holds = np.empty(2 * count)
            _holds(s, shares, kinds, one, two, delays, table, holds, count)
            keys, items, size = _due(wheel, following, ends, keys, items, g)
            _sorted(at, count)
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
                h = int(_uniform(s) * owners)
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
                        keys, items = _grown(keys, size), _grown(items, size)
                    _insert(keys, items, low, size, end, server)
                    size += 1
                else:
                    _hang(wheel, following, server, end, g)
        concurrent[step], owned[step] = n, taken
    return attempts[warm:], blocked[warm:], concurrent[warm:], owned[warm:]


@compiled
def traced(times, holds, servers):
    """A pool on calls as they were: times in rising order, s; holds, s. Returns whether each was refused, bool."""
    blocked = np.zeros(times.size, dtype=np.bool_)
    keys, items, size = np.empty(servers + 1), np.empty(servers + 1, dtype=np.int32), 0
    for i in range(times.size):
        while size > 0 and keys[0] <= times[i]:
            _pop(keys, items, size)
            size -= 1
        if size < servers:
            _push(keys, items, size, times[i] + holds[i], np.int32(0))
            size += 1
        else:
            blocked[i] = True
    return blocked
