"""A mixed-integer programme, row by row; solved by HiGHS through SciPy, which is loaded only here."""

import os
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Program", "Solution"]


Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Solution:
    """The values of the variables, the objective, and what is proven of it."""

    values: Floats
    objective: float
    bound: float
    """No solution is below it."""

    @property
    def gap(self) -> float:
        """How far the objective may be above the optimum, as a share of it."""
        return max(0.0, self.objective - self.bound) / max(abs(self.objective), 1e-9)


@contextmanager
def _silenced() -> Iterator[None]:
    """Nothing reaches the process's standard output: the solver now and then writes there by itself."""
    try:
        sys.stdout.flush()
        kept = os.dup(1)
    except (OSError, ValueError):
        yield
        return
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    try:
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)


@dataclass
class Program:
    """Variables by number, rows as mappings from variables to factors."""

    cost: list[float] = field(default_factory=list)
    integral: list[bool] = field(default_factory=list)
    upper: list[float] = field(default_factory=list)
    _rows: list[tuple[dict[int, float], float, float]] = field(default_factory=list)

    def variable(self, cost: float = 0.0, upper: float = 1.0, integral: bool = True) -> int:
        """A new variable from 0 to `upper`; its number."""
        self.cost.append(cost)
        self.integral.append(integral)
        self.upper.append(upper)
        return len(self.cost) - 1

    def row(self, factors: Mapping[int, float], low: float = -np.inf, high: float = np.inf) -> None:
        """The sum of factors x variables lies between low and high."""
        self._rows.append((dict(factors), low, high))

    def solve(
        self, seconds: float, more: Sequence[tuple[Mapping[int, float], float, float]] | None = None
    ) -> Solution | None:
        """The least cost, with rows added for this time only; None where nothing fits, or time is up too soon."""
        from scipy.optimize import LinearConstraint
        from scipy.sparse import coo_array

        rows = [*self._rows, *(more or [])]
        lines = np.repeat(np.arange(len(rows)), [len(factors) for factors, *_ in rows])
        columns = np.array([column for factors, *_ in rows for column in factors], dtype=np.intp)
        values = np.array([value for factors, *_ in rows for value in factors.values()], dtype=np.float64)
        matrix = coo_array((values, (lines, columns)), shape=(len(rows), len(self.cost)))
        constraints = LinearConstraint(matrix, [low for _, low, _ in rows], [high for *_, high in rows])
        integral = np.array(self.integral, dtype=bool)
        upper = np.array(self.upper)
        answer = self._answer(integral, np.zeros(len(upper)), upper, constraints, seconds)
        if answer is None:
            return None
        # What the solver calls whole is so to a millionth: money is counted again with the whole numbers themselves.
        whole = np.round(answer.values)
        low, high = np.where(integral, whole, 0.0), np.where(integral, whole, upper)
        exact = self._answer(np.zeros_like(integral), low, high, constraints, seconds)
        if exact is None:
            return answer
        return Solution(exact.values, exact.objective, min(answer.bound, exact.objective))

    def _answer(
        self, integral: NDArray[np.bool_], low: Floats, high: Floats, constraints: Any, seconds: float
    ) -> Solution | None:
        from scipy.optimize import Bounds, milp

        with _silenced():
            answer = milp(
                np.array(self.cost),
                integrality=integral.astype(int),
                bounds=Bounds(low, high),
                constraints=constraints,
                options={"time_limit": seconds, "mip_rel_gap": 1e-9},
            )
        if answer.x is None:
            return None
        bound = answer.fun if answer.mip_dual_bound is None else answer.mip_dual_bound
        return Solution(np.asarray(answer.x), float(answer.fun), float(bound))
