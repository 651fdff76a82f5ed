"""Options with one of several exits of one offer at one place: where one alone does not hold all that could use it.

A site is an offer at a place; where its limits or its ports are less than all options of the place lay on it together,
there may be a second one, and more, each in a subnet of its own. Units whose own subnets lie together also get them
divided over these.
"""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import replace
from math import ceil

from fenrask.optimise.judging import Judge
from fenrask.optimise.mixing import is_plain
from fenrask.optimise.nodes import with_nodes
from fenrask.optimise.overloads import overloads
from fenrask.optimise.problem import Option, Role, Site, Unit

__all__ = ["with_several"]

_MOST = 5
"""Exits of one offer at one place."""


def with_several(judge: Judge, units: list[Unit], kept: Container[str]) -> list[Unit]:
    """The same units with these options, and with more nodes, judged. What is `kept` stays as it is."""
    units, suffice = with_nodes(judge, units, kept)
    numbers = _numbers(judge, units, suffice)
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


def _numbers(judge: Judge, units: list[Unit], suffice: Container[Site]) -> dict[Site, int]:
    """By site of which there may be several: how many are looked at. suffice: sites with which more nodes do."""
    # Twice as many boxes as they fill suffice for what is no larger than one (Johnson 1974, "first fit").
    found = {
        site: min(places, 2 * ceil(min(times, _MOST)) - 1, _MOST)
        for site, places, times in overloads(judge, units, _may_be_one, divided=True)
        if site not in suffice
    }
    return {site: number for site, number in found.items() if number > 1}


def _may_be_one(option: Option) -> bool:
    """Whether an option leads straight to exits that translate, or to them by firewalls that are to be built."""
    alone = bool(option.sites) and all(site.translates and site.units == 1 for site in option.sites)
    if not option.before:
        return alone and is_plain(option) and not any(site.apart for site in option.sites)
    walls = all(wall.role is Role.PASSES and wall.units == 1 and not wall.existing for wall in option.before)
    return alone and walls and not option.own_addresses and {*option.also} <= {*option.before}


def _tried_anew(judge: Judge, unit: Unit, option: Option, numbers: Mapping[Site, int]) -> Iterator[Option]:
    """The second beside each exit of an option that exists, and the subnets of one place over several exits."""
    if not _may_be_one(option):
        return
    if not option.before and any(site.existing and site in numbers for site in option.sites):
        yield _moved(option, [2 if site.existing else 1 for site in option.sites], numbers)
    subnets = judge.current.described.estate.subnets
    most = [_most(option, place, numbers) for place in range(len(option.sites))]
    near = [
        place
        for place, site in enumerate(option.sites)
        if most[place] > 1 and site.zone in (None, subnets[unit.subnets[place]].zone)
    ]
    for number in range(2, min(len(near), max((most[place] for place in near), default=1)) + 1):
        which = [near.index(place) % number + 1 if place in near else 1 for place in range(len(option.sites))]
        yield _moved(option, which, numbers)


def _most(option: Option, place: int, numbers: Mapping[Site, int]) -> int:
    """How many there may be of what an option passes from a place in its unit's subnets."""
    return max(numbers.get(site, 1) for site in (option.sites[place], *option.before[place : place + 1]))


def _further_ones(option: Option, numbers: Mapping[Site, int]) -> Iterator[tuple[Option, dict[Site, Site]]]:
    """The same option at the next of its exits that are to be built, as far as there may be so many."""
    if option.fails or not _may_be_one(option):
        return
    # The second of one that exists is built, as the first of others is.
    firsts = {_number(site, 2): site for site in numbers if site.existing}
    own = {site: firsts.get(site, site) for site in dict.fromkeys((*option.sites, *option.before))}
    most = {site: numbers.get(first, 1) for site, first in own.items()}
    if not option.before and (min(most.values()) < 2 or any(site.existing for site in own)):
        return
    for number in range(2, max(most.values()) + 1):
        which = [
            number if _most(option, place, numbers) > 1 or not option.before else 1
            for place in range(len(option.sites))
        ]
        other = _moved(option, which, {**numbers, **dict.fromkeys(firsts, 2)}, firsts)
        instead = {
            **dict(zip(option.sites, other.sites, strict=True)),
            **dict(zip(option.before, other.before, strict=True)),
        }
        if len({one.number for one in own if most[one] > 1}) < 2 and other.distinct != option.distinct:
            yield other, instead


def _moved(
    option: Option, which: Sequence[int], numbers: Mapping[Site, int], firsts: Mapping[Site, Site] | None = None
) -> Option:
    """The option with the exit of another number from each place in its unit's subnets.

    What is before an exit of another number is another one, too; an exit that holds all stays behind several.
    """
    known = firsts or {}
    moves = [numbers.get(site, 1) > 1 and not (option.before and site.existing) for site in option.sites]
    sites = tuple(
        _number(known.get(site, site), number) if does else site
        for site, number, does in zip(option.sites, which, moves, strict=True)
    )
    before = tuple(_number(wall, number) for wall, number in zip(option.before, which, strict=False))
    names = _named((*before, *sites))
    return replace(
        option, name=names, sites=sites, before=before, also=tuple(dict.fromkeys(before)), first=(), fails=()
    )


def _named(sites: Sequence[Site]) -> str:
    return ", ".join(dict.fromkeys(site.name for site in sites))


def _number(site: Site, number: int) -> Site:
    """The exit of this number of an offer at a place; the first is the site itself."""
    return site if number == 1 else replace(site, existing="", whole_network=False, number=number)
