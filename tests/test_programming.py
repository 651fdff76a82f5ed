"""Small programmes against every combination of their whole numbers; and a hard one, whose word is checked."""

import random
import unittest
from itertools import product

import numpy as np

from fenrask.programming import Allowance, Program


def facilities(flows: int, exits: int, seed: int) -> Program:
    """Flows of some size to exits of some room, each to one; an exit has a fixed charge."""
    dice = random.Random(seed)
    program = Program()
    opened = [program.variable(dice.uniform(30, 60)) for _ in range(exits)]
    sizes = [dice.uniform(1, 20) for _ in range(flows)]
    taken = [[program.variable(size * dice.uniform(0.2, 1), follows=True) for _ in range(exits)] for size in sizes]
    room = 2.1 * sum(sizes) / exits
    for options in taken:
        program.row(dict.fromkeys(options, 1.0), 1, 1)
        for option, one in zip(options, opened, strict=True):
            program.row({option: 1.0, one: -1.0}, high=0, tightens=True)
    for number, one in enumerate(opened):
        program.row({options[number]: size for options, size in zip(taken, sizes, strict=True)} | {one: -room}, high=0)
    return program


class Programmes(unittest.TestCase):
    def keeps_to(self, program: Program, values: list[float]) -> bool:
        return all(
            low - 1e-6 <= sum(factor * values[number] for number, factor in factors.items()) <= high + 1e-6
            for factors, low, high in program.rows
        )

    def cheapest(self, program: Program) -> float | None:
        costs = [
            sum(cost * one for cost, one in zip(program.cost, values, strict=True))
            for values in product((0.0, 1.0), repeat=len(program.cost))
            if self.keeps_to(program, list(values))
        ]
        return min(costs, default=None)

    def test_what_each_variable_costs_at_least(self) -> None:
        """Never above what every combination with it says, and none only where no combination has it."""
        for seed in range(6):
            program = facilities(4, 3, seed)
            bounds = program.relaxed_with(range(len(program.cost)))
            whole = [one for one in product((0.0, 1.0), repeat=len(program.cost)) if self.keeps_to(program, list(one))]
            costs = np.array(whole) @ np.array(program.cost)
            for variable, bound in enumerate(bounds):
                with_it = costs[[one[variable] == 1 for one in whole]]
                if with_it.size:
                    self.assertIsNotNone(bound)
                    self.assertLessEqual(bound or 0.0, float(with_it.min()) + 1e-7)

    def test_small_ones_are_as_every_combination_says(self) -> None:
        dice = random.Random(4)
        impossible = 0
        for number in range(40):
            program = Program()
            for _ in range(9):
                program.variable(dice.uniform(-5, 10), follows=dice.random() < 0.5)
            for _ in range(4):
                some = dice.sample(range(9), 4)
                low = dice.choice([0.5, 1.0, 2.0])
                program.row({one: dice.choice([-1.0, 0.3, 1.0, 2.5]) for one in some}, low, dice.choice([2.0, 9.0]))
            least = self.cheapest(program)
            with self.subTest(number=number):
                found, infeasible = program.decide(10, twice=bool(number % 2))
                self.assertEqual(infeasible, least is None)
                impossible += infeasible
                if found is not None and least is not None:
                    self.assertAlmostEqual(found.objective, least, places=7)
                    self.assertLessEqual(found.bound, least + 1e-7)
                    self.assertTrue(self.keeps_to(program, found.values.tolist()))
        self.assertTrue(0 < impossible < 35, impossible)

    def test_beside_a_known_optimum_another_row_costs_what_every_combination_says(self) -> None:
        """Optima near it, far from it, and none at all."""
        dice, impossible = random.Random(8), 0
        for seed in range(12):
            program = facilities(3, 3, seed)
            known, _ = program.decide(10)
            assert known is not None
            beside = program.beside(known)
            for _ in range(4):
                row = (
                    {one: dice.choice([-1.0, 1.0]) for one in dice.sample(range(12), 3)},
                    dice.choice([0, 1, 2]),
                    9.0,
                )
                other = Program([*program.cost], [*program.integral], [*program.upper], [*program.rows, row])
                least = self.cheapest(other)
                found, infeasible = beside.decide(10, [row])
                with self.subTest(seed=seed, row=row):
                    self.assertEqual(infeasible, least is None)
                    impossible += infeasible
                    if found is not None and least is not None:
                        self.assertAlmostEqual(found.objective, least, places=7)
                        self.assertAlmostEqual(found.bound, least, places=7)
                        self.assertTrue(self.keeps_to(other, found.values.tolist()))
        self.assertTrue(0 < impossible < 24, impossible)

    def test_rows_for_once_do_not_stay(self) -> None:
        program = Program()
        dear, cheap = program.variable(3), program.variable(2)
        program.row({dear: 1.0, cheap: 1.0}, 1)
        forced = program.solve(5, [({dear: 1.0}, 1, 1)])
        free = program.solve(5)
        assert forced is not None and free is not None
        self.assertEqual((forced.objective, free.objective), (3.0, 2.0))

    def test_what_is_not_proven_has_a_gap_and_is_the_same_each_time(self) -> None:
        program = facilities(16, 8, 6)
        first, again, long = (program.solve(twice=True, nodes=nodes) for nodes in (1, 1, 20))
        assert first is not None and again is not None and long is not None
        self.assertEqual((first.objective, first.bound), (again.objective, again.bound))
        self.assertEqual(first.values.tolist(), again.values.tolist())
        self.assertGreater(first.gap, 1e-6)
        self.assertLess(long.gap, 1e-9)
        for found in (first, long):
            self.assertTrue(self.keeps_to(program, found.values.tolist()))
            cost = sum(one * value for one, value in zip(program.cost, found.values, strict=True))
            self.assertAlmostEqual(found.objective, cost, places=6)
        # Each bound holds for what the other found.
        self.assertLessEqual(max(first.bound, long.bound), min(first.objective, long.objective) * (1 + 1e-9))

    def test_other_ways_find_what_one_way_does(self) -> None:
        program = facilities(24, 6, 3)
        proven = program.solve(30)
        assert proven is not None
        self.assertLess(proven.gap, 1e-6)
        other = program._otherwise(None, Allowance(20, None))
        assert other is not None
        self.assertAlmostEqual(other.objective, proven.objective, places=6)
        self.assertLessEqual(other.bound, proven.objective + 1e-6)
        # Rows for once hold there too: the first exit that is open is not to be.
        first = next(number for number in range(6) if proven.values[number] > 0.5)
        without = ({first: 1.0}, 0.0, 0.0)
        dearer, again = program._otherwise(None, Allowance(20, None), (without,)), program.solve(30, [without])
        assert dearer is not None and again is not None
        self.assertEqual(round(dearer.values[first]), 0)
        self.assertAlmostEqual(dearer.objective, again.objective, places=6)
        self.assertGreater(dearer.objective, proven.objective)
