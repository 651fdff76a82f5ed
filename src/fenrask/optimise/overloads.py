"""How many times what an exit holds all options that lead to it lay on it together."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from math import inf

import numpy as np

from fenrask.capacity import room_of
from fenrask.optimise.judging import Judge
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.trials import Laid, Placed, sum_of

__all__ = ["Overload", "overloads"]


@dataclass
class Overload:
    """What options lay on a site, by the number of their unit; one of each unit."""

    placed: Placed
    laid: dict[int, Laid] = field(default_factory=dict)
    places: int = 0
    """From how many subnets of units that comes."""


def overloads(judge: Judge, units: list[Unit], counts: Callable[[Option], bool]) -> Iterator[tuple[Site, int, float]]:
    """Sites that do not hold all that the options which count lay on them: from how many subnets, how many times."""
    found: dict[Site, Overload] = {}
    for number, unit in enumerate(units):
        for option in filter(counts, unit.open_options):
            tried = judge.tried.get((number, option))
            for site in dict.fromkeys((*option.sites, *option.before)) if tried is not None else ():
                if tried is not None and site in tried.placed:
                    one = found.setdefault(site, Overload(tried.placed[site]))
                    if number not in one.laid:
                        # That with the most of its places at the site comes first.
                        one.laid[number] = tried.laid.get(site) or Laid()
                        one.places += len(unit.subnets)
    target = judge.current.described.estate.targets.blocking
    for site, one in found.items():
        times = _times(target, one.placed, [*one.laid.values()])
        if times > 1:
            yield site, one.places, times


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
