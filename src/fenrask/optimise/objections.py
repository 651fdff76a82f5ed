"""What the engine objects to in a mix, as rows of the programme: exits that lack something, and needs that break."""

from collections.abc import Collection, Container, Iterator, Mapping
from math import inf

from fenrask.capacity import ExitCapacity, ExitLimits
from fenrask.estate import Flow
from fenrask.estate.suggestions import some
from fenrask.evaluation import SURVIVES, BrokenNeed, Evaluation, Survived, by_size
from fenrask.optimise.judging import breaks
from fenrask.optimise.patch import Chosen, exits_of
from fenrask.optimise.problem import CURRENT, Option
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import identity
from fenrask.programming import Solution

__all__ = ["Cut", "chosen_in", "covers", "taken_in", "unfit"]

Cut = tuple[Mapping[int, float], float, float]
"""Factors by variable, and the least and the most of their sum."""


def covers(model: Model, solved: Solution, evaluation: Evaluation) -> Iterator[Cut]:
    """Rows from the engine: what an exit needs under a load, it needs under every load that contains this one.

    So not all of what uses it now may use it with fewer addresses, or, where none suffice, at all.
    """
    chosen = chosen_in(model, solved)
    taken, bought = chosen.taken, chosen.bought
    for name, site in exits_of(model.described, chosen).items():
        exit_limits = evaluation.capacity.limits_of(name)
        users = [model.taken[pair] for pair in model.using.get(site, ()) if taken.get(pair[0]) is pair[1]]
        if exit_limits is None or not users:
            continue
        needed = exit_limits.needed if isinstance(exit_limits, ExitCapacity) else None
        factors = dict.fromkeys(users, 1.0)
        if needed is not None and site in bought and bought[site].number < needed:
            few = [variable for each, variable in model.purchases_of[site] if each.number < needed]
            yield factors | dict.fromkeys(few, 1.0), -inf, float(len(users))
        elif not exit_limits.fits:
            yield factors, -inf, len(users) - 1.0
    for survived in evaluation.surviving.faults:
        yield from _covers_after(model, chosen, survived)


def _covers_after(model: Model, chosen: Chosen, survived: Survived) -> Iterator[Cut]:
    """The same of the load after a fault that flows are to survive: of all that then passes an exit."""
    if survived.evaluation is None:
        return
    taken, bought = chosen.taken, chosen.bought
    sites, paths = exits_of(model.described, chosen), survived.evaluation.paths
    passing: dict[str, set[int]] = {}
    flows = model.described.estate.flows
    for number in taken:
        for flow in model.units[number].examples:
            for name in paths.exits_between.get((flows[flow].workload, flows[flow].remote), ()):
                passing.setdefault(name, set()).add(number)
    for exit_limits, _ in survived.loaded():
        site, users = sites.get(exit_limits.exit), sorted(passing.get(exit_limits.exit, ()))
        if site is None or not users:
            continue
        factors = {model.taken[number, taken[number]]: 1.0 for number in users}
        needed = _needed_then(exit_limits, model.numbers(site) if site in bought else ())
        if needed is not None and site in bought and bought[site].number < needed:
            few = [variable for each, variable in model.purchases_of[site] if each.number < needed]
            yield factors | dict.fromkeys(few, 1.0), -inf, float(len(users))
        elif needed is None or exit_limits.overloaded_by:
            yield factors, -inf, len(users) - 1.0


def _needed_then(exit_limits: ExitLimits, numbers: Collection[int]) -> int | None:
    """The addresses that an exit is given for a fault, of those that it may have; None where none of them is enough.

    That is what it then needs with room for growth; where it may not have as many, the most, if they meet the target.
    Those of one destination alone, and a private pool, are no matter of the choice: enough or not.
    """
    if not isinstance(exit_limits, ExitCapacity):
        return 0
    if exit_limits.toward or not numbers:
        return 0 if exit_limits.carries(exit_limits.addresses) else None
    most = max(numbers)
    if exit_limits.needed is not None and exit_limits.needed <= most:
        return exit_limits.needed
    return most if exit_limits.carries(most) else None


def unfit(
    model: Model, solved: Solution, evaluation: Evaluation, aside: Container[tuple[str, str]] = ()
) -> Iterator[tuple[Cut, str]]:
    """Options with which a flow breaks a need after all, as the evaluation of the whole shows; each with the reason.

    aside: flows and needs that are not looked at.
    """
    taken, inward = taken_in(model, solved), evaluation.described.estate.inward_flows
    # What exits lack after a fault is a row of its own: see `_covers_after`.
    lacking = evaluation.surviving.lacking(evaluation.capacity) if evaluation.broken else ()
    for broken in evaluation.broken:
        if (broken.need == SURVIVES and broken.flow in lacking) or (broken.flow, broken.need) in aside:
            continue
        if by_size(broken.need):
            yield _against_together(model, taken, broken)
            continue
        if broken.flow in inward:
            yield from _against_inward(model, taken, broken, inward[broken.flow])
            continue
        users = {number: option for number, option in taken.items() if broken.flow in model.units[number].flows}
        by_itself = [number for number in users if broken.need in breaks(evaluation, model.units[number])]
        for number in by_itself:
            # Tried by itself the option broke nothing: it does beside what else passes its subnets and exits.
            beside = {each: option for each, option in taken.items() if _meet(model, taken, number, each)}
            factors = {model.taken[pair]: 1.0 for pair in beside.items()}
            yield (factors, -inf, len(beside) - 1.0), f"{broken.flow} through {users[number].name}: {broken.why}"
        if users and not by_itself:
            names = some(dict.fromkeys(option.name for option in users.values()))
            factors = {model.taken[pair]: 1.0 for pair in users.items()}
            yield (factors, -inf, len(users) - 1.0), f"{broken.flow} through {names}: {broken.why}"


def _meet(model: Model, taken: Mapping[int, Option], first: int, second: int) -> bool:
    """Whether two units are the same, or share a subnet, or an exit with the options taken."""
    if {*model.units[first].subnets} & {*model.units[second].subnets}:
        return True
    passed, others = (
        {*map(identity, (*taken[each].distinct, *taken[each].before)), *taken[each].first} - {""}
        for each in (first, second)
    )
    return bool(passed & others)


def _against_together(model: Model, taken: Mapping[int, Option], broken: BrokenNeed) -> tuple[Cut, str]:
    """All options taken of those who are seen by a destination, and of who shares an exit with them.

    What its list needs, or whether a host keeps one source, follows from these alone.
    """
    to = model.described.estate.flows[broken.flow].remote
    shown = {number: option for number, option in taken.items() if model.units[number].to == to}
    sites = {site for option in shown.values() for site in option.distinct if site.translates}
    shown |= {number: option for number, option in taken.items() if sites & {*option.distinct}}
    names = some(dict.fromkeys(option.name for option in shown.values()))
    factors = {model.taken[pair]: 1.0 for pair in shown.items()}
    return (factors, -inf, len(shown) - 1.0), f"{broken.flow} through {names}: {broken.why}"


def _against_inward(
    model: Model, taken: Mapping[int, Option], broken: BrokenNeed, flow: Flow
) -> Iterator[tuple[Cut, str]]:
    """The options taken for the subnets of a flow that comes in: with all of them together, it breaks a need."""
    subnets = {*model.described.estate.workloads[flow.workload].subnets}
    options = [
        (number, option)
        for number, option in taken.items()
        if option.name != CURRENT and subnets & {*model.units[number].subnets}
    ]
    if options:
        names = some(dict.fromkeys(option.name for _, option in options))
        factors = {model.taken[pair]: 1.0 for pair in options}
        yield (factors, -inf, len(options) - 1.0), f"{names}: {broken.flow}, which comes in, {broken.why}"


def taken_in(model: Model, solved: Solution) -> dict[int, Option]:
    """The option of each unit in a solution."""
    return {number: option for (number, option), variable in model.taken.items() if solved.values[variable] > 0.5}


def chosen_in(model: Model, solved: Solution) -> Chosen:
    """The same with the addresses of each translating site."""
    bought = {
        site: one
        for site, each in model.purchases_of.items()
        for one, variable in each
        if solved.values[variable] > 0.5
    }
    return Chosen(taken_in(model, solved), model.units, bought)
