"""The cheapest mix of options that meets every need, its proof, what comes next, and why each other option lost."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import inf
from time import monotonic

from fenrask.capacity import ExitCapacity
from fenrask.designs import Comparison, compare
from fenrask.designs.contract import Patch
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Described, Flow
from fenrask.estate.suggestions import some, unknown
from fenrask.evaluation import BY_SIZE, BrokenNeed, Evaluation, Survived, evaluate
from fenrask.optimise.amounts import Amounts
from fenrask.optimise.assembly import assembled
from fenrask.optimise.conflicts import conflict, contradiction
from fenrask.optimise.judging import UNCARRIED, breaks, judged
from fenrask.optimise.options import kept, units_of
from fenrask.optimise.pairs import with_pairs
from fenrask.optimise.patch import exits_of, patch_of
from fenrask.optimise.problem import CURRENT, PRIVATE, Option, Site, Unit, Wanted
from fenrask.optimise.programme import AddressChoice, Model
from fenrask.programming import Solution
from fenrask.units import cents

__all__ = ["Choice", "Lost", "Mix", "by_headroom", "choose", "frontier"]

_PER_QUESTION_S = 5.0
_QUESTIONS_S = 30.0
_NEXT = 2
_TRIES = 12
"""How often a next best mix is looked for that the engine accepts."""
_MOST_CUTS = 200
_MARGINS = (0.002, 0.01)
"""Shares of the ports left unused, tried in turn."""

Cut = tuple[Mapping[int, float], float, float]
"""Factors by variable, and the least and the most of their sum."""


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
    """Money a month; None where it fails a need, does not fit at all, or was not looked at."""
    why: str


@dataclass(frozen=True)
class Choice:
    """The cheapest estate that is known to meet every need, evaluated; its proof; the runners-up; the losers."""

    mix: Mix
    patch: Patch
    evaluation: Evaluation
    bound: float
    """No mix of the options costs less than this a month."""
    seconds: float
    next_best: tuple[Mix, ...]
    lost: tuple[Lost, ...]
    not_counted: tuple[str, ...]
    """What the bill knows and the programme does not, and what the options do not hold."""
    options: int
    """How many options all flows have together."""
    design: str = ""
    """The standard design that is cheaper than every mix of the options, where one is: then it is the answer."""
    current: Evaluation | None = None
    """The estate as it is."""

    @property
    def month(self) -> float:
        """What the answer costs a month, by its bill."""
        return float(self.evaluation.bill.total)

    @property
    def gap(self) -> float:
        """How much dearer than the optimum of the mixes it may be, as a share; 0 where it is below them all."""
        return max(0.0, self.month - self.bound) / max(abs(self.month), 1e-9)

    @property
    def is_proven(self) -> bool:
        """Whether no mix of the options is cheaper: the programme's sum is the bill, and it has no gap."""
        agrees = abs(self.mix.month - self.month) <= 1e-6 * max(1.0, abs(self.month))
        return not self.design and agrees and self.gap <= 1e-6


def choose(described: Described, wanted: Wanted | None = None, comparison: Comparison | None = None) -> Choice:
    """Every flow to an exit, existing or proposed, at least monthly cost under all needs, caps and ports.

    The answer is held against the estate as it is and every standard design (`comparison`, made here if it is not
    given): what is cheaper and meets all is the answer instead. NoAnswer, with the smallest set of needs that
    contradict each other, where nothing meets them all.
    """
    asked, begins = wanted or Wanted(), monotonic()
    units, amounts = _asked_of(described, asked)
    hopeless = [unit for unit in units if not unit.open_options]
    if hopeless:
        told = "; ".join(contradiction(unit, bool({*unit.flows} & {*asked.keep})) for unit in hopeless)
        keeping = " or do not keep it," if asked.keep else ""
        raise NoAnswer(told, f"Drop a need,{keeping} or add an offer that meets them.")
    model, solved, patch, evaluation, unfit, cuts = _feasible(described, amounts, units, asked)
    bound = solved.bound
    if not evaluation.meets_all:
        model, solved, patch, evaluation = _with_margins(described, amounts, units, asked)
    seconds, ends = monotonic() - begins, monotonic() + _QUESTIONS_S
    mix, next_best, lost = _mix(model, solved), tuple[Mix, ...](), tuple[Lost, ...]()
    if asked.explain:
        known = [*cuts]
        next_best = tuple(_runners_up(described, asked, model, solved, ends, known))
        lost = tuple((_lost if asked.every_option else _nearest)(model, solved, ends, known))
    choice = Choice(
        mix,
        patch,
        evaluation,
        bound,
        seconds,
        next_best,
        lost,
        (*model.not_counted, *unfit),
        sum(len(unit.options) for unit in units),
        current=evaluate(described),
    )
    answer = choice if _is_bound(asked) else _or_as_it_is(_or_cheaper(choice, comparison or compare(described)))
    _check_inward(answer.evaluation, choice.current)
    return answer


def _check_inward(evaluation: Evaluation, current: Evaluation | None) -> None:
    """NoAnswer where a flow that comes in breaks a need: no choice of exits for what goes out mends that.

    Why it does is told of the estate as it is, where it does there too.
    """
    inward = evaluation.described.estate.inward_flows
    already = {(one.flow, one.need): one for one in current.broken} if current else {}
    for one in evaluation.broken:
        if one.flow in inward:
            one = already.get((one.flow, one.need), one)
            what = "does not arrive" if one.need == "arrives" else f"breaks {one.need}"
            raise NoAnswer(
                f"{one.flow}, which comes in, {what}: {one.why}", "Mend that first: `fenrask check` says how."
            )


def _feasible(
    described: Described, amounts: Amounts, units: list[Unit], asked: Wanted
) -> tuple[Model, Solution, Patch, Evaluation, list[str], list[Cut]]:
    """The programme, solved and evaluated; what the engine objects to is forbidden, and it is solved anew.

    With it comes which options were forbidden, and why; and all rows that were added.
    """
    cuts, unfit, ends = list[Cut](), list[str](), monotonic() + asked.seconds
    model, sure = assembled(amounts, units, asked, 0.0), False
    while True:
        # An optimum has two witnesses; what the engine objects to anyway needs one.
        solved = _solution(model, amounts, units, asked, cuts, sure)
        patch, evaluation = _made(described, model, solved, asked)
        found = [*_covers(model, solved, evaluation)]
        for cut, why in _unfit(model, solved, evaluation):
            found.append(cut)
            unfit.append(why)
        over = len(cuts) >= _MOST_CUTS or monotonic() > ends
        if sure and (not found or over):
            return model, solved, patch, evaluation, unfit, cuts
        sure = not found or over
        cuts += found


def _with_margins(
    described: Described, amounts: Amounts, units: list[Unit], asked: Wanted
) -> tuple[Model, Solution, Patch, Evaluation]:
    """The same with some of the ports left unused: a peak between two quarters of an hour is a little higher."""
    for margin in _MARGINS:
        model, solved = _solved(amounts, units, asked, margin)
        patch, evaluation = _made(described, model, solved, asked)
        if evaluation.meets_all:
            break
    return model, solved, patch, evaluation


def _is_bound(asked: Wanted) -> bool:
    """Whether more is asked of the answer than of the designs that it is held against."""
    limits = (asked.budget, asked.max_addresses, asked.max_gateways, asked.max_upkeep, asked.zone_headroom)
    return bool(asked.keep) or any(one is not None for one in limits)


def _or_cheaper(choice: Choice, comparison: Comparison) -> Choice:
    """The choice, or the cheapest of the designs that meet every need and cost less."""
    best = comparison.cheapest
    cheaper = best is not None and float(best.evaluation.bill.total) < choice.month * (1 - 1e-9) - 1e-9
    if best is None or not (cheaper or (best.passes and not choice.evaluation.meets_all)):
        return choice
    return replace(choice, patch=best.patch, evaluation=best.evaluation, design=best.design.name)


def _or_as_it_is(choice: Choice) -> Choice:
    """The choice, or the estate as it is where that meets every need and costs no more: what gains nothing stays."""
    current = choice.current
    if current is None or not current.meets_all or cents(current.bill.total) > cents(choice.evaluation.bill.total):
        return choice
    return replace(choice, patch={}, evaluation=current, design="")


def _solved(amounts: Amounts, units: list[Unit], asked: Wanted, margin: float) -> tuple[Model, Solution]:
    model = assembled(amounts, units, asked, margin)
    return model, _solution(model, amounts, units, asked)


def _solution(
    model: Model, amounts: Amounts, units: list[Unit], asked: Wanted, cuts: Sequence[Cut] = (), twice: bool = True
) -> Solution:
    solved = model.program.solve(asked.seconds, cuts, twice=twice)
    if solved is None and not twice:
        solved = model.program.solve(asked.seconds, cuts, twice=True)
    if solved is None and cuts:
        raise NoAnswer("no mix of the options carries its load and meets every need", "Add an offer that carries more.")
    if solved is None:
        raise NoAnswer(conflict(amounts, units, asked), "Loosen one of them.")
    return solved


def _made(described: Described, model: Model, solved: Solution, asked: Wanted) -> tuple[Patch, Evaluation]:
    """The patch of a solution, and the estate that it makes, evaluated."""
    standing = [name for name in asked.keep if name in described.estate.exits]
    standing += model.amounts.paths.inward_exits
    stated = asked.zone_headroom is not None
    patch = patch_of(described, _taken(model, solved), model.units, _bought(model, solved), stated, standing)
    return patch, evaluate(described.patched(patch, "the choice"))


def _covers(model: Model, solved: Solution, evaluation: Evaluation) -> Iterator[Cut]:
    """Rows from the engine: what an exit needs under a load, it needs under every load that contains this one.

    So not all of what uses it now may use it with fewer addresses, or, where none suffice, at all.
    """
    taken, bought = _taken(model, solved), _bought(model, solved)
    for name, site in exits_of(model.amounts.described, taken, model.units, bought).items():
        one = evaluation.capacity.limits_of(name)
        users = [model.taken[pair] for pair in model.using.get(site, ()) if taken.get(pair[0]) is pair[1]]
        if one is None or not users:
            continue
        needed = one.needed if isinstance(one, ExitCapacity) else None
        factors = dict.fromkeys(users, 1.0)
        if needed is not None and site in bought and bought[site].number < needed:
            few = [variable for each, variable in model.purchases_of[site] if each.number < needed]
            yield factors | dict.fromkeys(few, 1.0), -inf, float(len(users))
        elif not one.fits:
            yield factors, -inf, len(users) - 1.0
    for survived in evaluation.surviving.faults:
        yield from _covers_after(model, taken, bought, survived)


def _covers_after(
    model: Model, taken: Mapping[int, Option], bought: Mapping[Site, AddressChoice], survived: Survived
) -> Iterator[Cut]:
    """The same of the load after a fault that flows are to survive: of all that then passes an exit."""
    if survived.evaluation is None:
        return
    sites, paths = exits_of(model.amounts.described, taken, model.units, bought), survived.evaluation.paths
    passing: dict[str, set[int]] = {}
    for number, unit in enumerate(model.units):
        for flow in unit.flows:
            for path in paths.by_flow[flow] if number in taken and flow in paths.by_flow else ():
                for name in path.example.exits if path.example.verdict.arrives else ():
                    passing.setdefault(name, set()).add(number)
    for one, _ in survived.loaded():
        site, users = sites.get(one.exit), sorted(passing.get(one.exit, ()))
        if site is None or not users:
            continue
        factors = {model.taken[number, taken[number]]: 1.0 for number in users}
        needed = one.needed if isinstance(one, ExitCapacity) else None
        if needed is not None and site in bought and bought[site].number < needed:
            few = [variable for each, variable in model.purchases_of[site] if each.number < needed]
            yield factors | dict.fromkeys(few, 1.0), -inf, float(len(users))
        elif one.exceeded or (isinstance(one, ExitCapacity) and needed is None):
            yield factors, -inf, len(users) - 1.0


def _unfit(model: Model, solved: Solution, evaluation: Evaluation) -> Iterator[tuple[Cut, str]]:
    """Options with which a flow breaks a need after all, as the evaluation of the whole shows; each with the reason."""
    taken, inward = _taken(model, solved), evaluation.described.estate.inward_flows
    # What exits lack after a fault is a row of its own: see `_covers_after`.
    lacking = evaluation.surviving.lacking(evaluation.capacity) if evaluation.broken else ()
    for one in evaluation.broken:
        if one.need in BY_SIZE or (one.need == "survives" and one.flow in lacking):
            continue
        if one.flow in inward:
            yield from _against_inward(model, taken, one, inward[one.flow])
            continue
        users = {number: option for number, option in taken.items() if one.flow in model.units[number].flows}
        alone = [number for number in users if one.need in breaks(evaluation, model.units[number])]
        for number in alone:
            why = f"{one.flow} through {users[number].name}: {one.why}"
            yield ({model.taken[number, users[number]]: 1.0}, -inf, 0.0), why
        if users and not alone:
            names = some(dict.fromkeys(option.name for option in users.values()))
            factors = {model.taken[pair]: 1.0 for pair in users.items()}
            yield (factors, -inf, len(users) - 1.0), f"{one.flow} through {names}: {one.why}"


def _against_inward(
    model: Model, taken: Mapping[int, Option], broken: BrokenNeed, flow: Flow
) -> Iterator[tuple[Cut, str]]:
    """The options taken for the subnets of a flow that comes in: with all of them together, it breaks a need."""
    subnets = {*model.amounts.described.estate.workloads[flow.workload].subnets}
    options = [
        (number, option)
        for number, option in taken.items()
        if option.name != CURRENT and subnets & {*model.units[number].subnets}
    ]
    if options:
        names = some(dict.fromkeys(option.name for _, option in options))
        factors = {model.taken[pair]: 1.0 for pair in options}
        yield (factors, -inf, len(options) - 1.0), f"{names}: {broken.flow}, which comes in, {broken.why}"


def _check_kept(described: Described, keep: tuple[str, ...]) -> None:
    known = [*described.estate.exits, *described.estate.flows]
    if problems := unknown("--keep", keep, known, "an exit or a flow"):
        raise UnusableInput(problems)


def _taken(model: Model, solved: Solution) -> dict[int, Option]:
    return {number: option for (number, option), variable in model.taken.items() if solved.values[variable] > 0.5}


def _bought(model: Model, solved: Solution) -> dict[Site, AddressChoice]:
    return {
        site: one
        for site, bought in model.purchases_of.items()
        for one, variable in bought
        if solved.values[variable] > 0.5
    }


def _mix(model: Model, solved: Solution) -> Mix:
    options = tuple((model.units[number], option) for number, option in sorted(_taken(model, solved).items()))
    opened = frozenset(site for site, variable in model.opened.items() if solved.values[variable] > 0.5)
    addresses = sum(one.number for one in _bought(model, solved).values())
    addresses += sum(model.hosts(name) for name, variable in model.public.items() if solved.values[variable] > 0.5)
    return Mix(options, solved.objective, addresses, opened)


def _runners_up(
    described: Described, asked: Wanted, model: Model, solved: Solution, ends: float, known: list[Cut]
) -> Iterator[Mix]:
    """The next best whole designs that the engine accepts: each with another set of open sites than those before.

    known: the rows that it asked for; those that it asks for here are added.
    """
    others, last = list[Cut](), solved
    for _ in range(_NEXT if model.opened else 0):
        open_now = {variable for variable in model.opened.values() if last.values[variable] > 0.5}
        factors = {variable: -1.0 if variable in open_now else 1.0 for variable in model.opened.values()}
        others.append((factors, 1.0 - len(open_now), float("inf")))
        found = _accepted(described, asked, model, ends, known, others)
        if found is None:
            return
        yield _mix(model, found)
        last = found


def _accepted(
    described: Described, asked: Wanted, model: Model, ends: float, known: list[Cut], others: Sequence[Cut]
) -> Solution | None:
    """The cheapest mix under more rows that the engine accepts; None for none, or none that was found in some tries."""
    for _ in range(_TRIES):
        found = model.program.solve(min(_PER_QUESTION_S, max(0.1, ends - monotonic())), [*known, *others])
        if found is None:
            return None
        _, evaluation = _made(described, model, found, asked)
        more = [*_covers(model, found, evaluation), *(cut for cut, _ in _unfit(model, found, evaluation))]
        if not more:
            return found if evaluation.meets_all else None
        known += more
    return None


def _lost(model: Model, solved: Solution, ends: float, known: Sequence[Cut]) -> Iterator[Lost]:
    """For each unit why each option lost that it did not take: a need that it breaks, or the extra cost with it."""
    taken = _taken(model, solved)
    for number, unit in enumerate(model.units):
        yield from _breaking(unit, taken[number])
        for option in unit.options:
            if option == taken[number] or option.fails:
                continue
            if monotonic() > ends:
                yield Lost(unit, option, (), None, "not looked at: time was up")
                continue
            forced = model.program.solve(_PER_QUESTION_S, [*known, ({model.taken[number, option]: 1.0}, 1.0, 1.0)])
            if forced is None:
                yield Lost(unit, option, (), None, "does not carry it within all limits")
            else:
                yield _dearer(unit, option, forced, solved)


def _nearest(model: Model, solved: Solution, ends: float, known: Sequence[Cut]) -> Iterator[Lost]:
    """For each unit the option with which the whole costs least if it may not take its own; and those that break needs.

    One programme a unit: its option forbidden, the optimum takes the next best.
    """
    taken = _taken(model, solved)
    for number, unit in enumerate(model.units):
        yield from _breaking(unit, taken[number])
        if monotonic() > ends:
            continue
        forbidden = ({model.taken[number, taken[number]]: 1.0}, 0.0, 0.0)
        found = model.program.solve(_PER_QUESTION_S, [*known, forbidden])
        if found is not None:
            yield _dearer(unit, _taken(model, found)[number], found, solved)


def _breaking(unit: Unit, taken: Option) -> Iterator[Lost]:
    for option in unit.options:
        if option.fails and option != taken:
            yield Lost(unit, option, option.fails, None, _why(option.fails))


def _why(fails: Sequence[str]) -> str:
    """In words: that what carries nothing breaks needs, too, goes without saying."""
    if uncarried := [words for name, words in UNCARRIED.items() if name in fails]:
        return uncarried[0]
    return "hosts stay private" if fails == (PRIVATE,) else f"breaks {', '.join(fails)}"


def _dearer(unit: Unit, option: Option, other: Solution, solved: Solution) -> Lost:
    more = max(0.0, other.objective - solved.objective)
    return Lost(unit, option, (), more, "costs more" if more > 1e-6 else "costs the same")


HEADROOMS = (None, 0.0, 0.1, 0.2, 0.3, 0.4, 0.5)


def by_headroom(described: Described, wanted: Wanted | None = None) -> list[tuple[float | None, Mix]]:
    """The least cost for each share of ports left free when any one zone is lost; None: whatever comes of that."""
    asked = wanted or Wanted()
    units, amounts = _asked_of(described, asked)
    found = []
    for headroom in HEADROOMS if all(unit.open_options for unit in units) else ():
        model = assembled(amounts, units, replace(asked, zone_headroom=headroom), 0.0)
        solved = model.program.solve(_PER_QUESTION_S)
        if solved is not None:
            found.append((headroom, _mix(model, solved)))
    return found


def _asked_of(described: Described, asked: Wanted) -> tuple[list[Unit], Amounts]:
    _check_kept(described, asked.keep)
    current = evaluate(described)
    units = [kept(unit) if {*unit.flows} & {*asked.keep} else unit for unit in units_of(current, asked)]
    standing = [name for name in asked.keep if name in described.estate.exits]
    units = with_pairs(current, judged(current, units, standing), asked.keep, standing)
    return units, Amounts(current.paths, current.demand)


def frontier(described: Described, wanted: Wanted | None = None) -> list[Mix]:
    """The least cost for every number of addresses, from that of the cheapest mix down to the fewest that do."""
    asked = wanted or Wanted()
    units, amounts = _asked_of(described, asked)
    found: list[Mix] = []
    most = asked.max_addresses
    while all(unit.open_options for unit in units):
        model = assembled(amounts, units, replace(asked, max_addresses=most), 0.0)
        solved = model.program.solve(_PER_QUESTION_S)
        if solved is None:
            break
        found.append(_mix(model, solved))
        most = found[-1].addresses - 1
    return found
