"""What sites hold: ports by pool, exactly by Erlang's inverse, and every other limit, at the times that can bind."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import ASSIGNMENTS
from fenrask.designs.choice.amounts import Laid
from fenrask.designs.choice.model import Model
from fenrask.designs.choice.units import Lane, Site

__all__ = ["add_losses", "add_rooms"]

Floats = NDArray[np.float64]
Users = Sequence[tuple[tuple[int, Lane], Laid]]


def add_rooms(model: Model, margin: float) -> None:
    """Rows for every site; `margin` is a share of the ports that is not used."""
    for site, opened in model.opened.items():
        if site.translates:
            _ports(model, site, [(key, model.laid[key][site]) for key in model.using[site]], margin)
        for offer in site.offers:
            _limits(model, site, offer, opened)


def _limits(model: Model, site: Site, offer: str, opened: int) -> None:
    """The caps of one offer of a site on what passes it."""
    limits, passing = model.offer(offer).limits, model.passing(site, offer)
    users = [(key, model.laid[key][site]) for key in passing]
    bits = None if limits.gbit_per_s is None else limits.gbit_per_s * 1e9
    for most, series in (
        (limits.connections, [one.held if offer == site.offer else one.living for _, one in users]),
        (limits.new_per_s, [one.new_per_s for _, one in users]),
        (bits, [one.bits_per_s for _, one in users]),
    ):
        # What all together stay below needs no row.
        if most is not None and series and float(np.max(sum(series))) > most:
            _within(model, [model.taken[key] for key, _ in users], np.stack(series), {opened: float(most)})
    if limits.hosts is not None:
        _presence(model, _present(model, site, passing), {opened: float(limits.hosts)})
    if limits.subnets is not None:
        by_subnet: dict[str, list[int]] = {}
        for (_, subnet), (_, lanes) in _present(model, site, passing).items():
            by_subnet.setdefault(subnet, []).extend(lanes)
        _presence(model, {name: (1.0, lanes) for name, lanes in by_subnet.items()}, {opened: float(limits.subnets)})


def _ports(model: Model, site: Site, users: Users, margin: float) -> None:
    estate = model.amounts.described.estate
    ports = model.offer(site.offer).ports
    assert ports is not None
    assignment = ASSIGNMENTS[ports.assignment]
    target = estate.targets.refused_share
    used = (1 - margin) / (1 + estate.targets.growth_room)
    numbers = {one.number for one, _ in model.holdings[site]}
    carried = {number: assignment.room(number, ports, target) * used for number in numbers}
    room = {variable: carried[one.number] for one, variable in model.holdings[site]}
    if assignment.view == "hosts":
        _presence(model, _present(model, site, model.using[site]), room)
    else:
        _by_pool(model, site, users, room)


def add_losses(model: Model, headroom: float) -> None:
    """Rows for the loss of each zone: the sites that are left carry what moves to them, with so much headroom in ports.

    Hosts with blocks of their own bring none with them: they are left out.
    """
    described = model.amounts.described
    target = described.estate.targets.refused_share
    zones = dict.fromkeys(one.zone for one in described.estate.subnets.values() if one.zone)
    for zone in zones:
        without = {key: model.amounts.laid_without(model.units[key[0]], key[1], zone) for key in model.taken}
        for site in model.opened:
            if not site.translates or site.zone == zone:
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
                for one, variable in model.holdings[site]
            }
            users = [(key, without[key][site]) for key in model.using[site] if site in without[key]]
            _by_pool(model, site, users, room)


def _by_pool(model: Model, site: Site, users: Users, room: Mapping[int, float]) -> None:
    """What each pool of ports is asked for stays within the room of the addresses that are held."""
    estate, ports = model.amounts.described.estate, model.offer(site.offer).ports
    assert ports is not None
    assignment = ASSIGNMENTS[ports.assignment]
    pools: dict[str, list[tuple[int, Floats]]] = {}
    for key, laid in users:
        to, part = model.units[key[0]].to, float(model.units[key[0]].group.part)
        pool: str = estate.destinations[to].protocol
        share = 1.0
        if assignment.view == "tuples":
            # The addresses of one IP version get all that they would of both: which of them answer is not told.
            pool, share = to, max(estate.destinations[to].address_shares) / part
        pools.setdefault(pool, []).append((model.taken[key], laid.held * share))
    for members in pools.values():
        _within(model, [one for one, _ in members], np.stack([held for _, held in members]), room)


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
    model: Model, site: Site, passing: Sequence[tuple[int, Lane]]
) -> dict[tuple[str, str], tuple[float, list[int]]]:
    """By workload and subnet: its hosts there, and the lanes by which they use a site."""
    estate = model.amounts.described.estate
    found: dict[tuple[str, str], tuple[float, list[int]]] = {}
    for number, lane in passing:
        unit, variable = model.units[number], model.taken[number, lane]
        for workload in dict.fromkeys(estate.flows[name].from_ for name in unit.flows):
            stated = estate.workloads[workload]
            hosts = float(-(-stated.hosts // len(stated.subnets)))
            for subnet, used in zip(unit.subnets, lane.sites, strict=False):
                if used == site:
                    found.setdefault((workload, subnet), (hosts, []))[1].append(variable)
    return found


def _presence(model: Model, members: Mapping[Any, tuple[float, list[int]]], room: Mapping[int, float]) -> None:
    """Each member counts once, whichever of its lanes use the site; all within the room."""
    counted: dict[int, float] = {}
    for weight, lanes in members.values():
        here = model.program.variable(integral=False)
        for lane in lanes:
            model.program.row({lane: 1.0, here: -1.0}, high=0)
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
