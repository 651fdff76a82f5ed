"""Choices made hard on purpose: 1,000 flows of ten exits each, 50 fixed charges, tight ports, falling tiers.

Each instance as a plain programme (an exit is open if any flow uses it, in one row; steps by big bounds), as the
choice writes and seeks it (flow by flow; pieces; in several ways), and as the relaxation of that; for the same time.
"""

import random
from collections.abc import Iterator
from dataclasses import dataclass
from time import perf_counter

from fenrask.programming import Program, Solution

_SECONDS = 40.0
_FLOWS, _EXITS, _OPEN_TO_EACH = 1_000, 50, 10


@dataclass(frozen=True)
class Instance:
    """Flows with a size, and for each exit that is open to it a cost; exits with a fixed charge, room, and steps."""

    sizes: list[float]
    costs: list[dict[int, float]]
    fixed: list[float]
    rooms: list[float]
    steps: list[list[tuple[float, float]]]
    """By exit: width of the step in sizes, rate."""


@dataclass(frozen=True)
class Kind:
    """How an instance is drawn: what part of the exits has to be open at least, fixed charges, rates of later steps.

    networks: a flow's ten exits are those of its network, one of five; else any ten.
    """

    needed: float
    slack: float
    fixed: tuple[float, float]
    later: tuple[float, float]
    networks: bool


KINDS = {
    "five networks of ten exits, dear ones": Kind(0.5, 1.1, (2000, 6000), (0.5, 0.2), networks=True),
    "any ten of fifty exits": Kind(0.5, 1.04, (400, 1500), (0.7, 0.4), networks=False),
    "any ten, of which few need be open": Kind(0.3, 1.04, (400, 1500), (0.7, 0.4), networks=False),
}


def hard(kind: Kind, seed: int = 5) -> Instance:
    """Random, and the same each time."""
    dice = random.Random(seed)
    sizes = [dice.uniform(1, 20) for _ in range(_FLOWS)]
    rooms = [sum(sizes) / _EXITS * dice.uniform(1.5, 3.5) for _ in range(_EXITS)]
    scale = kind.slack * sum(sizes) / (sum(rooms) * kind.needed)
    rooms = [room * scale for room in rooms]
    costs = []
    for number, size in enumerate(sizes):
        own = range(number % 5 * _OPEN_TO_EACH, (number % 5 + 1) * _OPEN_TO_EACH)
        some = own if kind.networks else dice.sample(range(_EXITS), _OPEN_TO_EACH)
        costs.append({one: size * dice.uniform(0.2, 1.0) for one in some})
    fixed = [dice.uniform(*kind.fixed) for _ in range(_EXITS)]
    steps = []
    for room in rooms:
        first = dice.uniform(0.6, 1.2)
        steps.append([(room / 4, first), (room / 4, first * kind.later[0]), (room / 2, first * kind.later[1])])
    return Instance(sizes, costs, fixed, rooms, steps)


def plain(instance: Instance) -> Program:
    """As one would write it down first."""
    program = Program()
    taken = [{one: program.variable(cost) for one, cost in costs.items()} for costs in instance.costs]
    for options in taken:
        program.row(dict.fromkeys(options.values(), 1.0), 1, 1)
    for one, charge in enumerate(instance.fixed):
        opened = program.variable(charge)
        users = {options[one]: size for options, size in zip(taken, instance.sizes, strict=True) if one in options}
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
    taken = [
        {one: program.variable(cost, integral=whole, follows=whole) for one, cost in costs.items()}
        for costs in instance.costs
    ]
    for options in taken:
        program.row(dict.fromkeys(options.values(), 1.0), 1, 1)
    for one, charge in enumerate(instance.fixed):
        opened = program.variable(charge, integral=whole)
        users = {options[one]: size for options, size in zip(taken, instance.sizes, strict=True) if one in options}
        for user in users:
            program.row({user: 1.0, opened: -1.0}, high=0, tightens=True)
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
    for words, kind in KINDS.items():
        instance = hard(kind)
        yield words
        for name, program in (
            ("relaxation", close(instance, relaxed=True)),
            ("plain", plain(instance)),
            ("as the choice writes it", close(instance)),
        ):
            began = perf_counter()
            solved: Solution | None = program.solve(_SECONDS, twice=name != "plain")
            took = perf_counter() - began
            if solved is None:
                yield f"  {name}: nothing found in {took:.1f} s"
            else:
                found = f"{solved.objective:,.0f}, bound {solved.bound:,.0f}, gap {solved.gap:.2%}"
                yield f"  {name}: {found}, {took:.1f} s"
