"""A mixed-integer programme, row by row; solved by HiGHS, which is loaded only here.

By its own binding, not by SciPy's: up to HiGHS 1.15 (SciPy 1.17 carries 1.12) presolve was seen to cut off the optimum
of some of our programmes and to prove what was left. Therefore a proven answer is solved for twice.

The solver stops after a number of nodes of its search, so that the answer is the same on every machine, however fast;
the clock stops it only where seconds are given.
"""

import os
import sys
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from threading import Event
from time import monotonic
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Allowance", "Beside", "Program", "Row", "Solution"]

Floats = NDArray[np.float64]
Row = tuple[Mapping[int, float], float, float]
"""Factors by variable, and what their sum lies between."""

_GAP = 1e-9
_AGREE = 1e-7
_WHOLE = 1e-7
"""Values this near to a whole number are one."""
_FIRST, _TIGHT, _HALF = 0.05, 0.35, 0.5
"""Parts of the time, or of the nodes: for a first run of a programme that may have to be solved in several ways; for
its rows as they are, after that; and for the leaders.
"""
_NUMBERS_BY_NODE, _MOST_NODES, _LEAST_NODES = 60_000_000, 20_000, 200
"""The default number of nodes: the first divided by how many numbers the rows hold, within the other two.

A node of a large programme takes longer. It is a minute or so of a machine of 2025.
"""
_A_LITTLE_MORE = 1.02
"""How much further than the relaxation was from the known optimum the next is looked for at first."""
_ENOUGH = 0.05
"""The share of whole numbers that must be known beforehand for a search among the others to be worth it."""
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


@dataclass(frozen=True)
class _Relaxed:
    """An optimum without whole numbers, and by how much each variable would change it, were it one more."""

    optimum: Solution
    reduced: Floats


@dataclass
class Program:
    """Variables by number, rows as mappings from variables to factors."""

    cost: list[float] = field(default_factory=list)
    integral: list[bool] = field(default_factory=list)
    upper: list[float] = field(default_factory=list)
    rows: list[Row] = field(default_factory=list)
    following: list[int] = field(default_factory=list)
    """Whole numbers that all but follow from the others: who goes where, once it is decided what is open."""
    tightening: set[int] = field(default_factory=set)
    """Rows by number that no whole numbers need, since others say the same of them in sum."""

    def variable(self, cost: float = 0.0, upper: float = 1.0, integral: bool = True, follows: bool = False) -> int:
        """A new variable from 0 to `upper`; its number. `follows`: see `following`."""
        self.cost.append(cost)
        self.integral.append(integral)
        self.upper.append(upper)
        if follows:
            self.following.append(len(self.cost) - 1)
        return len(self.cost) - 1

    def row(
        self, factors: Mapping[int, float], low: float = -np.inf, high: float = np.inf, tightens: bool = False
    ) -> None:
        """The sum of factors x variables lies between low and high. `tightens`: see `tightening`."""
        if tightens:
            self.tightening.add(len(self.rows))
        self.rows.append((dict(factors), low, high))

    def solve(
        self, seconds: float | None = None, more: Iterable[Row] = (), twice: bool = False, nodes: int | None = None
    ) -> Solution | None:
        """The least cost, with rows added for this time only; None where nothing fits, or nothing was found.

        seconds: the time limit. nodes: the maximum number of nodes of the search; where neither is given, a number by
        the size of the programme.
        `twice`: what is proven is solved once more without presolve, as far as these allow, so that an optimum has two
        witnesses; what a first part of them does not prove is solved in several ways with the rest.
        """
        return self.decide(seconds, more, twice, nodes)[0]

    def relaxed_with(self, variables: Iterable[int], more: Iterable[Row] = ()) -> list[float | None]:
        """For each variable the least cost of the relaxation in which it is 1; None where nothing fits.

        No solution in which it is 1 costs less. One solver goes from one to the next, so that each takes few steps.
        """
        import highspy

        new: Any = highspy.Highs
        model, found = self._model([*self.rows, *more]), list[float | None]()
        model.integrality_ = []
        with _silenced():
            solver = new()
            solver.setOptionValue("output_flag", False)
            solver.passModel(model)
            for variable in variables:
                solver.changeColBounds(variable, 1.0, 1.0)
                solver.run()
                status = solver.getModelStatus()
                if status == highspy.HighsModelStatus.kOptimal:
                    found.append(float(solver.getInfo().objective_function_value))
                else:
                    found.append(None if status.name in _INFEASIBLE else -np.inf)
                solver.changeColBounds(variable, 0.0, self.upper[variable])
        return found

    def decide(
        self, seconds: float | None = None, more: Iterable[Row] = (), twice: bool = False, nodes: int | None = None
    ) -> tuple[Solution | None, bool]:
        """The same, and whether it is certain that nothing fits."""
        if not self.upper:
            return Solution(np.zeros(0), 0.0, 0.0), False
        more = tuple(more)
        if seconds is None and nodes is None:
            nodes = self.usual_nodes(more)
        with _silenced():
            return self._decided(seconds, more, twice, nodes)

    def _decided(
        self, seconds: float | None, more: tuple[Row, ...], twice: bool, nodes: int | None
    ) -> tuple[Solution | None, bool]:
        left, model = Allowance(seconds, nodes), self._model([*self.rows, *more])
        integral = np.array(self.integral, dtype=bool)
        hard = twice and bool(self.following)
        answer, infeasible = self._whole(_relaxed(model, left)), False
        if answer is None:
            answer, infeasible = _run(model, left, _FIRST if hard else 1.0)
        if hard and not infeasible and (answer is None or answer.gap > _AGREE):
            answer = self._otherwise(answer, left, more)
        if answer is None or not integral.any():
            return answer, infeasible
        if twice:
            answer = self._seen_again(model, answer, left)
        return self._counted(model, answer, seconds), False

    def _whole(self, relaxed: _Relaxed | None) -> Solution | None:
        """The optimum of a relaxation where its whole numbers are whole: none is better; else None."""
        if relaxed is None:
            return None
        values = relaxed.optimum.values[np.array(self.integral, dtype=bool)]
        return relaxed.optimum if np.all(np.abs(values - np.round(values)) <= _WHOLE) else None

    def beside(self, known: Solution, rows: Iterable[Row] = (), seconds: float | None = None) -> "Beside":
        """What answers, sooner, what the optimum is under a row or two more; known: the optimum under these rows."""
        model = self._model([*self.rows, *rows])
        with _silenced():
            relaxed = _relaxed(model, Allowance(seconds, None))
        return Beside(self, np.inf if relaxed is None else max(0.0, known.objective - relaxed.optimum.objective))

    def within(
        self, above: float, seconds: float | None, rows: Iterable[Row], nodes: int | None = None
    ) -> tuple[Solution | None, bool, float]:
        """What `decide` says, looked for first within so much money above the relaxation; with what that costs.

        A variable whose reduced cost there is more than this is 0 in every solution within it (or 1, where it is as
        much less): it need not be looked at (Dantzig, Fulkerson & Johnson 1954). What is found within is the optimum
        of all; what is found beyond says how far to look next.
        """
        rows = tuple(rows)
        with _silenced():
            left, model = Allowance(seconds, nodes), self._model([*self.rows, *rows])
            relaxed = _relaxed(model, left) if len(model.integrality_) else None
            if relaxed is None:
                return *self._decided(seconds, rows, False, nodes), np.nan
            least = relaxed.optimum.objective
            if (whole := self._whole(relaxed)) is not None:
                return self._counted(model, whole, seconds), False, least
            for _ in range(2):
                if self._narrow(model, relaxed, above) < _ENOUGH:
                    break
                found, _ = _run(model, left)
                if found is None:
                    break
                if found.objective <= least + above:
                    bound = min(found.bound, least + above)
                    return self._counted(model, replace(found, bound=bound), seconds), False, least
                above = found.objective - least
            return *self._decided(seconds, rows, False, left.nodes and max(1, left.nodes)), least

    def _narrow(self, model: Any, relaxed: _Relaxed, above: float) -> float:
        """Set the variables that all solutions within so much of a relaxation have in common; the share of these."""
        least, reduced = relaxed.optimum.objective, relaxed.reduced
        integral, upper = np.array(self.integral, dtype=bool), np.array(self.upper, dtype=np.float64)
        margin = above + _AGREE * abs(least + above)
        never, always = integral & (reduced > margin), integral & (reduced < -margin)
        model.col_lower_, model.col_upper_ = np.where(always, upper, 0.0), np.where(never, 0.0, upper)
        return int(np.count_nonzero(never | always)) / max(1, sum(self.integral))

    def witnessed(self, known: Solution, seconds: float | None = None, more: Iterable[Row] = ()) -> Solution:
        """A solution of these rows that is proven, looked for once more without presolve: itself, or a better one."""
        more = tuple(more)
        with _silenced():
            model = self._model([*self.rows, *more])
            nodes = self.usual_nodes(more) if seconds is None else None
            found = self._seen_again(model, known, Allowance(seconds, nodes))
            return known if found is known else self._counted(model, found, seconds)

    def _seen_again(self, model: Any, first: Solution, left: "Allowance") -> Solution:
        """The better of a solution and of what is found without presolve; proven as far as both agree.

        What is better is within what the first costs: only there is looked.
        """
        if left.is_over or first.gap > _AGREE:
            return first
        relaxed = _relaxed(model, left, presolve="off")
        second = self._whole(relaxed)
        if relaxed is not None and second is None:
            self._narrow(model, relaxed, max(0.0, first.objective - relaxed.optimum.objective))
        if second is None:
            second, _ = _run(model, left, presolve="off")
        if second is None or second.objective >= first.objective - _AGREE * abs(first.objective):
            return first
        return second

    def _counted(self, model: Any, answer: Solution, seconds: float | None) -> Solution:
        """What the solver calls whole is so to a millionth: money counted again with the whole numbers themselves."""
        integral, whole = np.array(self.integral, dtype=bool), np.round(answer.values)
        model.col_lower_ = np.where(integral, whole, 0.0)
        model.col_upper_ = np.where(integral, whole, np.array(self.upper))
        model.integrality_ = []
        exact, _ = _run(model, Allowance(seconds, None))
        if exact is None:
            return answer
        return Solution(exact.values, exact.objective, min(answer.bound, exact.objective))

    def usual_nodes(self, more: Iterable[Row]) -> int:
        """The maximum number of nodes of a search where none is given."""
        numbers = sum(len(factors) for factors, *_ in (*self.rows, *more))
        return int(min(_MOST_NODES, max(_LEAST_NODES, _NUMBERS_BY_NODE // max(1, numbers))))

    def _otherwise(self, known: Solution | None, left: "Allowance", more: tuple[Row, ...] = ()) -> Solution | None:
        """The best of what is known and of more ways to look for it, in two threads.

        Without the rows that only tighten, a node is decided sooner: so in one. In the other the rows as they are; then
        with what follows in parts the leaders are decided, and the rest after them. All but the last are relaxations,
        whose bounds hold too.
        """
        follows = np.zeros(len(self.integral), dtype=bool)
        follows[self.following] = True
        leads = np.array(self.integral, dtype=bool) & ~follows
        needed = [*(row for number, row in enumerate(self.rows) if number not in self.tightening), *more]
        whole, loose, tight = self._model(needed), self._model(needed), self._model([*self.rows, *more])
        loose.integrality_ = _kinds(leads)
        # The solver lets other threads run. What is stopped is not used, so that the answer does not hang on how fast
        # each is.
        own, ended, proven = left.apart(), Event(), Event()
        with ThreadPoolExecutor(1) as executor:
            beside = executor.submit(_proven, proven, whole, left.apart(), start=known, stop=ended)
            first, _ = _run(tight, own, _TIGHT)
            if _is_proven(first):
                ended.set()
                return first
            leading, _ = _run(loose, own, _HALF, stop=proven)
            second = None if leading is None else self._near(np.round(leading.values), leads, needed, own, proven)
            third, _ = beside.result()
        if third is not None and _is_proven(third):
            return third
        found = [one for one in (known, first, second, third) if one is not None]
        if not found:
            return None
        best = min(found, key=lambda solution: solution.objective)
        bound = max(one.bound for one in (known, first, leading, third) if one is not None)
        return Solution(best.values, best.objective, min(best.objective, bound))

    def _near(
        self, decided: Floats, leads: NDArray[np.bool_], rows: list[Row], left: "Allowance", stop: Event
    ) -> Solution | None:
        """The best with the leaders as they were decided; where that does not go, with a few of them otherwise."""
        ones = {int(number): 1.0 - 2.0 * decided[number] for number in np.flatnonzero(leads)}
        for few, part in ((0, 0.3), (len(ones) // 20 + 1, 0.5), (len(ones) // 5 + 1, 1.0)):
            model = self._model([*rows, (ones, -np.inf, few - float(np.sum(decided[leads])))])
            if not few:
                model.col_lower_ = np.where(leads, decided, 0.0)
                model.col_upper_ = np.where(leads, decided, np.array(self.upper))
            found, _ = _run(model, left, part, stop=stop)
            if found is not None:
                return found
        return None

    def _model(self, rows: list[Row]) -> Any:
        import highspy

        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = len(self.cost), len(rows)
        model.col_cost_ = np.array(self.cost, dtype=np.float64)
        model.col_lower_ = np.zeros(len(self.cost))
        model.col_upper_ = np.array(self.upper, dtype=np.float64)
        model.row_lower_ = np.array([low for _, low, _ in rows], dtype=np.float64)
        model.row_upper_ = np.array([high for *_, high in rows], dtype=np.float64)
        model.integrality_ = _kinds(self.integral)
        model.a_matrix_.format_ = highspy.MatrixFormat.kRowwise
        model.a_matrix_.start_ = np.cumsum([0, *(len(factors) for factors, *_ in rows)], dtype=np.int32)
        model.a_matrix_.index_ = np.array([column for factors, *_ in rows for column in factors], dtype=np.int32)
        model.a_matrix_.value_ = np.array([one for factors, *_ in rows for one in factors.values()], dtype=np.float64)
        return model


def _kinds(whole: Iterable[bool]) -> list[Any]:
    import highspy

    kinds = [(highspy.HighsVarType.kContinuous, highspy.HighsVarType.kInteger)[bool(one)] for one in whole]
    return kinds if highspy.HighsVarType.kInteger in kinds else []


@dataclass
class Beside:
    """The optimum of a programme is so much above its relaxation: under other rows it is, too, or nearly.

    above: this, in money; the most that was seen.
    """

    program: Program
    above: float

    def decide(
        self, seconds: float | None, rows: Iterable[Row], nodes: int | None = None
    ) -> tuple[Solution | None, bool]:
        """As the programme's own `decide` says, sooner; rows: all beside its own."""
        rows = tuple(rows)
        if seconds is None and nodes is None:
            nodes = self.program.usual_nodes(rows)
        found, infeasible, least = self.program.within(self.above * _A_LITTLE_MORE + _AGREE, seconds, rows, nodes)
        if found is not None and found.objective - least > self.above:
            self.above = found.objective - least
        return found, infeasible


@dataclass
class Allowance:
    """What is left of the seconds, and of the nodes, for one search; None for any number of them."""

    seconds: float | None
    nodes: int | None

    def __post_init__(self) -> None:
        self._ends = None if self.seconds is None else monotonic() + self.seconds

    @property
    def is_over(self) -> bool:
        """Whether nothing is left."""
        return (self._ends is not None and monotonic() >= self._ends) or (self.nodes is not None and self.nodes <= 0)

    @property
    def of_time(self) -> dict[str, Any]:
        """What is left of the seconds, and a little in any case, as the solver's option."""
        return {} if self._ends is None else {"time_limit": max(0.1, self._ends - monotonic())}

    def limits(self, part: float) -> dict[str, Any]:
        """A part of it, and a little in any case, as the solver's options."""
        found: dict[str, Any] = {}
        if self._ends is not None:
            found["time_limit"] = max(0.1, (self._ends - monotonic()) * part)
        if self.nodes is not None:
            found["mip_max_nodes"] = max(1, int(self.nodes * part))
        return found

    def apart(self) -> "Allowance":
        """The same for a search beside another."""
        return Allowance(None if self._ends is None else self._ends - monotonic(), self.nodes)

    def use(self, nodes: int) -> None:
        """Take away the nodes that a search looked at: one at least."""
        if self.nodes is not None:
            self.nodes -= max(1, nodes)


def _relaxed(model: Any, left: Allowance, **options: Any) -> _Relaxed | None:
    """The optimum without whole numbers, and its reduced costs; None where none was found."""
    import highspy

    new: Any = highspy.Highs
    solver = new()
    for name, value in {"output_flag": False, **left.of_time, **options}.items():
        solver.setOptionValue(name, value)
    kinds = model.integrality_
    model.integrality_ = []
    solver.passModel(model)
    model.integrality_ = kinds
    solver.run()
    if solver.getModelStatus() != highspy.HighsModelStatus.kOptimal:
        return None
    objective, found = float(solver.getInfo().objective_function_value), solver.getSolution()
    return _Relaxed(Solution(np.array(found.col_value), objective, objective), np.array(found.col_dual))


def _is_proven(found: Solution | None) -> bool:
    return found is not None and found.gap <= _AGREE


def _proven(proven: Event, model: Any, left: Allowance, **options: Any) -> tuple[Solution | None, bool]:
    """What a run finds; the event is set where that is proven."""
    found = _run(model, left, **options)
    if _is_proven(found[0]):
        proven.set()
    return found


def _run(
    model: Any,
    left: Allowance,
    part: float = 1.0,
    start: Solution | None = None,
    stop: Event | None = None,
    **options: Any,
) -> tuple[Solution | None, bool]:
    """What is found with a part of what is left, and whether it is certain that nothing fits.

    stop: with this event it ends, as soon as the solver looks.
    """
    import highspy

    new: Any = highspy.Highs
    solver = new()
    for name, value in {"output_flag": False, "mip_rel_gap": _GAP, **left.limits(part), **options}.items():
        solver.setOptionValue(name, value)
    solver.passModel(model)
    if start is not None:
        begun = highspy.HighsSolution()
        begun.col_value = start.values.tolist()
        solver.setSolution(begun)
    if stop is not None:
        solver.cbMipInterrupt.subscribe(lambda event: event.interrupt() if stop.is_set() else None)
    solver.run()
    found, status = solver.getInfo(), solver.getModelStatus().name
    left.use(int(found.mip_node_count))
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
