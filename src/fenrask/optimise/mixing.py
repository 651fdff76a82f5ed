"""Options that send the subnets of one group to different exits: those that a mix has, in every combination.

Options as such take one offer for all subnets of a group, in one zone or in each. Where exits have room left, as blocks
of ports and steps of a rate make it, another division may be cheaper; only the exits of the best mix are divided, since
the combinations of all would be too many.
"""

from collections.abc import Container, Mapping
from itertools import product

from fenrask.optimise.judging import Judge
from fenrask.optimise.problem import Option, Site, Unit

__all__ = ["is_plain", "with_divisions"]

_MOST = 64
"""Combinations of one group beyond which none of it is looked at."""


def with_divisions(
    judge: Judge, units: list[Unit], taken: Mapping[int, Option], keep: Container[str]
) -> list[Unit] | None:
    """The same units with these options, judged; None where there are none. What is to be kept stays as it is."""
    used: dict[str, dict[Site, None]] = {}
    for option in taken.values():
        for site in option.sites if is_plain(option) else ():
            if site.translates and not site.apart:
                used.setdefault(site.network, {})[site] = None
    more = [() if any(one in keep for one in unit.flows) else _divided(unit, used) for unit in units]
    if not any(more):
        return None
    judged = judge.judged([Unit(unit.group, some) for unit, some in zip(units, more, strict=True)])
    return [Unit(unit.group, (*unit.options, *new.options)) for unit, new in zip(units, judged, strict=True)]


def is_plain(option: Option) -> bool:
    """Whether nothing else is passed on the way."""
    return not (option.before or option.also or option.own_addresses)


def _divided(unit: Unit, used: Mapping[str, Mapping[Site, None]]) -> tuple[Option, ...]:
    known = {option.sites for option in unit.options if is_plain(option)}
    reached = {site for sites in known for site in sites}
    sites = [site for site in used.get(unit.network, ()) if site in reached]
    if len(sites) < 2 or len(unit.subnets) < 2 or len(sites) ** len(unit.subnets) > _MOST:
        return ()
    divisions = (each for each in product(sites, repeat=len(unit.subnets)) if each not in known)
    return tuple(Option(f"by subnet: {', '.join(site.name for site in each)}", each) for each in divisions)
