"""Pools event by event: hosts that open only so many connections, ports that stay taken after, and tries again."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.heap import pop, push
from fenrask.teletraffic.simulation.kernels.random_numbers import duration, part_of, uniform
from fenrask.teletraffic.simulation.kernels.slices import arrivals, grown, sort

__all__ = ["single_events"]


@compiled
def _shrunk(room, used, cell, first):
    """Halve a block of which a quarter is used, or give it back where none is; how many servers that frees."""
    before = room[cell]
    if used[cell] == 0:
        room[cell] = 0
    elif before > first and 4 * used[cell] <= before:
        room[cell] = before // 2
    return before - room[cell]


@compiled
def single_events(
    s, rates, step_s, warm, servers, taken, places, nodes, growth, each, retries, first_s, law, batch, begins,
    fixed_lives, fixed_delays,
):  # fmt: skip
    """Arguments as those of `pool`; each host is as likely; each: connections that one has open at most.

    servers, taken: of each cell, int64 of shape (n_cells,): how many there are, and how many of them for good. places:
    of each host, int32: the first of the `nodes` cells of which a hash sends each of its calls to one, where it is
    tried again, too. growth: first, last and total: cells whose servers grow by doubling as they fill, as those of
    `growing`; a total of 0 for cells that do not.
    begins, fixed_lives, fixed_delays: of calls that come at times of their own, in order, s; all of one length.
    A call without a server is tried again `retries` times, first_s, twice that, four times that after the last try.
    One that its host does not open is no attempt, nor is a later try. Returns as `pool`; the calls by step that hosts
    did not open; and how many were served at each try, at last how many never, int64 of shape (retries + 2,), without
    the warm steps.
    """
    rows, mixes, kinds, scale, spread, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent, at_host = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    served = np.zeros(retries + 2, dtype=np.int64)
    owners = places.size
    open_ = np.zeros(owners, dtype=np.int64)
    first, last, total = growth
    room, used = servers.copy(), taken.copy()
    given = room.sum()
    lives, hosts, living = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    ends, cells, held = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    # Of each call that is to be tried again: which try that is, its node and its host.
    again, which, waiting = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    at, fixed = np.empty(256), 0
    for step in range(n_steps):
        shares = mixes[rows[step]]
        at, count = arrivals(s, rates[step] * step_s, batch, at)
        sort(at, count)
        i = 0
        while True:
            now = (step + (at[i] if i < count else 1.0)) * step_s
            tries, host, own, node = 0, -1, -1, 0
            if fixed < begins.size and begins[fixed] <= now:
                now, own = begins[fixed], fixed
            if waiting > 0 and again[0] <= now:
                own = -1
                now, host = again[0], which[0] % owners
                node = which[0] // owners % nodes
                tries = which[0] // (owners * nodes)
                pop(again, which, waiting)
                waiting -= 1
            while living > 0 and lives[0] <= now:
                open_[hosts[0]] -= 1
                pop(lives, hosts, living)
                living -= 1
            while held > 0 and ends[0] <= now:
                cell = cells[0]
                pop(ends, cells, held)
                held -= 1
                used[cell] -= 1
                if total:
                    given -= _shrunk(room, used, cell, first)
            if host < 0:
                if own >= 0:
                    fixed += 1
                elif i == count:
                    break
                else:
                    i += 1
                host = int(uniform(s) * owners)
                if open_[host] >= each:
                    at_host[step] += 1
                    continue
                if nodes > 1:
                    node = int(uniform(s) * nodes)
            cell = places[host] + node
            attempts[step] += tries == 0
            if total and used[cell] >= room[cell]:
                more = first if room[cell] == 0 else room[cell]
                if room[cell] + more <= last and given + more <= total:
                    room[cell] += more
                    given += more
            if used[cell] >= room[cell]:
                blocked[step] += tries == 0
                if tries < retries:
                    again, which = grown(again, waiting), grown(which, waiting)
                    push(
                        again,
                        which,
                        waiting,
                        now + first_s * 2.0**tries,
                        np.int32(((tries + 1) * nodes + node) * owners + host),
                    )
                    waiting += 1
                elif step >= warm:
                    served[retries + 1] += 1
                continue
            if step >= warm:
                served[tries] += 1
            if own >= 0:
                life, delay = fixed_lives[own], fixed_delays[own]
            else:
                part = part_of(s, shares)
                life, delay = duration(s, part, kinds, scale, spread, table), delays[part]
            if life > 0.0:
                open_[host] += 1
                lives, hosts = grown(lives, living), grown(hosts, living)
                push(lives, hosts, living, now + life, np.int32(host))
                living += 1
            ends, cells = grown(ends, held), grown(cells, held)
            push(ends, cells, held, now + life + delay, np.int32(cell))
            held += 1
            used[cell] += 1
        concurrent[step] = held
    return attempts[warm:], blocked[warm:], concurrent[warm:], at_host[warm:], served
