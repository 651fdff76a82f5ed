"""Options at exits that run more machines or nodes: where one does not hold what could come to it, and more do."""

from collections.abc import Container
from dataclasses import replace

from fenrask.optimise.judging import Judge
from fenrask.optimise.mixing import is_plain
from fenrask.optimise.overloads import overloads
from fenrask.optimise.pairs import is_single, with_sites
from fenrask.optimise.problem import Option, Site, Unit

__all__ = ["with_nodes"]

_MOST = 6
"""Machines or nodes of one exit."""
_LESS = 0.9
"""More of them help where the use of its limits is no more than this share of what it is with one less."""


def with_nodes(judge: Judge, units: list[Unit], kept: Container[str]) -> tuple[list[Unit], set[Site]]:
    """The same units with these options, judged; and the exits for which some number of nodes does."""
    described, suffice = judge.current.described, set[Site]()
    busy = {
        site: times
        for site, _, times in overloads(judge, units, _leads_there)
        if is_single(described, site) and site.existing not in kept
    }
    number, found = 2, units
    while busy and number <= _MOST:
        several = {site: replace(site, units=number) for site in busy}
        more = [
            () if any(name in kept for name in unit.flows) else tuple(_with(unit, several, number)) for unit in units
        ]
        judged = judge.judged([Unit(unit.group, some) for unit, some in zip(units, more, strict=True)])
        left = {site: times for site, _, times in overloads(judge, judged, _leads_there)}
        helped = {those: site for site, those in several.items() if left.get(those, 0.0) < _LESS * busy[site]}
        found = [
            Unit(unit.group, (*unit.options, *(one for one in new.options if _passes(one, number) <= helped.keys())))
            for unit, new in zip(found, judged, strict=True)
        ]
        suffice |= {site for those, site in helped.items() if those not in left}
        busy = {site: left[those] for those, site in helped.items() if those in left}
        number += 1
    return found, suffice


def _leads_there(option: Option) -> bool:
    """Whether exits and firewalls before them are all that it passes."""
    return is_plain(option) or bool(option.before and not option.own_addresses and {*option.also} <= {*option.before})


def _passes(option: Option, number: int) -> set[Site]:
    """What an option passes that has so many nodes."""
    return {site for site in (*option.sites, *option.before) if site.units == number}


def _with(unit: Unit, several: dict[Site, Site], number: int) -> list[Option]:
    """The options of a unit with so many nodes at these sites, but for those that it has."""
    known = {(one.sites, one.before) for one in unit.options}
    found = []
    for option in unit.options:
        if _leads_there(option) and any(site in several for site in (*option.sites, *option.before)):
            other = with_sites(option, several, f"{option.name}, {number} of it")
            if (other.sites, other.before) not in known:
                found.append(other)
    return found
