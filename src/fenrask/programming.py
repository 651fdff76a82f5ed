"""A mixed-integer programme, row by row; solved by HiGHS, which is loaded only here.

By its own binding, not by SciPy's: up to HiGHS 1.15 (SciPy 1.17 carries 1.12) presolve was seen to cut off the optimum
of some of our programmes and to prove what was left. An answer that is told as proven is sought twice, therefore.
"""

import os
import sys
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from time import monotonic
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Program", "Row", "Solution"]

Floats = NDArray[np.float64]
Row = tuple[Mapping[int, float], float, float]
"""Factors by variable, and what their sum lies between."""

_GAP = 1e-9
_AGREE = 1e-7
_INFEASIBLE = ("kInfeasible", "kUnboundedOrInfeasible")


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


@dataclass
class Program:
    """Variables by number, rows as mappings from variables to factors."""

    cost: list[float] = field(default_factory=list)
    integral: list[bool] = field(default_factory=list)
    upper: list[float] = field(default_factory=list)
    rows: list[Row] = field(default_factory=list)

    def variable(self, cost: float = 0.0, upper: float = 1.0, integral: bool = True) -> int:
        """A new variable from 0 to `upper`; its number."""
        self.cost.append(cost)
        self.integral.append(integral)
        self.upper.append(upper)
        return len(self.cost) - 1

    def row(self, factors: Mapping[int, float], low: float = -np.inf, high: float = np.inf) -> None:
        """The sum of factors x variables lies between low and high."""
        self.rows.append((dict(factors), low, high))

    def solve(self, seconds: float, more: Iterable[Row] = (), twice: bool = False) -> Solution | None:
        """The least cost, with rows added for this time only; None where nothing fits, or time is up too soon.

        `twice`: once more without presolve, as far as time allows, so that an optimum has two witnesses.
        """
        return self.decide(seconds, more, twice)[0]

    def decide(self, seconds: float, more: Iterable[Row] = (), twice: bool = False) -> tuple[Solution | None, bool]:
        """The same, and whether it is certain that nothing fits."""
        ends = monotonic() + seconds
        model = self._model([*self.rows, *more])
        integral, upper = np.array(self.integral, dtype=bool), np.array(self.upper)
        answer, infeasible = _run(model, seconds)
        if answer is None or not integral.any():
            return answer, infeasible
        if twice:
            answer = _seen_again(model, answer, ends - monotonic())
        # What the solver calls whole is so to a millionth: money is counted again with the whole numbers themselves.
        whole = np.round(answer.values)
        model.col_lower_ = np.where(integral, whole, 0.0)
        model.col_upper_ = np.where(integral, whole, upper)
        model.integrality_ = []
        exact, _ = _run(model, seconds)
        if exact is None:
            return answer, False
        return Solution(exact.values, exact.objective, min(answer.bound, exact.objective)), False

    def _model(self, rows: list[Row]) -> Any:
        import highspy

        kinds = (highspy.HighsVarType.kContinuous, highspy.HighsVarType.kInteger)
        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = len(self.cost), len(rows)
        model.col_cost_ = np.array(self.cost, dtype=np.float64)
        model.col_lower_ = np.zeros(len(self.cost))
        model.col_upper_ = np.array(self.upper, dtype=np.float64)
        model.row_lower_ = np.array([low for _, low, _ in rows], dtype=np.float64)
        model.row_upper_ = np.array([high for *_, high in rows], dtype=np.float64)
        model.integrality_ = [kinds[one] for one in self.integral]
        model.a_matrix_.format_ = highspy.MatrixFormat.kRowwise
        model.a_matrix_.start_ = np.cumsum([0, *(len(factors) for factors, *_ in rows)], dtype=np.int32)
        model.a_matrix_.index_ = np.array([column for factors, *_ in rows for column in factors], dtype=np.int32)
        model.a_matrix_.value_ = np.array([one for factors, *_ in rows for one in factors.values()], dtype=np.float64)
        return model


def _seen_again(model: Any, first: Solution, seconds: float) -> Solution:
    """The better of a solution and of what is found without presolve; proven as far as both agree."""
    if seconds <= 0 or first.gap > _AGREE:
        return first
    second, _ = _run(model, seconds, presolve="off")
    if second is None or second.objective >= first.objective - _AGREE * abs(first.objective):
        return first
    return second


def _run(model: Any, seconds: float, **options: Any) -> tuple[Solution | None, bool]:
    import highspy

    new: Any = highspy.Highs
    with _silenced():
        solver = new()
        for name, value in {"output_flag": False, "time_limit": float(seconds), "mip_rel_gap": _GAP, **options}.items():
            solver.setOptionValue(name, value)
        solver.passModel(model)
        solver.run()
    found, status = solver.getInfo(), solver.getModelStatus().name
    if found.primal_solution_status != highspy.SolutionStatus.kSolutionStatusFeasible:
        return None, status in _INFEASIBLE
    objective = float(found.objective_function_value)
    bound = float(found.mip_dual_bound) if len(model.integrality_) else objective
    return Solution(np.array(solver.getSolution().col_value), objective, bound), False


@contextmanager
def _silenced() -> Iterator[None]:
    """Nothing reaches the process's standard output: the solver says who it is, whatever its options."""
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
