"""What a mix changes, counted by the programme: allow-list entries, lists, exits and routes."""

from collections.abc import Mapping

from fenrask.addresses import AllowList
from fenrask.charges import take_down
from fenrask.evaluation import Evaluation
from fenrask.optimise.counts import Counts
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.programme import Model

__all__ = ["counted_in"]


def counted_in(model: Model, current: Evaluation) -> Counts:
    """What each variable of a programme changes of an estate as it is."""
    found = Counts()
    _exits(model, found)
    first = _first_exits(current)
    for (number, option), variable in model.taken.items():
        if routes := _routes(model.units[number], option, first):
            found.routes[variable] = float(routes)
    for partner in current.plan.partners:
        if partner.fixed:
            _entries(model, found, partner, current.plan.in_use)
    return found


def _exits(model: Model, found: Counts) -> None:
    """An exit that is new is put up; one that stands, and that nothing uses, is taken down."""
    exits = model.described.estate.exits
    for site, variable in model.opened.items():
        if not site.existing:
            found.exits[variable] = float(len(site.subnets) or 1)
            if site in model.placed and (once := float(model.placed[site].set_up)):
                found.building[variable] = once
        elif exits[site.existing].needs_offer and site.existing not in model.standing:
            found.exits[variable] = found.exits.get(variable, 0.0) - 1.0
            if once := float(take_down(model.described, site.existing)):
                found.building[variable] = -once
    known = {site.existing for site in model.opened if site.existing} - {*model.standing}
    found.none[1] += sum(exits[name].needs_offer for name in known)
    found.none[4] += sum(float(take_down(model.described, name)) for name in known if exits[name].needs_offer)


_First = dict[tuple[str, str], set[str]]
"""By subnet and destination: the exits that routes, or names, lead to first."""


def _first_exits(current: Evaluation) -> _First:
    found: _First = {}
    for path in current.paths.paths:
        if path.example.inward is None and path.example.exits:
            found.setdefault((path.subnet, path.to), set()).add(path.example.exits[0])
    return found


def _routes(unit: Unit, option: Option, first: _First) -> int:
    """How many subnets of an option need another route than they have."""
    needed = 0
    for place, subnet in enumerate(unit.subnets):
        entry = option.entry(place)
        name = entry.existing if isinstance(entry, Site) else str(entry)
        needed += entry is not None and (not name or first.get((subnet, unit.to)) != {name})
    return needed


def _entries(model: Model, found: Counts, listed: AllowList, in_use: Mapping[tuple[str, str], int]) -> None:
    """Entries that go from a list with what is seen no more, and that are added for what is new to it, or grows."""
    to, seen = listed.destination, {part.exit: float(part.entries) for part in listed.parts}
    using: dict[Site, list[int]] = {}
    for (number, option), variable in model.taken.items():
        if model.units[number].to == to:
            for site in option.distinct:
                if site.translates:
                    using.setdefault(site, []).append(variable)
    changed = model.program.variable()
    found.lists[changed] = 1.0
    for site, variables in using.items():
        shown = model.program.variable()
        for variable in variables:
            model.program.row({variable: 1.0, shown: -1.0}, high=0)
        model.program.row({shown: 1.0, **dict.fromkeys(variables, -1.0)}, high=0)
        found.entries[shown] = -seen[site.existing] if site.existing in seen else 1.0
        if site.existing not in seen:
            model.program.row({shown: 1.0, changed: -1.0}, high=0)
        else:
            model.program.row({shown: 1.0, changed: 1.0}, low=1)
            # With another number of addresses one block at least takes the place of another.
            same = [
                variable
                for bought, variable in model.purchases_of[site]
                if bought.number == in_use.get((site.existing, ""))
            ]
            other = model.program.variable()
            model.program.row({shown: 1.0, other: -1.0, **dict.fromkeys(same, -1.0)}, high=0)
            model.program.row({other: 1.0, changed: -1.0}, high=0)
            found.entries[other] = 2.0
    found.none[0] += sum(seen.values())
