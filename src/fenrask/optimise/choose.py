"""The cheapest mix of options that meets every need, its proof, what comes next, and why each other option lost."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from time import monotonic

from fenrask.designs import Comparison, compare
from fenrask.designs.contract import Patch
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise.amounts import Amounts
from fenrask.optimise.assembly import assembled
from fenrask.optimise.conflicts import conflict, contradiction
from fenrask.optimise.judging import judged
from fenrask.optimise.objections import Cut, covers, unfit
from fenrask.optimise.options import kept, units_of
from fenrask.optimise.pairs import with_pairs
from fenrask.optimise.problem import Unit, Wanted
from fenrask.optimise.programme import Model
from fenrask.optimise.questions import Lost, Mix, made, mix_of, nearest, runners_up, why_lost
from fenrask.programming import Solution
from fenrask.units import cents

__all__ = ["Choice", "Lost", "Mix", "by_headroom", "choose", "frontier"]

_MOST_CUTS = 200
_MARGINS = (0.002, 0.01)
"""Shares of the ports left unused, tried in turn."""


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
    model, solved, patch, evaluation, reasons, cuts = _feasible(described, amounts, units, asked)
    bound = solved.bound
    if not evaluation.meets_all:
        model, solved, patch, evaluation = _with_margins(described, amounts, units, asked)
    seconds = monotonic() - begins
    mix, next_best, lost = mix_of(model, solved), tuple[Mix, ...](), tuple[Lost, ...]()
    if asked.explain:
        known = [*cuts]
        next_best = tuple(runners_up(described, asked, model, solved, known))
        lost = tuple((why_lost if asked.every_option else nearest)(asked, model, solved, known))
    choice = Choice(
        mix,
        patch,
        evaluation,
        bound,
        seconds,
        next_best,
        lost,
        (*model.not_counted, *reasons),
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
    cuts, reasons, ends = list[Cut](), list[str](), monotonic() + asked.seconds
    model, sure = assembled(amounts, units, asked, 0.0), False
    while True:
        # An optimum has two witnesses; what the engine objects to anyway needs one.
        solved = _solution(model, amounts, units, asked, cuts, sure)
        patch, evaluation = made(described, model, solved, asked)
        found = [*covers(model, solved, evaluation)]
        for cut, why in unfit(model, solved, evaluation):
            found.append(cut)
            reasons.append(why)
        over = len(cuts) >= _MOST_CUTS or monotonic() > ends
        if sure and (not found or over):
            return model, solved, patch, evaluation, reasons, cuts
        sure = not found or over
        cuts += found


def _with_margins(
    described: Described, amounts: Amounts, units: list[Unit], asked: Wanted
) -> tuple[Model, Solution, Patch, Evaluation]:
    """The same with some of the ports left unused: a peak between two quarters of an hour is a little higher."""
    for margin in _MARGINS:
        model, solved = _solved(amounts, units, asked, margin)
        patch, evaluation = made(described, model, solved, asked)
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


def _check_kept(described: Described, keep: tuple[str, ...]) -> None:
    known = [*described.estate.exits, *described.estate.flows]
    if problems := unknown("--keep", keep, known, "an exit or a flow"):
        raise UnusableInput(problems)


HEADROOMS = (None, 0.0, 0.1, 0.2, 0.3, 0.4, 0.5)


def by_headroom(described: Described, wanted: Wanted | None = None) -> list[tuple[float | None, Mix]]:
    """The least cost for each share of ports left free when any one zone is lost; None: whatever comes of that."""
    asked = wanted or Wanted()
    units, amounts = _asked_of(described, asked)
    found = []
    for headroom in HEADROOMS if all(unit.open_options for unit in units) else ():
        model = assembled(amounts, units, replace(asked, zone_headroom=headroom), 0.0)
        solved = model.program.solve(asked.seconds)
        if solved is not None:
            found.append((headroom, mix_of(model, solved)))
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
        solved = model.program.solve(asked.seconds)
        if solved is None:
            break
        found.append(mix_of(model, solved))
        most = found[-1].addresses - 1
    return found
