"""What groups of parts ask of an exit's ports, as sums that add up; and what a number of addresses holds."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS
from fenrask.capacity.limits import Groups, Present
from fenrask.capacity.streams import Pool, pools
from fenrask.demand import Demand, Numbers, Part, Parts, Series
from fenrask.estate import Ports
from fenrask.teletraffic import erlang_b

__all__ = ["Asked", "HostsAsked", "own_blocks", "ports_asked", "room_of"]


@dataclass(frozen=True, eq=False)
class Asked:
    """What groups hold of a pool's ports in the mean, shape (n_groups, n_times); of those groups that hold any.

    groups: their numbers, rising. filling: of what they hold, what may fill all ports that there are: connections that
    are always open, or that hosts cap; of the same shape, or (n_groups, 1).
    """

    pool: Pool
    groups: Numbers
    held: Series
    filling: Series

    def weighed(self, fullest: float) -> Series:
        """What they ask of the room by Erlang's formula, where this is `fullest` of all ports.

        Ports that connections fill are taken for certain: with c ports, P of them always open, what comes and goes has
        the room of c - P. That room is convex in c, so that a load fits only if A + P room(c) / c <= room(c).
        """
        return self.held - self.filling * (1 - min(1.0, fullest))


@dataclass(frozen=True, eq=False)
class HostsAsked:
    """Hosts that have a block of ports each, whichever groups bring them, and what is asked of the block of one host.

    of_one: by pool, each of one member's hosts and one transport protocol; a block serves the protocols apart.
    """

    hosts: Present
    of_one: tuple[Asked, ...]


def ports_asked(demand: Demand, exit_name: str, some: Groups, ports: Ports) -> Iterator[Asked | HostsAsked]:
    """What groups ask of an exit's ports, pool by pool; the hosts that have a block each, where ports are given so."""
    view = ASSIGNMENTS[ports.assignment].view
    offered = list(pools(demand, exit_name, view, some.parts))
    each = (_asked(some, pool) for pool in offered)
    if view == "hosts":
        yield HostsAsked(_hosts(some, offered), tuple(each))
    else:
        yield from each


def _asked(some: Groups, pool: Pool) -> Asked:
    parts = Parts.of(pool.parts)
    capped = np.flatnonzero(np.isfinite(parts.laid.traffic.max_open[parts.flow]))
    free = pool.weights.copy()
    free[capped] = 0.0
    every = some.of(parts)
    present, own = np.unique(every.group, return_inverse=True)
    groups = replace(every, group=own, count=present.size)
    filling = _summed(groups, parts.persistent * free)
    held = groups.concurrent(free)
    for row in capped.tolist():
        opened = np.zeros_like(held)
        opened[groups.group[row]] = pool.weights[row] * _opened(parts[row])
        held, filling = held + opened, filling + opened
    return Asked(pool, present, held, filling)


def _opened(part: Part) -> Series:
    """Connections of a part whose hosts open a maximum number at once, shape (n_times,).

    Each host's own limit refuses what Erlang's formula says, of connections that are held while they are open.
    """
    traffic, curve = part.laid.traffic, part.curve
    row = int(part.laid.flow[part.row])
    hosts = max(1.0, float(traffic.hosts[row]))
    lives = curve.family.connected * curve.duration_s
    hold = curve.mean_concurrent / curve.mean_profile if curve.mean_profile else lives
    whole = float(part.laid.share[part.row]) * hosts
    each = part.rate_per_s * curve.concurrent * (lives / hold if hold else 1.0) / whole
    refused = np.asarray(erlang_b(float(traffic.max_open[row]) / hosts, each))
    held: Series = part.persistent + part.rate_per_s * curve.concurrent * (1 - refused)
    return held


def _summed(groups: Groups, each: Series) -> Series:
    """By group, shape (n_groups, 1)."""
    found: Series = np.bincount(groups.group, weights=each, minlength=groups.count).astype(np.float64)
    return found[:, None]


def _hosts(some: Groups, offered: list[Pool]) -> Present:
    """Hosts of each workload and subnet: those of two protocols once. No block serves two subnets."""
    found: dict[str, tuple[float, set[int]]] = {}
    for pool in offered:
        hosts, groups = float(np.ceil(pool.copies - 1e-9)), some.of(Parts.of(pool.parts)).group
        known = found.get(pool.label, (0.0, set()))
        found[pool.label] = (max(hosts, known[0]), known[1] | {*groups.tolist()})
    there = np.zeros((some.count, len(found)), dtype=bool)
    for place, (_, numbers) in enumerate(found.values()):
        there[[*numbers], place] = True
    return Present(tuple(found), np.array([hosts for hosts, _ in found.values()]), there)


def room_of(ports: Ports, addresses: int, target: float) -> float:
    """What a number of addresses holds at a blocking target: connections in the mean, or hosts."""
    return ASSIGNMENTS[ports.assignment].room(addresses, ports, target)


def own_blocks(ports: Ports, target: float) -> Sequence[tuple[int, float]]:
    """The blocks that one host may have: see `PortAssignment.own_blocks`."""
    return ASSIGNMENTS[ports.assignment].own_blocks(ports, target)
