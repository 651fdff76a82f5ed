"""A choice made hard on purpose: 1,000 flows, 10 of 50 exits open to each, fixed charges, tight ports, falling tiers.

The same instance as a plain programme (an exit is open if any flow uses it, in one row; steps by big bounds), as
the choice writes it (flow by flow; pieces), and as the relaxation of that; each for the same time.
"""

import random
from collections.abc import Iterator
from dataclasses import dataclass
from time import perf_counter

from fenrask.programming import Program, Solution

_SECONDS = 40.0
_FLOWS, _EXITS, _OPEN_TO_EACH = 1_000, 50, 10
_SLACK = 1.04
"""Capacity of ten average exits more than what is needed by so much."""


@dataclass(frozen=True)
class Instance:
    """Flows with a size, and for each exit that is open to it a cost; exits with a fixed charge, room, and steps."""

    sizes: list[float]
    costs: list[dict[int, float]]
    fixed: list[float]
    rooms: list[float]
    steps: list[list[tuple[float, float]]]
    """By exit: width of the step in sizes, rate."""


def hard(seed: int = 5) -> Instance:
    """Random, and the same each time."""
    dice = random.Random(seed)
    sizes = [dice.uniform(1, 20) for _ in range(_FLOWS)]
    rooms = [sum(sizes) / _EXITS * dice.uniform(1.5, 3.5) for _ in range(_EXITS)]
    scale = _SLACK * sum(sizes) / (sum(rooms) / 2)
    rooms = [room * scale for room in rooms]
    costs = [
        {one: size * dice.uniform(0.2, 1.0) for one in dice.sample(range(_EXITS), _OPEN_TO_EACH)} for size in sizes
    ]
    fixed = [dice.uniform(400, 1500) for _ in range(_EXITS)]
    steps = []
    for room in rooms:
        first = dice.uniform(0.6, 1.2)
        steps.append([(room / 4, first), (room / 4, first * 0.7), (room / 2, first * 0.4)])
    return Instance(sizes, costs, fixed, rooms, steps)


def plain(instance: Instance) -> Program:
    """As one would write it down first."""
    program = Program()
    taken = [{one: program.variable(cost) for one, cost in costs.items()} for costs in instance.costs]
    for lanes in taken:
        program.row(dict.fromkeys(lanes.values(), 1.0), 1, 1)
    for one, charge in enumerate(instance.fixed):
        opened = program.variable(charge)
        users = {lanes[one]: size for lanes, size in zip(taken, instance.sizes, strict=True) if one in lanes}
        program.row(dict.fromkeys(users, 1.0) | {opened: -float(len(users))}, high=0)
        program.row(users, high=instance.rooms[one])
        filled = [program.variable(rate, width, integral=False) for width, rate in instance.steps[one]]
        full = [program.variable() for _ in filled[1:]]
        for number, binary in enumerate(full):
            program.row({filled[number]: 1.0, binary: -instance.steps[one][number][0]}, low=0)
            program.row({filled[number + 1]: 1.0, binary: -instance.rooms[one]}, high=0)
        program.row(dict.fromkeys(filled, 1.0) | {user: -size for user, size in users.items()}, 0, 0)
    return program


def close(instance: Instance, relaxed: bool = False) -> Program:
    """As the choice writes it."""
    program = Program()
    whole = not relaxed
    taken = [{one: program.variable(cost, integral=whole) for one, cost in costs.items()} for costs in instance.costs]
    for lanes in taken:
        program.row(dict.fromkeys(lanes.values(), 1.0), 1, 1)
    for one, charge in enumerate(instance.fixed):
        opened = program.variable(charge, integral=whole)
        users = {lanes[one]: size for lanes, size in zip(taken, instance.sizes, strict=True) if one in lanes}
        for user in users:
            program.row({user: 1.0, opened: -1.0}, high=0)
        room = instance.rooms[one]
        program.row({user: size / room for user, size in users.items()} | {opened: -1.0}, high=0)
        steps = instance.steps[one]
        filled = [program.variable(width * rate, integral=False) for width, rate in steps]
        program.row(
            {each: width for each, (width, _) in zip(filled, steps, strict=True)}
            | {user: -size for user, size in users.items()},
            0,
            0,
        )
        program.row({filled[0]: 1.0, opened: -1.0}, high=0)
        before = filled[0]
        for each in filled[1:]:
            full = program.variable(integral=whole)
            program.row({each: 1.0, full: -1.0}, high=0)
            program.row({before: 1.0, full: -1.0}, low=0)
            before = each
    return program


def measure() -> Iterator[str]:
    """Objective, bound and gap of each."""
    instance = hard()
    found: dict[str, Solution | None] = {}
    for name, program in (
        ("relaxation", close(instance, relaxed=True)),
        ("plain", plain(instance)),
        ("as the choice writes it", close(instance)),
    ):
        began = perf_counter()
        solved = program.solve(_SECONDS)
        took = perf_counter() - began
        found[name] = solved
        if solved is None:
            yield f"{name}: nothing found in {took:.1f} s"
        else:
            yield f"{name}: {solved.objective:,.2f}, bound {solved.bound:,.2f}, gap {solved.gap:.1%}, {took:.1f} s"
