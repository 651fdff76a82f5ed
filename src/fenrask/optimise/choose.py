"""The cheapest mix of options that meets every need, its proof, what comes next, and why each other option lost."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from time import monotonic

from fenrask.designs import Candidate, Comparison, Effort, compare, effort
from fenrask.designs.contract import Patch
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import ChangeCost, Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise.assembly import assembled
from fenrask.optimise.conflicts import conflict, contradictions
from fenrask.optimise.judging import Judge
from fenrask.optimise.mixing import with_divisions
from fenrask.optimise.objections import Cut, covers, taken_in, unfit
from fenrask.optimise.options import kept, units_of
from fenrask.optimise.pairs import with_pairs
from fenrask.optimise.problem import Unit, Wanted
from fenrask.optimise.programme import Model
from fenrask.optimise.questions import Lost, Mix, Plan, Rows, accepted, made, mix_of, nearest, runners_up, why_lost
from fenrask.optimise.several import with_several
from fenrask.optimise.trials import Grounds
from fenrask.optimise.trimming import trimmed
from fenrask.programming import Beside, Solution
from fenrask.progress import tell
from fenrask.units import cents

__all__ = ["Choice", "Lost", "Mix", "Other", "by_headroom", "choose", "frontier"]

_MOST_CUTS = 200
_MOST_UNITS = 300
"""Groups of flows above which no mix with fewer changes is looked for: it takes a programme of its own."""
_INWARD_LOOKS = 2
"""How often the paths of what comes in are taken from a mix."""
_INWARD_ROUNDS = 8
"""Mixes of which each must not lose what comes in and is lost today, before that is left for the end to say."""
_DIVISIONS = 2
"""How often the exits of the best mix are divided over the subnets of groups, and a better one is looked for."""
_SAME = 0.004
"""Money that is the same to a cent."""
_PROVEN = 1e-6
"""The gap up to which an answer counts as proven."""
_A_MINUTE, _LONGER = 60.0, 10
"""How long a search of the usual number of nodes takes, about, s; and how many times as long a longer one."""
_MARGINS = (0.002, 0.01)
"""Shares of the ports left unused, tried in turn."""


@dataclass(frozen=True)
class Other:
    """Another mix than the answer, which the engine accepts."""

    mix: Mix
    patch: Patch
    evaluation: Evaluation


@dataclass(frozen=True)
class Choice:
    """The cheapest estate that is known to meet every need, evaluated; its proof; the runners-up; the losers."""

    mix: Mix
    patch: Patch
    evaluation: Evaluation
    bound: float
    """No mix of the options costs less than this a month."""
    seconds: float
    next_best: tuple[Other, ...]
    lost: tuple[Lost, ...]
    not_counted: tuple[str, ...]
    """What the bill knows and the programme does not, and what the options do not hold."""
    options: int
    """How many options all flows have together."""
    design: str = ""
    """The standard design that is cheaper than every mix of the options, where one is: then it is the answer."""
    current: Evaluation | None = None
    """The estate as it is."""
    change_month: float = 0.0
    """What the mix's changes cost, spread over the months of the horizon, where the estate says what they cost."""
    steady: Other | None = None
    """A mix that costs little more, and changes less; None for none."""
    fewest_changes: bool = False
    """Whether it was taken for its fewer changes, though it costs more."""
    longer_s: float | None = None
    """The seconds with which more would be looked at, where the search stopped before it had an answer proven."""

    @property
    def month(self) -> float:
        """What the answer costs a month, by its bill."""
        return float(self.evaluation.bill.total)

    @property
    def gap(self) -> float:
        """How much dearer than the optimum of the mixes it may be, as a share; 0 where it is below them all."""
        return max(0.0, self.month + self.change_month - self.bound) / max(abs(self.month), 1e-9)

    @property
    def effort(self) -> Effort:
        """What it changes."""
        if self.current is None:
            return Effort(0, 0, 0)
        return effort(self.current, self.evaluation, self.patch)

    def with_changes(self, evaluation: Evaluation, patch: Patch) -> float:
        """What an estate costs a month, with its changes where the estate says what they cost."""
        targets, month = evaluation.described.estate.targets, float(evaluation.bill.total)
        if self.current is None:
            return month
        changes = effort(self.current, evaluation, patch).price(targets.change_cost or ChangeCost())
        return month + float(changes) / targets.horizon_months

    @property
    def is_proven(self) -> bool:
        """Whether no mix of the options is cheaper: the programme's sum is the bill, and it has no gap."""
        agrees = abs(self.mix.month - self.month) <= 1e-6 * max(1.0, abs(self.month))
        return not self.design and agrees and self.gap <= _PROVEN


_Compared = Callable[[], Comparison]


def choose(described: Described, wanted: Wanted | None = None, compared: _Compared | None = None) -> Choice:
    """Every flow to an exit, existing or proposed, at least monthly cost under all needs, caps and ports.

    The answer is held against the estate as it is and every standard design (those of `compared`, asked where there
    is an answer): what is cheaper and meets all is the answer instead. NoAnswer, with the smallest set of needs that
    contradict each other, where nothing meets them all.
    """
    asked, begins = wanted or Wanted(), monotonic()
    current = evaluate(described)
    tell("options of each flow")
    units, grounds, judge = _asked_of(current, asked)
    _check_options(units, asked)
    asked = asked.begun()
    model, plan, reasons, known, units = _any_feasible(current, grounds, judge, units, asked)
    for _ in range(_DIVISIONS if len(units) <= _MOST_UNITS else 0):
        divided = with_divisions(judge, units, taken_in(model, plan.solved), asked.keep)
        if divided is None or asked.is_over:
            break
        units = divided
        model, plan, reasons, known = _feasible(current, grounds, units, asked)
    bound = plan.solved.bound + model.change_without
    if not plan.evaluation.meets_all:
        model, plan = _with_margins(current, grounds, units, asked)
    steady = None
    if plan.evaluation.meets_all and len(units) <= _MOST_UNITS:
        plan = _as_cheap_with_fewer_changes(model, plan, asked, known)
        steady = _with_fewer_changes(model, plan, asked, known)
    takes_fewest = steady is not None and asked.fewest_changes
    if steady is not None and takes_fewest:
        plan, steady = steady, None
    seconds = monotonic() - begins
    next_best, lost = tuple[Other, ...](), tuple[Lost, ...]()
    if asked.explain or asked.next_best:
        tell("next best mixes")
        others = runners_up(described, asked, model, plan, known)
        next_best = tuple(_told(model, one, described) for one in others)
    if asked.explain:
        lost = tuple((why_lost if asked.every_option else nearest)(asked, model, plan.solved, known))
    choice = Choice(
        mix_of(model, plan.solved),
        *trimmed(described, plan.patch, plan.evaluation),
        bound,
        seconds,
        next_best,
        lost,
        (*model.not_counted, *reasons),
        sum(len(unit.options) for unit in units),
        current=current,
        change_month=model.change_month(plan.solved.values.tolist()),
        steady=None if steady is None else _told(model, steady, described),
        fewest_changes=takes_fewest,
        longer_s=_LONGER * (asked.seconds or _A_MINUTE) if plan.solved.gap > _PROVEN else None,
    )
    answer = (
        choice
        if _is_bound(asked)
        else _or_as_it_is(_or_cheaper(choice, compared() if compared else compare(described)))
    )
    _check_inward(answer.evaluation, choice.current)
    return answer


def _check_options(units: Sequence[Unit], asked: Wanted) -> None:
    """NoAnswer where flows have no option that meets their needs."""
    hopeless = [unit for unit in units if not unit.open_options]
    if hopeless:
        told = contradictions(hopeless, asked.keep)
        keeping = " or do not keep it," if asked.keep else ""
        if not any(unit.options for unit in hopeless) and not asked.keep:
            raise NoAnswer(told, "Mend its path first: what goes to a private destination is not for sale.")
        raise NoAnswer(told, f"Drop a need,{keeping} or add an offer that meets them.")


def _any_feasible(
    current: Evaluation, grounds: Grounds, judge: Judge, units: list[Unit], asked: Wanted
) -> tuple[Model, Plan, list[str], list[Cut], list[Unit]]:
    """See `_feasible`; of many units where one exit of an offer alone does not do, with several of it."""
    try:
        return (*_feasible(current, grounds, units, asked), units)
    except NoAnswer:
        more = with_several(judge, units, asked.keep) if len(units) > _MOST_UNITS else units
        if more is units:
            raise
        return (*_feasible(current, grounds, more, asked), more)


def _check_inward(evaluation: Evaluation, current: Evaluation | None) -> None:
    """NoAnswer where a flow that comes in breaks a need: no choice of exits for what goes out mends that.

    Why it does is told of the estate as it is, where it does there too.
    """
    inward = evaluation.described.estate.inward_flows
    if not inward:
        return
    already = {(one.flow, one.need): one for one in current.broken} if current else {}
    for broken in evaluation.broken:
        if broken.flow in inward:
            broken = already.get((broken.flow, broken.need), broken)
            what = "does not arrive" if broken.need == "arrives" else f"breaks {broken.need}"
            raise NoAnswer(
                f"{broken.flow}, which comes in, {what}: {broken.why}", "Mend that first: `fenrask check` says how."
            )


def _feasible(
    current: Evaluation, grounds: Grounds, units: list[Unit], asked: Wanted
) -> tuple[Model, Plan, list[str], list[Cut]]:
    """The programme, solved and evaluated; what the engine objects to is forbidden, and it is solved anew.

    With it comes why options were forbidden; and all rows that were added.
    """
    cuts, reasons, rounds = list[Cut](), list[str](), 0
    inward = current.described.estate.inward_flows
    model, sure, looks = assembled(grounds, units, asked, 0.0, current), False, 0
    solved = _solution(model, asked, twice=False)
    # What comes in and is lost today may be mended by some mix: that is tried a few times.
    broken_now = frozenset((one.flow, one.need) for one in current.broken if one.flow in inward)
    plan: Plan | None = None
    beside: Beside | None = None
    while True:
        tell("cheapest mix, tried", rounds + 1)
        plan = made(current.described, model, solved, asked, plan.evaluation if plan else current)
        if looks < _INWARD_LOOKS and (other := _other_inward(grounds, plan.evaluation)) is not None:
            # What comes in takes these paths with any such mix, and is paid there.
            looks, grounds = looks + 1, other
            model = assembled(grounds, units, asked, 0.0, current)
            solved, beside = _solution(model, asked, cuts, sure), None
            continue
        found = [*covers(model, solved, plan.evaluation)]
        rounds, aside = rounds + 1, broken_now if rounds >= _INWARD_ROUNDS else frozenset()
        for cut, why in unfit(model, solved, plan.evaluation, aside):
            found.append(cut)
            reasons.append(why)
        over = len(cuts) >= _MOST_CUTS or asked.is_over
        if sure and (not found or over):
            return model, plan, reasons, cuts
        # An optimum has two witnesses; what the engine objects to anyway needs one.
        sure = not found or over
        if not found and solved.gap <= _PROVEN:
            known, solved = solved, model.program.witnessed(solved, asked.seconds_left, cuts)
            if solved is known:
                return model, plan, reasons, cuts
            continue
        beside = beside or model.program.beside(solved, cuts, asked.seconds_left)
        cuts += found
        try:
            solved = _solution(model, asked, cuts, sure, None if sure else beside)
        except NoAnswer as none:
            _check_inward(plan.evaluation, current)
            raise NoAnswer(f"{none.cause}{_last_tried(plan.evaluation)}", none.remedy) from None


def _last_tried(evaluation: Evaluation) -> str:
    """What the last mix that was tried lacks, in words."""
    broken = [f"{one.flow} breaks {one.need}: {one.why}" for one in evaluation.broken]
    short = [f"{one.exit} does not carry its load" for one in evaluation.short]
    return next((f"; of the last one tried, {why}" for why in (*broken, *short)), "")


def _other_inward(grounds: Grounds, evaluation: Evaluation) -> Grounds | None:
    """Those with the paths of what comes in with a mix; None where these are the same as counted."""
    other = replace(grounds, inward=evaluation)
    told = [
        {(one.flow, one.subnet, one.example.exits, one.share) for one in some.coming_in} for some in (other, grounds)
    ]
    return other if told[0] != told[1] else None


def _with_margins(current: Evaluation, grounds: Grounds, units: list[Unit], asked: Wanted) -> tuple[Model, Plan]:
    """The same with some of the ports left unused: a peak between two quarters of an hour is a little higher."""
    for margin in _MARGINS:
        model = assembled(grounds, units, asked, margin, current)
        solved = _solution(model, asked)
        plan = made(current.described, model, solved, asked, current)
        if plan.evaluation.meets_all:
            break
    return model, plan


def _as_cheap_with_fewer_changes(model: Model, plan: Plan, asked: Wanted, known: list[Cut]) -> Plan:
    """Of the mixes that cost the same to a cent the one that changes least."""
    other = _fewest(model, plan, asked, known, plan.solved.objective + _SAME)
    if other is None or cents(other.evaluation.bill.total) > cents(plan.evaluation.bill.total):
        return plan
    return other if _effort(model, other) < _effort(model, plan) else plan


def _with_fewer_changes(model: Model, plan: Plan, asked: Wanted, known: list[Cut]) -> Plan | None:
    """The mix that changes least within the tolerance; None where none changes less than the one that is known."""
    most = (1 + asked.tolerance) * float(plan.evaluation.bill.total)
    other = _fewest(model, plan, asked, known, plan.solved.objective * (1 + asked.tolerance))
    if other is None or float(other.evaluation.bill.total) > most:
        return None
    return other if _effort(model, other) < _effort(model, plan) else None


def _fewest(model: Model, plan: Plan, asked: Wanted, known: list[Cut], most: float) -> Plan | None:
    """The mix with the fewest changes for so much money, if the engine accepts one."""
    assert model.counted is not None
    program = model.counted.fewest(model.program, most)
    found = accepted(asked, model, plan, Rows(known), program)
    if found is None:
        return None
    solved = model.counted.priced(model.program, found.solved, plan.solved.bound)
    return replace(found, solved=solved)


def _effort(model: Model, plan: Plan) -> Effort:
    return effort(model.grounds.current, plan.evaluation, plan.patch)


def _told(model: Model, plan: Plan, described: Described) -> Other:
    return Other(mix_of(model, plan.solved), *trimmed(described, plan.patch, plan.evaluation))


def _is_bound(asked: Wanted) -> bool:
    """Whether more is asked of the answer than of the designs that it is held against."""
    limits = (asked.budget, asked.max_addresses, asked.max_gateways, asked.max_upkeep, asked.zone_headroom)
    return bool(asked.keep) or any(one is not None for one in limits)


def _or_cheaper(choice: Choice, comparison: Comparison) -> Choice:
    """The choice, or the cheapest of the designs that meet every need and cost less, changes included."""
    if choice.fewest_changes:
        return choice
    own, held = choice.with_changes(choice.evaluation, choice.patch), choice.evaluation.meets_all
    best: Candidate | None = None
    for candidate in comparison.candidates:
        # What paths alone rule out, or what costs more, need not be looked at any further.
        if candidate.evaluation.ruled_out:
            continue
        cost = choice.with_changes(candidate.evaluation, candidate.patch)
        if (cost < own * (1 - 1e-9) - 1e-9 or not held) and candidate.passes:
            best, own, held = candidate, cost, True
    if best is None:
        return choice
    return replace(choice, patch=best.patch, evaluation=best.evaluation, design=best.design.name, steady=None)


def _or_as_it_is(choice: Choice) -> Choice:
    """The choice, or the estate as it is where that meets every need and costs no more: what gains nothing stays."""
    current = choice.current
    if current is None or not current.meets_all:
        return choice
    if cents(current.bill.total) > cents(Fraction(choice.with_changes(choice.evaluation, choice.patch))):
        return choice
    return replace(choice, patch={}, evaluation=current, design="", steady=None)


_FIRST_NODES = 20
"""Nodes of the search for any mix at all, where the time limit is over before one is found."""


def _decided(
    model: Model, asked: Wanted, cuts: Sequence[Cut] = (), twice: bool = False, beside: Beside | None = None
) -> tuple[Solution | None, bool]:
    """The best solution within the time limit, or one; and whether it is certain that there is none."""
    if beside is not None and not twice:
        found = beside.decide(asked.seconds_left, cuts)
    else:
        found = model.program.decide(asked.seconds_left, cuts, twice)
    if found[0] is None and not found[1] and asked.is_over:
        return model.program.decide(None, cuts, nodes=_FIRST_NODES)
    return found


def _solution(
    model: Model, asked: Wanted, cuts: Sequence[Cut] = (), twice: bool = True, beside: Beside | None = None
) -> Solution:
    solved, is_certain = _decided(model, asked, cuts, twice, beside)
    if solved is None and not twice:
        solved, is_certain = _decided(model, asked, cuts, True)
    if solved is None and asked.is_over and not is_certain:
        raise NoAnswer(f"no mix was found in {asked.seconds:g} s", "Give the solver more time: --seconds.")
    if solved is None and cuts:
        raise NoAnswer("no mix of the options carries its load and meets every need", "Add an offer that carries more.")
    if solved is None:
        raise conflict(model.grounds, model.units, asked)
    return solved


def _check_kept(described: Described, keep: tuple[str, ...]) -> None:
    known = [*described.estate.exits, *described.estate.flows]
    if problems := unknown("--keep", keep, known, "an exit or a flow"):
        raise UnusableInput(problems)


HEADROOMS = (None, 0.0, 0.1, 0.2, 0.3, 0.4, 0.5)


def by_headroom(described: Described, wanted: Wanted | None = None) -> list[tuple[float | None, Mix]]:
    """The least cost for each share of ports left free when any one zone is lost; None: whatever comes of that."""
    asked = wanted or Wanted()
    units, grounds, judge = _asked_of(evaluate(described), asked)
    asked = asked.begun()
    units = _divided(judge, grounds, units, asked)
    found = []
    for headroom in HEADROOMS if all(unit.open_options for unit in units) else ():
        model = assembled(grounds, units, replace(asked, zone_headroom=headroom), 0.0)
        solved, _ = _decided(model, asked)
        if solved is not None:
            found.append((headroom, mix_of(model, solved)))
    return found


def _divided(judge: Judge, grounds: Grounds, units: list[Unit], asked: Wanted) -> list[Unit]:
    """The units with what divides the exits of their cheapest mix over subnets, as `choose` has them."""
    for _ in range(_DIVISIONS if len(units) <= _MOST_UNITS and all(unit.open_options for unit in units) else 0):
        model = assembled(grounds, units, asked, 0.0)
        solved, _ = _decided(model, asked)
        divided = None if solved is None else with_divisions(judge, units, taken_in(model, solved), asked.keep)
        if divided is None:
            break
        units = divided
    return units


def _asked_of(current: Evaluation, asked: Wanted) -> tuple[list[Unit], Grounds, Judge]:
    described = current.described
    _check_kept(described, asked.keep)
    units = [kept(unit) if {*unit.flows} & {*asked.keep} else unit for unit in units_of(current, asked)]
    standing = [name for name in asked.keep if name in described.estate.exits]
    judge = Judge(current, tuple(standing))
    units = with_pairs(judge, judge.judged(units), asked.keep)
    if len(units) <= _MOST_UNITS:
        units = with_several(judge, units, asked.keep)
    return units, Grounds(current, judge.tried, current), judge


def frontier(described: Described, wanted: Wanted | None = None) -> list[Mix]:
    """The least cost for every number of addresses, from that of the cheapest mix down to the fewest that do."""
    asked = wanted or Wanted()
    units, grounds, judge = _asked_of(evaluate(described), asked)
    asked = asked.begun()
    units = _divided(judge, grounds, units, asked)
    found: list[Mix] = []
    most = asked.max_addresses
    while all(unit.open_options for unit in units):
        model = assembled(grounds, units, replace(asked, max_addresses=most), 0.0)
        solved, _ = _decided(model, asked)
        if solved is None:
            break
        found.append(mix_of(model, solved))
        most = found[-1].addresses - 1
    return found
