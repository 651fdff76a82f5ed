"""What is asked beside the optimum: the next best mixes, and why each other option lost.

How much is looked at is decided by numbers alone: what is told does not hang on how fast a machine is.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

from fenrask.designs.contract import Patch
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise.judging import UNCARRIED
from fenrask.optimise.objections import Cut, chosen_in, covers, taken_in, unfit
from fenrask.optimise.patch import patch_and_exits
from fenrask.optimise.problem import PRIVATE, Option, Site, Unit, Wanted
from fenrask.optimise.programme import Model
from fenrask.programming import Beside, Program, Solution

__all__ = ["Lost", "Mix", "Plan", "accepted", "made", "mix_of", "nearest", "runners_up", "why_lost"]

_NEXT = 2
_TRIES = 12
"""How often a mix is looked for that the engine accepts."""
_NODES = 2_000
"""Nodes that one programme beside the optimum may take."""
_MOST_PROGRAMMES, _MOST_ROWS = 40, 60_000
"""Programmes that are solved for what others cost, at most, and rows of all of them together."""
_EXACT = 3
"""Options of a group whose extra cost is worked out; of the others the relaxation says what it is at least."""


@dataclass(frozen=True)
class Mix:
    """One whole choice: the option of each unit."""

    options: tuple[tuple[Unit, Option], ...]
    month: float
    addresses: int
    """Public ones, of sites and of hosts that are given one."""
    open_sites: frozenset[Site]


@dataclass(frozen=True)
class Lost:
    """Why an option of a unit was not taken: needs that it fails, or what the whole would cost more with it."""

    unit: Unit
    option: Option
    fails: tuple[str, ...]
    more: float | None
    """Money a month; None where it fails a need, does not fit at all, or is not worked out: `why` says so."""
    why: str


@dataclass(frozen=True)
class Plan:
    """A solution, the patch that makes it, and the estate that this makes, evaluated."""

    solved: Solution
    patch: Patch
    evaluation: Evaluation


def made(described: Described, model: Model, solved: Solution, asked: Wanted, like: Evaluation | None = None) -> Plan:
    """The plan of a solution; like: the evaluation of one that is nearly the same."""
    standing = [name for name in asked.keep if name in described.estate.exits]
    standing += model.grounds.current.paths.inward_exits
    stated = asked.zone_headroom is not None
    patch, _ = patch_and_exits(described, chosen_in(model, solved), stated, standing)
    return Plan(solved, patch, evaluate(described.patched(patch, "the choice"), like))


def mix_of(model: Model, solved: Solution) -> Mix:
    """The mix that a solution is."""
    chosen = chosen_in(model, solved)
    options = tuple((model.units[number], option) for number, option in sorted(chosen.taken.items()))
    opened = frozenset(site for site, variable in model.opened.items() if solved.values[variable] > 0.5)
    addresses = sum(one.number for one in chosen.bought.values())
    addresses += sum(model.hosts(name) for name, variable in model.public.items() if solved.values[variable] > 0.5)
    # What changes cost is no item of the bill.
    month = solved.objective + model.change_without - model.change_month(solved.values.tolist())
    return Mix(options, month, addresses, opened)


def runners_up(described: Described, asked: Wanted, model: Model, plan: Plan, known: list[Cut]) -> Iterator[Plan]:
    """The next best whole designs that the engine accepts: each with another set of open sites than those before.

    known: the rows that it asked for; those that it asks for here are added.
    """
    others, last = list[Cut](), plan.solved
    beside = model.program.beside(plan.solved, known, asked.seconds_left) if model.opened else None
    for _ in range(_NEXT if model.opened else 0):
        open_now = {variable for variable in model.opened.values() if last.values[variable] > 0.5}
        factors = {variable: -1.0 if variable in open_now else 1.0 for variable in model.opened.values()}
        others.append((factors, 1.0 - len(open_now), float("inf")))
        found = accepted(asked, model, plan, Rows(known, others), beside)
        if found is None:
            return
        yield found
        last = found.solved


@dataclass(frozen=True)
class Rows:
    """Rows beside those of a programme: what the engine asked for, to which is added, and what else holds."""

    known: list[Cut]
    others: Sequence[Cut] = ()

    @property
    def all(self) -> list[Cut]:
        return [*self.known, *self.others]


def accepted(
    asked: Wanted, model: Model, like: Plan, rows: Rows, program: Program | Beside | None = None
) -> Plan | None:
    """The cheapest mix under more rows that the engine accepts; None for none, or none that was found in some tries.

    like: one that it accepts. program: one with the same variables that seeks something else.
    """
    program, evaluation = program or model.program, like.evaluation
    for _ in range(_TRIES):
        found, _ = program.decide(asked.seconds_left, rows.all, nodes=_NODES)
        if found is None:
            return None
        if chosen_in(model, found) == chosen_in(model, like.solved):
            return Plan(found, like.patch, like.evaluation)
        plan = made(model.described, model, found, asked, evaluation)
        evaluation = plan.evaluation
        more = [*covers(model, found, evaluation), *(cut for cut, _ in unfit(model, found, evaluation))]
        if not more:
            return plan if evaluation.meets_all else None
        rows.known.extend(more)
    return None


def why_lost(asked: Wanted, model: Model, solved: Solution, known: Sequence[Cut]) -> Iterator[Lost]:
    """For each unit why each option lost that it did not take: a need that it breaks, or the extra cost with it."""
    taken, looked_at = taken_in(model, solved), _largest(model, _EXACT)
    asked_of = [key for key in model.taken if key[0] in looked_at]
    bounds = model.program.relaxed_with((model.taken[key] for key in asked_of), known)
    least = dict(zip(asked_of, bounds, strict=True))
    beside = model.program.beside(solved, known, asked.seconds_left)
    for number, unit in enumerate(model.units):
        yield from _breaking(unit, taken[number])
        others = [option for option in unit.open_options if option != taken[number]]
        if number not in looked_at:
            yield from (Lost(unit, option, (), None, _NOT_LOOKED_AT) for option in others)
            continue
        carried = {option: bound for option in others if (bound := least[number, option]) is not None}
        for option in others:
            if option not in carried:
                yield Lost(unit, option, (), None, "does not carry it within all limits")
        for place, option in enumerate(sorted(carried, key=carried.__getitem__)):
            if place < _EXACT:
                forced = ({model.taken[number, option]: 1.0}, 1.0, 1.0)
                decided = beside.decide(asked.seconds_left, [*known, forced], nodes=_NODES)
                yield _dearer(unit, option, decided, solved)
            else:
                more = max(0.0, carried[option] - solved.objective)
                yield Lost(unit, option, (), None, f"costs at least {more:,.2f} more")


def nearest(asked: Wanted, model: Model, solved: Solution, known: Sequence[Cut]) -> Iterator[Lost]:
    """For each unit the option with which the whole costs least if it may not take its own; and those that break needs.

    One programme a unit: its option forbidden, the optimum takes the next best.
    """
    taken = taken_in(model, solved)
    looked_at = _largest(model, 1)
    beside = model.program.beside(solved, known, asked.seconds_left)
    for number, unit in enumerate(model.units):
        yield from _breaking(unit, taken[number])
        others = [option for option in unit.open_options if option != taken[number]]
        if others and number not in looked_at:
            yield Lost(unit, others[0], (), None, _NOT_LOOKED_AT)
        elif others:
            forbidden = ({model.taken[number, taken[number]]: 1.0}, 0.0, 0.0)
            decided = beside.decide(asked.seconds_left, [*known, forbidden], nodes=_NODES)
            option = others[0] if decided[0] is None else taken_in(model, decided[0])[number]
            yield _dearer(unit, option, decided, solved)


_NOT_LOOKED_AT = "worked out for the groups of flows that send most"


def _largest(model: Model, each: int) -> set[int]:
    """The groups that send most, as many as there are programmes to solve for them, so many for each."""
    volumes = {number: unit.volume(model.described) for number, unit in enumerate(model.units)}
    programmes = min(_MOST_PROGRAMMES, _MOST_ROWS // max(1, len(model.program.rows)))
    return {*islice(sorted(volumes, key=volumes.__getitem__, reverse=True), max(1, programmes // each))}


def _breaking(unit: Unit, taken: Option) -> Iterator[Lost]:
    for option in unit.options:
        if option.fails and option != taken:
            yield Lost(unit, option, option.fails, None, _why(option.fails))


def _why(fails: Sequence[str]) -> str:
    """In words: that what carries nothing breaks needs, too, goes without saying."""
    if uncarried := [words for name, words in UNCARRIED.items() if name in fails]:
        return uncarried[0]
    return "hosts stay private" if fails == (PRIVATE,) else f"breaks {', '.join(fails)}"


def _dearer(unit: Unit, option: Option, decided: tuple[Solution | None, bool], solved: Solution) -> Lost:
    other, infeasible = decided
    if other is None:
        why = "does not carry it within all limits" if infeasible else f"not decided in {_NODES:,} nodes of the search"
        return Lost(unit, option, (), None, why)
    more = max(0.0, other.objective - solved.objective)
    words = "costs more" if other.gap <= 1e-6 else "costs at most so much more"
    return Lost(unit, option, (), more, words if more > 1e-6 else "costs the same")
