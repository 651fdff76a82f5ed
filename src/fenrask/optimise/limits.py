"""What sites hold: ports by pool, exactly by Erlang's inverse, and every other limit, at the times that can bind."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import ASSIGNMENTS
from fenrask.optimise.amounts import Laid
from fenrask.optimise.problem import Option, Role, Site
from fenrask.optimise.programme import Model
from fenrask.prefixes import Prefix, fewest_prefixes

__all__ = ["add_losses", "add_partners", "add_rooms"]

Floats = NDArray[np.float64]
Users = Sequence[tuple[tuple[int, Option], Laid]]


def add_rooms(model: Model, margin: float) -> None:
    """Rows for every site; `margin` is a share of the ports that is not used."""
    for site, opened in model.opened.items():
        if site.translates:
            _ports(model, site, [(key, model.laid[key][site]) for key in model.using[site]], margin)
        if site.offer:
            _limits(model, site, opened)


def _limits(model: Model, site: Site, opened: int) -> None:
    """The caps of a site's offer on what passes it: all that `capacity` counts but ports and addresses."""
    limits, users = model.offer(site.offer).limits, [(key, model.laid[key][site]) for key in model.using[site]]
    nodes = float(model.places(site))
    for stated, among in ((limits, 1.0), (limits.node, nodes)):
        bits = None if stated.gbit_per_s is None else stated.gbit_per_s * 1e9
        for most, series in (
            (stated.connections, [one.concurrent for _, one in users]),
            (stated.new_per_s, [one.new_per_s for _, one in users]),
            (bits, [one.bits_per_s for _, one in users]),
            (stated.packets_per_s, [one.packets_per_s for _, one in users]),
        ):
            # What all together stay below needs no row.
            if most is not None and series and float(np.max(sum(series))) > most * among:
                _within(model, [model.taken[key] for key, _ in users], np.stack(series), {opened: float(most * among)})
    if limits.connections_per_tuple is not None:
        for members in _tuples(model, users).values():
            room = {opened: float(limits.connections_per_tuple)}
            _within(model, [one for one, _ in members], np.stack([series for _, series in members]), room)
    present = _present(model, site, model.using[site])
    if limits.hosts is not None:
        _presence(model, present, {opened: float(limits.hosts)})
    if limits.subnets is not None:
        by_subnet: dict[str, list[int]] = {}
        for (_, subnet), (_, options) in present.items():
            by_subnet.setdefault(subnet, []).extend(options)
        _presence(model, {name: (1.0, options) for name, options in by_subnet.items()}, {opened: float(limits.subnets)})


def _tuples(model: Model, users: Users) -> dict[object, list[tuple[int, Floats]]]:
    """Concurrent connections toward the busiest address of each destination; equal prefixes and ports are one."""
    destinations, found = model.amounts.described.estate.destinations, dict[object, list[tuple[int, Floats]]]()
    for key, laid in users:
        to, part = model.units[key[0]].to, float(model.units[key[0]].group.part)
        share = min(1.0, max(destinations[to].address_shares) / part)
        pool = destinations[to].tuple_key or to
        found.setdefault(pool, []).append((model.taken[key], laid.concurrent * share))
    return found


def _ports(model: Model, site: Site, users: Users, margin: float) -> None:
    estate = model.amounts.described.estate
    ports = model.offer(site.offer).ports
    assert ports is not None
    assignment = ASSIGNMENTS[ports.assignment]
    target = estate.targets.blocking
    # More load makes no more hosts: what their blocks hold is looked at by the engine.
    growth = 0.0 if assignment.view == "hosts" else estate.targets.growth_margin
    used = (1 - margin) / (1 + growth)
    numbers = {one.number for one, _ in model.purchases_of[site]}
    carried = {number: assignment.room(number, ports, target) * used for number in numbers}
    room = {variable: carried[one.number] for one, variable in model.purchases_of[site]}
    if assignment.view == "hosts":
        # No block serves two subnets: a part of a host takes a whole one.
        present = _present(model, site, model.using[site])
        _presence(model, {key: (ceil(hosts - 1e-9), options) for key, (hosts, options) in present.items()}, room)
    else:
        _by_pool(model, site, users, room)


def add_losses(model: Model, headroom: float) -> None:
    """Rows for the loss of each zone: the sites that are left carry what moves to them, with so much headroom in ports.

    Hosts with blocks of their own bring none with them: they are left out.
    """
    described = model.amounts.described
    target = described.estate.targets.blocking
    zones = dict.fromkeys(one.zone for one in described.estate.subnets.values() if one.zone)
    for zone in zones:
        without = {key: model.amounts.laid_without(model.units[key[0]], key[1], zone) for key in model.taken}
        for site in model.opened:
            if not site.translates or site.falls_with(zone):
                continue
            ports = model.offer(site.offer).ports
            assert ports is not None
            assignment = ASSIGNMENTS[ports.assignment]
            if assignment.view == "hosts":
                continue
            room = {
                variable: min(
                    assignment.room(one.number, ports, target), one.number * ports.per_address * (1 - headroom)
                )
                for one, variable in model.purchases_of[site]
            }
            users = [(key, without[key][site]) for key in model.using[site] if site in without[key]]
            _by_pool(model, site, users, room)


def _by_pool(model: Model, site: Site, users: Users, room: Mapping[int, float]) -> None:
    """What each pool of ports is asked for stays within the room of the addresses that are held."""
    estate, ports = model.amounts.described.estate, model.offer(site.offer).ports
    assert ports is not None
    assignment = ASSIGNMENTS[ports.assignment]
    pools: dict[object, list[tuple[int, Floats]]] = {}
    users = [(key, _weighed(laid, model, site, room)) for key, laid in users]
    if assignment.view == "tuples":
        pools = _tuples(model, users)
    else:
        for key, laid in users:
            protocol = estate.destinations[model.units[key[0]].to].protocol
            pools.setdefault(protocol, []).append((model.taken[key], laid.concurrent))
    for members in pools.values():
        _within(model, [one for one, _ in members], np.stack([concurrent for _, concurrent in members]), room)


def _weighed(laid: Laid, model: Model, site: Site, room: Mapping[int, float]) -> Laid:
    """A load in which each connection that may fill all ports counts as what of Erlang's room a port of it is.

    Ports that these take are taken for certain: with c ports, P of them always open, what comes and goes has the room
    of c - P. That room is convex in c, so that a load fits only if A + P room(c) / c <= room(c); where it does not fit
    for all that, the engine says so, and a row is added.
    """
    if not np.any(laid.filling):
        return laid
    ports = model.offer(site.offer).ports
    assert ports is not None
    number = {variable: one.number for one, variable in model.purchases_of[site]}
    each = [most / (number[variable] * ports.per_address) for variable, most in room.items() if most]
    return replace(laid, concurrent=laid.concurrent - laid.filling * (1 - min(each, default=1.0)))


def _within(model: Model, variables: Sequence[int], series: Floats, room: Mapping[int, float]) -> None:
    """What is taken stays within what there is, at each time that no other time is above for every member."""
    times = np.unique(series, axis=1)
    times = times[:, np.argsort(-times.sum(axis=0))]
    kept: list[int] = []
    for number in range(times.shape[1]):
        if not any(np.all(times[:, number] <= times[:, other]) for other in kept):
            kept.append(number)
    for number in kept:
        factors = {one: float(value) for one, value in zip(variables, times[:, number], strict=True) if value}
        if factors:
            model.program.row(_scaled(factors, room), high=0)


def _present(
    model: Model, site: Site, passing: Sequence[tuple[int, Option]]
) -> dict[tuple[str, str], tuple[float, list[int]]]:
    """By workload and subnet: its hosts there, and the lanes by which they use a site."""
    estate = model.amounts.described.estate
    found: dict[tuple[str, str], tuple[float, list[int]]] = {}
    for number, option in passing:
        unit, variable = model.units[number], model.taken[number, option]
        for workload in dict.fromkeys(estate.flows[name].from_ for name in unit.flows):
            stated, spread = estate.workloads[workload], estate.host_shares(workload)
            for place, subnet in enumerate(unit.subnets):
                hosts = float(stated.hosts * spread[subnet])
                used = option.sites[place] if option.sites else None
                passes = site.role is Role.PASSES and (not option.before or option.before[place] == site)
                if used == site or passes:
                    found.setdefault((workload, subnet), (hosts, []))[1].append(variable)
    return found


def _presence(model: Model, members: Mapping[Any, tuple[float, list[int]]], room: Mapping[int, float]) -> None:
    """Each member counts once, whichever of its lanes use the site; all within the room."""
    counted: dict[int, float] = {}
    for weight, options in members.values():
        here = model.program.variable(integral=False)
        for option in options:
            model.program.row({option: 1.0, here: -1.0}, high=0)
        counted[here] = weight
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
        limits = [most for number in numbers if (most := model.units[number].needs.max_source_addresses) is not None]
        if not limits:
            continue
        seen, hosts, counted = dict[Site, int](), dict[Prefix, int](), dict[int, float]()
        for number in numbers:
            for option in model.units[number].open_options:
                _shown(model, number, option, seen, hosts)
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


def _shown(model: Model, number: int, option: Option, seen: dict[Site, int], hosts: dict[Prefix, int]) -> None:
    """What an option shows to a partner: sites by whether they are used, and hosts' own IPv6 prefixes likewise."""
    taken = model.taken[number, option]
    if option.own_addresses:
        model.program.row({taken: 1.0}, high=0)
    translating = [site for site in option.distinct if site.translates]
    for site in translating:
        if site not in seen:
            seen[site] = model.program.variable()
        model.program.row({taken: 1.0, seen[site]: -1.0}, high=0)
    for prefix in _own(model, number, option) if 6 in model.units[number].group.families else ():
        if prefix not in hosts:
            hosts[prefix] = model.program.variable(integral=False)
        model.program.row({taken: 1.0, hosts[prefix]: -1.0}, high=0)


def _own(model: Model, number: int, option: Option) -> list[Prefix]:
    """The IPv6 prefixes of a unit's subnets that nothing translates on its path, as few as they can be written."""
    subnets, names = model.amounts.described.estate.subnets, model.units[number].subnets
    bare = [name for place, name in enumerate(names) if not (option.sites and option.sites[place].translates)]
    stated = [one for name in bare for one in subnets[name].prefixes]
    return [*fewest_prefixes([one for one in stated if one.version == 6])]
