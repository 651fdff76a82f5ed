"""How many times what an exit holds all options that lead to it lay on it together."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from math import inf

import numpy as np

from fenrask.capacity import room_of
from fenrask.optimise.judging import Judge
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.trials import Laid, Placed, sum_of

__all__ = ["overloads"]


@dataclass
class _Use:
    """What options lay on a site, one of each unit, and from how many subnets of it."""

    placed: Placed
    laid: dict[int, tuple[Laid, int]] = field(default_factory=dict)


def overloads(
    judge: Judge, units: list[Unit], counts: Callable[[Option], bool], divided: bool = False
) -> Iterator[tuple[Site, int, float]]:
    """Sites that do not hold all that the options which count lay on them: from how many subnets, how many times.

    divided: but for units of which not even a part from one subnet finds room.
    """
    found: dict[Site, _Use] = {}
    for number, unit in enumerate(units):
        for option in filter(counts, unit.open_options):
            tried = judge.tried.get((number, option))
            for site in dict.fromkeys((*option.sites, *option.before)) if tried is not None else ():
                if tried is not None and site in tried.placed:
                    # That with the most of its places at the site comes first.
                    laid = (tried.laid.get(site) or Laid(), len(unit.subnets))
                    found.setdefault(site, _Use(tried.placed[site])).laid.setdefault(number, laid)
    target = judge.current.described.estate.targets.blocking
    for site, use in found.items():
        some = [
            (laid, places)
            for laid, places in use.laid.values()
            if not divided or _times(target, use.placed, [laid]) <= places
        ]
        times = _times(target, use.placed, [laid for laid, _ in some])
        if times > 1:
            yield site, sum(places for _, places in some), times


def _times(target: float, placed: Placed, each: list[Laid]) -> float:
    """How many times what one holds all of these ask for, of its limits and, with all addresses, of its ports."""
    times = 0.0
    for key in {key for laid in each for key in laid.series}:
        some = [laid.series[key] for laid in each if key in laid.series]
        times = max(times, float(np.max(sum_of(series for _, series in some))) / (some[0][0] or inf))
    for key in {key for laid in each for key in laid.present}:
        members: dict[object, float] = {}
        for laid in each:
            members |= laid.present[key][1] if key in laid.present else {}
        capacity = next(laid.present[key][0] for laid in each if key in laid.present)
        times = max(times, sum(members.values()) / (capacity or inf))
    offer, ports = placed.offer, placed.ports
    if offer is None or ports is None or offer.limits.addresses is None:
        return times
    room = room_of(ports, offer.limits.addresses, target)
    hosts: dict[str, float] = {}
    for laid in each:
        hosts |= {name: own.hosts for name, own in laid.blocks.items()}
    pools = {pool for laid in each for pool in laid.ports}
    asked = [float(np.max(sum_of(laid.asked(pool, 1.0) for laid in each if pool in laid.ports))) for pool in pools]
    return max(times, max([sum(hosts.values()), *asked]) / (room or inf))
