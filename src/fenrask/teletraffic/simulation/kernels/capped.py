"""One pool for hosts that open only so many connections at once, whose ports stay taken after a connection's end."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.simulation.kernels.heap import pop, push
from fenrask.teletraffic.simulation.kernels.random_numbers import duration, part_of, uniform
from fenrask.teletraffic.simulation.kernels.slices import arrivals, grown, sort

__all__ = ["capped"]


@compiled
def capped(s, rates, step_s, warm, servers, owners, each, law, batch):
    """Arguments as those of `pool`; owners: hosts, each as likely; each: connections that one has open at most.

    A call that its host does not open is no attempt. Returns as `pool`, and the calls by step that hosts did not open.
    """
    rows, mixes, kinds, one, two, delays, table = law
    n_steps = rates.size
    attempts, blocked = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    concurrent, at_host = np.zeros(n_steps, dtype=np.int64), np.zeros(n_steps, dtype=np.int64)
    open_ = np.zeros(owners, dtype=np.int64)
    lives, hosts, living = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    ends, nothing, held = np.empty(1024), np.empty(1024, dtype=np.int32), 0
    at = np.empty(256)
    for step in range(n_steps):
        shares = mixes[rows[step]]
        at, count = arrivals(s, rates[step] * step_s, batch, at)
        sort(at, count)
        for i in range(count + 1):
            now = (step + (at[i] if i < count else 1.0)) * step_s
            while living > 0 and lives[0] <= now:
                open_[hosts[0]] -= 1
                pop(lives, hosts, living)
                living -= 1
            while held > 0 and ends[0] <= now:
                pop(ends, nothing, held)
                held -= 1
            if i == count:
                break
            host = int(uniform(s) * owners)
            if open_[host] >= each:
                at_host[step] += 1
                continue
            attempts[step] += 1
            if held >= servers:
                blocked[step] += 1
                continue
            part = part_of(s, shares)
            life = duration(s, part, kinds, one, two, table)
            if life > 0.0:
                open_[host] += 1
                lives, hosts = grown(lives, living), grown(hosts, living)
                push(lives, hosts, living, now + life, np.int32(host))
                living += 1
            ends, nothing = grown(ends, held), grown(nothing, held)
            push(ends, nothing, held, now + life + delays[part], np.int32(0))
            held += 1
        concurrent[step] = held
    return attempts[warm:], blocked[warm:], concurrent[warm:], at_host[warm:]
