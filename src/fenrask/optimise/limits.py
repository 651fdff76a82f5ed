"""What sites hold, as rows: every limit of their offers, and ports at the target, at the times that can bind.

Which limits there are, how much each option uses of them and what so many addresses hold is for `capacity` to say.
"""

from collections.abc import Hashable, Iterable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import own_blocks, room_of
from fenrask.evaluation import most_entries
from fenrask.optimise.blocks import hosts_of
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import Laid
from fenrask.prefixes import Prefix, fewest_prefixes

__all__ = ["add_losses", "add_partners", "add_rooms"]

Floats = NDArray[np.float64]
_Users = Sequence[tuple[int, Laid]]
"""The variables of options, with what each lays on a site."""


def add_rooms(model: Model, margin: float) -> None:
    """Rows for every site; `margin` is a share of the ports that is not used."""
    for site, opened in model.opened.items():
        users = model.users(site)
        if site in model.purchases_of:
            _ports(model, site, users, margin)
        _limits(model, users, opened)


def _limits(model: Model, users: _Users, opened: int) -> None:
    """The limits of a site's offer: all that `capacity` counts but ports and addresses."""
    for key in dict.fromkeys(key for _, laid in users for key in laid.series):
        some = [(variable, *laid.series[key]) for variable, laid in users if key in laid.series]
        capacity = some[0][1]
        _within(model, [(variable, series) for variable, _, series in some], {opened: capacity}, capacity)
    for key in dict.fromkeys(key for _, laid in users for key in laid.present):
        having = [(variable, laid.present[key]) for variable, laid in users if key in laid.present]
        _presence(model, [(variable, members) for variable, (_, members) in having], {opened: having[0][1][0]})
    for variable, laid in users:
        if any(most > capacity for capacity, most in laid.each.values()):
            model.program.row({variable: 1.0}, high=0)


def _ports(model: Model, site: Site, users: _Users, margin: float) -> None:
    targets, ports = model.described.estate.targets, model.ports(site)
    carried = {number: room_of(ports, number, targets.blocking) * (1 - margin) for number in model.numbers(site)}
    room = {variable: carried[one.number] for one, variable in model.purchases_of[site]}
    less = (1 - margin) / (1 + targets.growth_margin)
    sizes = [(block, erlangs * less) for block, erlangs in own_blocks(ports, targets.blocking)]
    if sizes:
        # More load makes no more hosts.
        _own_blocks(model, users, room, sizes)
    grown = {variable: most / (1 + targets.growth_margin) for variable, most in room.items()}
    _by_pool(model, site, users, grown)


def _own_blocks(model: Model, users: _Users, room: Mapping[int, float], sizes: Sequence[tuple[int, float]]) -> None:
    """Each host has one block, as large as all that comes of it asks for; those of all hosts are within the room.

    room: in blocks as they begin.
    """
    counted: dict[int, float] = {}
    for hosts in hosts_of(users).values():
        own = hosts.sizes(sizes)
        steps = [_here(model, hosts.variables)]
        for _ in own[1:]:
            larger = model.program.variable()
            model.program.row({larger: 1.0, steps[-1]: -1.0}, high=0)
            steps.append(larger)
        before = 0
        for variable, (ports, _) in zip(steps, own, strict=True):
            counted[variable] = hosts.hosts * (ports - before) / sizes[0][0]
            before = ports
        for asked, held in hosts.asked(own):
            _within(model, asked, dict(zip(steps, np.diff(held, prepend=0.0).tolist(), strict=True)))
    if counted:
        model.program.row(_scaled(counted, room), high=0)


def _here(model: Model, variables: Iterable[int]) -> int:
    """A variable that is at least each of these."""
    here = model.program.variable(integral=False)
    for variable in variables:
        model.program.row({variable: 1.0, here: -1.0}, high=0)
    return here


def add_losses(model: Model, headroom: float) -> None:
    """Rows for the loss of each zone: the sites that are left carry what moves to them, with so much headroom in ports.

    Hosts with blocks of their own bring none with them: they are left out.
    """
    target = model.described.estate.targets.blocking
    for zone in dict.fromkeys(one.zone for one in model.described.estate.subnets.values() if one.zone):
        for site in model.purchases_of:
            if site.falls_with(zone):
                continue
            ports = model.ports(site)
            room = {
                variable: min(room_of(ports, one.number, target), one.number * ports.per_address * (1 - headroom))
                for one, variable in model.purchases_of[site]
            }
            moved = (
                (model.taken[key], _without(model, model.units[key[0]], model.laid(key, site), zone))
                for key in model.using[site]
            )
            _by_pool(model, site, [*moved], room)


def _without(model: Model, unit: Unit, laid: Laid, zone: str) -> Laid:
    """What is laid on a site when a zone is lost: its load moves to the unit's other subnets."""
    subnets = model.described.estate.subnets
    left = {
        place: weight for place, weight in enumerate(unit.group.weights) if subnets[unit.subnets[place]].zone != zone
    }
    whole = float(sum(left.values())) or 1.0
    ports = {
        pool: {place: (held / whole, filling / whole) for place, (held, filling) in of.items() if place in left}
        for pool, of in laid.ports.items()
    }
    return Laid(ports={pool: of for pool, of in ports.items() if of})


def _by_pool(model: Model, site: Site, users: _Users, room: Mapping[int, float]) -> None:
    """What each pool of ports is asked for stays within the room of the addresses that are held."""
    number = {variable: one.number for one, variable in model.purchases_of[site]}
    ports = model.ports(site)
    each = [most / (number[variable] * ports.per_address) for variable, most in room.items() if most]
    for pool in dict.fromkeys(pool for _, laid in users for pool in laid.ports):
        some = [(variable, laid.asked(pool, min(each, default=1.0))) for variable, laid in users if pool in laid.ports]
        # Whoever uses the site has opened it, with one of these holdings.
        _within(model, some, room, min(room.values(), default=0.0))


def _within(model: Model, users: Sequence[tuple[int, Floats]], room: Mapping[int, float], always: float = 0.0) -> None:
    """What is taken stays within what there is, at each time that no other time is above for every member.

    always: what there is wherever any of it is taken. What all together stay below needs no row.
    """
    series = np.stack(np.broadcast_arrays(*(one for _, one in users)))
    times = np.unique(series[:, np.maximum(series, 0.0).sum(axis=0) > always], axis=1)
    times = times[:, np.argsort(-times.sum(axis=0))]
    kept: list[int] = []
    for number in range(times.shape[1]):
        if not any(np.all(times[:, number] <= times[:, other]) for other in kept):
            kept.append(number)
    for number in kept:
        factors: dict[int, float] = {}
        for (variable, _), value in zip(users, times[:, number].tolist(), strict=True):
            if value:
                factors[variable] = factors.get(variable, 0.0) + value
        if factors:
            model.program.row(_scaled(factors, room), high=0)


def _presence(model: Model, users: Iterable[tuple[int, Mapping[Hashable, float]]], room: Mapping[int, float]) -> None:
    """Each member counts once, whichever options bring it; all within the room."""
    members: dict[Hashable, tuple[float, list[int]]] = {}
    for variable, own in users:
        for member, amount in own.items():
            most, variables = members.get(member, (0.0, []))
            members[member] = (max(most, amount), [*variables, variable])
    counted: dict[int, float] = {}
    for amount, variables in members.values():
        counted[_here(model, variables)] = amount
    if counted:
        model.program.row(_scaled(counted, room), high=0)


def _scaled(factors: Mapping[int, float], room: Mapping[int, float]) -> dict[int, float]:
    """Use less room, with the largest factor 1."""
    row = dict(factors)
    for variable, most in room.items():
        row[variable] = row.get(variable, 0.0) - most
    top = max(abs(value) for value in row.values())
    return {variable: value / top for variable, value in row.items()}


def add_partners(model: Model) -> None:
    """The entries of all sites that a partner sees stay within what its list takes; hosts one by one are not on it."""
    by_partner: dict[str, list[int]] = {}
    for number, unit in enumerate(model.units):
        by_partner.setdefault(unit.to, []).append(number)
    for numbers in by_partner.values():
        limits = [most for number in numbers if (most := most_entries(model.units[number].needs)) is not None]
        if not limits:
            continue
        seen, hosts, counted = dict[Site, int](), dict[Prefix, int](), dict[int, float]()
        for number in numbers:
            for option in model.units[number].open_options:
                _shown(model, (number, option), seen, hosts)
        counted |= dict.fromkeys(hosts.values(), 1.0)
        for site, used in seen.items():
            most = max(one.entries for one, _ in model.purchases_of[site])
            entries = model.program.variable(upper=float(most), integral=False)
            factors = {variable: float(one.entries) for one, variable in model.purchases_of[site]}
            model.program.row(
                {entries: 1.0, used: -float(most), **{v: -f for v, f in factors.items()}}, low=-float(most)
            )
            counted[entries] = 1.0
        model.program.row(counted, high=min(limits))


def _shown(model: Model, key: tuple[int, Option], seen: dict[Site, int], hosts: dict[Prefix, int]) -> None:
    """What an option shows to a partner: sites by whether they are used, and hosts' own IPv6 prefixes likewise."""
    taken, tried = model.taken[key], model.tried(key)
    if any(prefix.version == 4 for prefix in tried.shown_hosts):
        model.program.row({taken: 1.0}, high=0)
    for site in tried.shown:
        if site in model.purchases_of:
            if site not in seen:
                seen[site] = model.program.variable()
            model.program.row({taken: 1.0, seen[site]: -1.0}, high=0)
    for prefix in fewest_prefixes([one for one in tried.shown_hosts if one.version == 6]):
        if prefix not in hosts:
            hosts[prefix] = model.program.variable(integral=False)
        model.program.row({taken: 1.0, hosts[prefix]: -1.0}, high=0)
