"""Changes as sums over the variables of a programme."""

from dataclasses import dataclass, field, replace

from fenrask.programming import Program, Solution

__all__ = ["Counts"]

_IN_ORDER = (10_000.0, 100.0, 1.0, 0.0, 0.0)
"""Weights by which entries come before exits, and these before routes; lists change where entries do."""


@dataclass
class Counts:
    """How much each variable changes; and what changes where none of them is taken."""

    entries: dict[int, float] = field(default_factory=dict)
    exits: dict[int, float] = field(default_factory=dict)
    routes: dict[int, float] = field(default_factory=dict)
    lists: dict[int, float] = field(default_factory=dict)
    building: dict[int, float] = field(default_factory=dict)
    """Money, once, to put up exits and to take down others; what is not taken up is saved."""
    none: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0, 0.0, 0.0])
    """Entries, exits, routes, lists and money for building without any variable taken."""

    @property
    def kinds(self) -> tuple[dict[int, float], ...]:
        return self.entries, self.exits, self.routes, self.lists, self.building

    def weighed(self, weights: tuple[float, ...]) -> tuple[dict[int, float], float]:
        """The sum by variable, and what it is without any."""
        found: dict[int, float] = {}
        for weight, kind in zip(weights, self.kinds, strict=True):
            for variable, number in kind.items() if weight else ():
                found[variable] = found.get(variable, 0.0) + weight * number
        return found, sum(weight * number for weight, number in zip(weights, self.none, strict=True))

    def fewest(self, program: Program, most: float) -> Program:
        """The programme that seeks the fewest changes at no more than so much money."""
        cost = [0.0] * len(program.cost)
        for variable, weight in self.weighed(_IN_ORDER)[0].items():
            cost[variable] = weight
        money = {variable: one for variable, one in enumerate(program.cost) if one}
        top = max(map(abs, money.values()), default=1.0)
        within = {variable: one / top for variable, one in money.items()}
        return replace(program, cost=cost, rows=[*program.rows, (within, float("-inf"), most / top)])

    @staticmethod
    def priced(program: Program, found: Solution, bound: float) -> Solution:
        """A solution with its money, and what no solution costs less than."""
        month = float(sum(one * value for one, value in zip(program.cost, found.values, strict=True)))
        return Solution(found.values, month, bound)
