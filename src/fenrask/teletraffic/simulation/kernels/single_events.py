"""One pool, event by event: hosts that open only so many connections, ports that stay taken after, and tries again."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.heap import pop, push
from fenrask.teletraffic.simulation.kernels.random_numbers import duration, part_of, uniform
from fenrask.teletraffic.simulation.kernels.slices import arrivals, grown, sort

__all__ = ["single_events"]


@compiled
def single_events(
    s, rates, step_s, warm, servers, owners, each, retries, first_s, law, batch, begins, fixed_lives, fixed_delays
):
    """Arguments as those of `pool`; owners: hosts, each as likely; each: connections that one has open at most.

    begins, fixed_lives, fixed_delays: of calls that come at times of their own, in order, s; all of one length.
    A call without a server is tried again `retries` times, first_s, twice that, four times that after the last try.
    One that its host does not open is no attempt, nor is a later try. Returns as `pool`; the calls by step that hosts
    did not open; and how many were served at each try, at last how many never, int64 of shape (retries + 2,), without
    the warm steps.
    """
    rows, mixes, kinds, one, two, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent, at_host = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    served = np.zeros(retries + 2, dtype=np.int64)
    open_ = np.zeros(owners, dtype=np.int64)
    lives, hosts, living = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    ends, nothing, held = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    # Of each call that is to be tried again: which try that is, and its host.
    again, which, waiting = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    at, fixed = np.empty(256), 0
    for step in range(n_steps):
        shares = mixes[rows[step]]
        at, count = arrivals(s, rates[step] * step_s, batch, at)
        sort(at, count)
        i = 0
        while True:
            now = (step + (at[i] if i < count else 1.0)) * step_s
            tries, host, own = 0, -1, -1
            if fixed < begins.size and begins[fixed] <= now:
                now, own = begins[fixed], fixed
            if waiting > 0 and again[0] <= now:
                own = -1
                now, host = again[0], which[0] % owners
                tries = which[0] // owners
                pop(again, which, waiting)
                waiting -= 1
            while living > 0 and lives[0] <= now:
                open_[hosts[0]] -= 1
                pop(lives, hosts, living)
                living -= 1
            while held > 0 and ends[0] <= now:
                pop(ends, nothing, held)
                held -= 1
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
            attempts[step] += tries == 0
            if held >= servers:
                blocked[step] += tries == 0
                if tries < retries:
                    again, which = grown(again, waiting), grown(which, waiting)
                    push(again, which, waiting, now + first_s * 2.0**tries, np.int32((tries + 1) * owners + host))
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
                life, delay = duration(s, part, kinds, one, two, table), delays[part]
            if life > 0.0:
                open_[host] += 1
                lives, hosts = grown(lives, living), grown(hosts, living)
                push(lives, hosts, living, now + life, np.int32(host))
                living += 1
            ends, nothing = grown(ends, held), grown(nothing, held)
            push(ends, nothing, held, now + life + delay, np.int32(0))
            held += 1
        concurrent[step] = held
    return attempts[warm:], blocked[warm:], concurrent[warm:], at_host[warm:], served
