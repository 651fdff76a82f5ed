"""Options with one of several exits of one offer at one place: where one alone does not hold all that could use it.

A site is an offer at a place; where its limits or its ports are less than all options of the place lay on it together,
there may be a second one, and more, each in a subnet of its own. Units whose own subnets lie together also get them
divided over these.
"""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import replace
from math import ceil, inf

import numpy as np

from fenrask.capacity import room_of
from fenrask.optimise.judging import Judge
from fenrask.optimise.mixing import is_plain
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.trials import Laid, Placed, sum_of

__all__ = ["with_several"]

_MOST = 5
"""Exits of one offer at one place."""


def with_several(judge: Judge, units: list[Unit], kept: Container[str]) -> list[Unit]:
    """The same units with these options, judged. What is `kept` stays as it is."""
    numbers = _numbers(judge, units)
    if not numbers:
        return units
    free = [() if any(name in kept for name in unit.flows) else unit.options for unit in units]
    # Of an exit that is to be built, another one does what the first does; beside one that exists it is looked at.
    divided = [
        tuple(dict.fromkeys(option for one in some for option in _tried_anew(judge, unit, one, numbers)))
        for unit, some in zip(units, free, strict=True)
    ]
    judged = judge.judged([Unit(unit.group, some) for unit, some in zip(units, divided, strict=True)])
    found = []
    for number, (unit, some, new) in enumerate(zip(units, free, judged, strict=True)):
        options = [*unit.options, *new.options]
        for option in (*some, *new.options):
            for other, instead in _further_ones(option, numbers):
                if other not in options:
                    options.append(other)
                    judge.tried[number, other] = judge.tried[number, option].at(instead)
        found.append(Unit(unit.group, tuple(options)))
    return found


def _numbers(judge: Judge, units: list[Unit]) -> dict[Site, int]:
    """By site of which there may be several: how many are looked at."""
    laid: dict[Site, dict[int, Laid]] = {}
    placed: dict[Site, Placed] = {}
    for number, unit in enumerate(units):
        for option in unit.open_options:
            tried = judge.tried.get((number, option))
            if tried is None or not _may_be_one(option):
                continue
            for site in option.sites:
                if site in tried.placed:
                    # That with the most of its places at the site comes first.
                    laid.setdefault(site, {}).setdefault(number, tried.laid.get(site) or Laid())
                    placed[site] = tried.placed[site]
    found = {}
    for site, each in laid.items():
        places = sum(len(units[number].subnets) for number in each)
        times = _times(judge, placed[site], [*each.values()])
        if times > 1:
            # Twice as many boxes as they fill suffice for what is no larger than one (Johnson 1974, "first fit").
            found[site] = min(places, 2 * ceil(min(times, _MOST)) - 1, _MOST)
    return {site: number for site, number in found.items() if number > 1}


def _may_be_one(option: Option) -> bool:
    return is_plain(option) and all(site.translates and not site.apart and site.units == 1 for site in option.sites)


def _times(judge: Judge, placed: Placed, each: list[Laid]) -> float:
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
    room = room_of(ports, offer.limits.addresses, judge.current.described.estate.targets.blocking)
    hosts: dict[str, float] = {}
    for laid in each:
        hosts |= {name: own.hosts for name, own in laid.blocks.items()}
    pools = {pool for laid in each for pool in laid.ports}
    asked = [float(np.max(sum_of(laid.asked(pool, 1.0) for laid in each if pool in laid.ports))) for pool in pools]
    return max(times, max([sum(hosts.values()), *asked]) / (room or inf))


def _tried_anew(judge: Judge, unit: Unit, option: Option, numbers: Mapping[Site, int]) -> Iterator[Option]:
    """The second beside each exit of an option that exists, and the subnets of one place over several exits."""
    if not _may_be_one(option):
        return
    if any(site.existing and site in numbers for site in option.sites):
        sites = tuple(_number(site, 2) if site.existing and site in numbers else site for site in option.sites)
        yield Option(_named(sites), sites)
    subnets = judge.current.described.estate.subnets
    near = [
        place
        for place, site in enumerate(option.sites)
        if site in numbers and site.zone in (None, subnets[unit.subnets[place]].zone)
    ]
    for number in range(2, min(len(near), max((numbers[option.sites[place]] for place in near), default=1)) + 1):
        sites = tuple(
            _number(site, near.index(place) % number + 1) if place in near else site
            for place, site in enumerate(option.sites)
        )
        if len({*sites}) > len({*option.sites}):
            yield Option(_named(sites), sites)


def _further_ones(option: Option, numbers: Mapping[Site, int]) -> Iterator[tuple[Option, dict[Site, Site]]]:
    """The same option at the next of its exits that are to be built, as far as there may be so many."""
    if option.fails or not _may_be_one(option):
        return
    # The second of one that exists is built, as the first of others is.
    known = {site: (numbers[site], site) for site in numbers if not site.existing}
    known |= {_number(site, 2): (numbers[site], site) for site in numbers if site.existing}
    own = {site: known[site] for site in option.distinct if site in known}
    if len(own) < len(option.distinct) or not own:
        return
    for number in range(2, max(most for most, _ in own.values()) + 1):
        instead = {site: _number(first, number) for site, (_, first) in own.items()}
        if all(site != other for site, other in instead.items()):
            sites = tuple(instead[site] for site in option.sites)
            yield replace(option, name=_named(sites), sites=sites), instead


def _named(sites: Sequence[Site]) -> str:
    return ", ".join(dict.fromkeys(site.name for site in sites))


def _number(site: Site, number: int) -> Site:
    """The exit of this number of an offer at a place; the first is the site itself."""
    return site if number == 1 else replace(site, existing="", whole_network=False, number=number)
