"""With what confidence a plan holds, where loads are ranges: samples of all of them, through the same formulas.

Each range {low, likely, high} is drawn from a two-piece lognormal law with `likely` as its median and `low` and `high`
as its 5th and 95th percentile (Wallis 2014, "The two-piece normal, binormal, or double Gaussian distribution", on the
logarithm). Ranges of one key that share a workload or a destination, or a name of what binds them, move together: what
makes one flow of them heavy makes the others so. An exit's peak is that of its flows together, sample by sample; how
many addresses suffice follows from the load that each number of them carries, by the engine.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import ExitCapacity, given, growth_until
from fenrask.capacity.streams import pools
from fenrask.demand import Part
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate

__all__ = ["Confident", "ExitConfidence", "Input", "confident", "ranges", "with_confidence"]

Floats = NDArray[np.float64]
_SAMPLES, _SEED = 1000, 1
_MOST = 256
_Z95 = 1.6448536269514722
_RATES = ("per_host_per_s", "requests_per_host_per_s", "users", "connections_per_user", "persistent_per_host")
_GROWTH, _OWN_GROWTH, _WORKLOADS_GROWTH = "growth_per_month", "growth.load_per_month", "load_per_month of its hosts"
_GROWTHS = (_GROWTH, _OWN_GROWTH, _WORKLOADS_GROWTH)
_VOLUMES = ("out_kib_per_connection", "in_kib_per_connection", "out_gib_per_month", "in_gib_per_month")


@dataclass(frozen=True)
class Input:
    """One quantity that is stated as a range."""

    flow: str
    key: str
    low: float
    likely: float
    high: float
    together: str = ""
    """What it moves together with, by name; empty for what its flow says."""

    @property
    def name(self) -> str:
        return f"{self.key} of {self.flow}"


@dataclass(frozen=True)
class ExitConfidence:
    """One exit over all samples."""

    exit: str
    sized: ExitCapacity
    peaks: tuple[float, float, float]
    """The peak of the pool that binds: 5th percentile, median, 95th."""
    suffices: Mapping[int, float]
    """By number of addresses: the share of samples in which they suffice."""
    wanted: int | None
    """The fewest addresses that suffice with the confidence asked for; None where none do."""
    measure_first: str
    """The input that its peak depends on most; empty where none is uncertain."""
    weight: float
    """The share of the peak's variance that goes with that input."""
    wanted_after_fault: int | None = 0
    """The fewest that suffice so after the worst fault that it is to carry; None where none do, 0 for no such fault.

    What moves there is taken to be as uncertain as what is there.
    """
    suffices_after_fault: Mapping[int, float] = field(default_factory=dict)
    """By number of addresses: the share of samples in which they suffice after it."""
    if_apart: int | None = None
    """`wanted`, did each range move for itself; the same where none moves with another."""

    def carried_by(self, addresses: int) -> float:
        """The share of samples in which so many addresses suffice, now and after the worst fault."""
        # More than are looked at do no better: nothing else binds below them.
        each = [some for some in (self.suffices, self.suffices_after_fault) if some]
        return min((some.get(addresses, some[max(some)]) for some in each), default=0.0)

    @property
    def now(self) -> float:
        """The confidence in the addresses that it has."""
        return self.suffices.get(self.sized.addresses, 0.0)


@dataclass(frozen=True)
class Confident:
    """An estate over all samples."""

    level: float
    samples: int
    inputs: tuple[Input, ...]
    exits: tuple[ExitConfidence, ...]
    month: tuple[float, float, float]
    """The bill: from where to where it is with this confidence, its median between; volumes are priced as in the likely
    bill, line by line."""
    month_first: str
    month_weight: float
    months: Floats
    """The bill of each sample, shape (n_samples,): designs of one estate meet the same samples."""


def with_confidence(evaluation: Evaluation, level: float) -> tuple[Evaluation, tuple[ExitConfidence, ...]]:
    """The estate with as many addresses as suffice with this confidence, evaluated, and what each exit wanted."""
    exits = confident(evaluation, level).exits
    wanted = ((one.sized, one.wanted) for one in exits if one.wanted is not None)
    more = given((one, number) for one, number in wanted if number > one.addresses)
    if not more:
        return evaluation, exits
    return evaluate(evaluation.described.patched({"exits": more}, "--confidence"), like=evaluation), exits


def ranges(described: Described, month: int = 0) -> list[Input]:
    """Every quantity of a flow that is stated, or was measured, as a range; after so many months its growth, too."""
    found = []
    for flow, stated in (described.data.get("flows") or {}).items():
        for key, value in stated.items() if isinstance(stated, Mapping) else ():
            if isinstance(value, Mapping) and "likely" in value and (month or key != _GROWTH):
                found.append(_input(flow, key, value))
        if month and isinstance(stated, Mapping):
            found += _growing(flow, stated, "")
            workload = described.estate.flows[flow].workload
            found += _growing(flow, (described.data.get("workloads") or {}).get(workload) or {}, workload)
    return found


def _growing(flow: str, stated: Mapping[str, Any], workload: str) -> Iterator[Input]:
    """The growth by the month that a flow, or a workload for all its flows, states as a range."""
    value = (stated.get("growth") or {}).get("load_per_month")
    if isinstance(value, Mapping):
        bound = f"growth of {workload}" if workload else str(value.get("together", ""))
        yield _input(flow, _WORKLOADS_GROWTH if workload else _OWN_GROWTH, {**value, "together": bound})


def _input(flow: str, key: str, value: Mapping[str, Any]) -> Input:
    """One range; of growth the law is that of what it multiplies a load by in a month."""
    more = 1.0 if key in _GROWTHS else 0.0
    low, likely, high = (float(value[one]) + more for one in ("low", "likely", "high"))
    return Input(flow, key, low, likely, high, str(value.get("together", "")))


def confident(evaluation: Evaluation, level: float, samples: int = _SAMPLES, month: int = 0) -> Confident:
    """What holds with this confidence: addresses of each exit, and the bill. month: that of the estate, from now."""
    inputs = ranges(evaluation.described, month)
    causes = _causes(evaluation.described, inputs)
    times = [_months_of(evaluation, one, month) if one.key in _GROWTHS else 1 for one in inputs]
    drawn = _drawn(inputs, causes, times, samples)
    rates, durations, volumes = _factors(evaluation, inputs, drawn, samples)
    # What to measure first, and how it would be otherwise, is told where each range moves for itself.
    alone = drawn if len({*causes}) == len(inputs) else _drawn(inputs, range(len(inputs)), times, samples)
    logs = {one.name: np.log(alone[one.name]) for one in inputs if one.high > one.low}
    sized = [one for one in evaluation.capacity.exits if one.ports]
    exits = tuple(_exit(evaluation, one, level, rates, durations, logs) for one in sized)
    months = _months(evaluation, rates, volumes, samples)
    apart, months_apart = exits, months
    if alone is not drawn:
        some, lives, sizes = _factors(evaluation, inputs, alone, samples)
        apart = tuple(_exit(evaluation, one, level, some, lives, logs) for one in sized)
        months_apart = _months(evaluation, some, sizes, samples)
    exits = tuple(
        replace(one, if_apart=other.wanted, measure_first=other.measure_first, weight=other.weight)
        for one, other in zip(exits, apart, strict=True)
    )
    first, weight = _first(months_apart, logs)
    low, middle, high = np.quantile(months, [(1 - level) / 2, 0.5, (1 + level) / 2])
    return Confident(
        level, samples, tuple(inputs), exits, (float(low), float(middle), float(high)), first, weight, months
    )


def _months_of(evaluation: Evaluation, input_: Input, month: int) -> int:
    """In how many months until then a growth counts."""
    flow = evaluation.described.estate.flows[input_.flow]
    workload = evaluation.described.estate.workloads[flow.workload]
    growth = {_OWN_GROWTH: flow.growth, _WORKLOADS_GROWTH: workload.growth}.get(input_.key)
    return growth.months_of(month) if growth else month


def _causes(described: Described, inputs: Sequence[Input]) -> list[int]:
    """A number for each input, the same for those that move together: of one name, or of one key and one end."""
    flows, groups = described.estate.flows, list(range(len(inputs)))
    known: dict[tuple[str, ...], int] = {}

    def first(number: int) -> int:
        while groups[number] != number:
            number = groups[number]
        return number

    for number, input_ in enumerate(inputs):
        flow = flows[input_.flow]
        ends = (
            [("name", input_.together)]
            if input_.together
            else [("from", input_.key, flow.workload), ("to", input_.key, flow.other_end)]
        )
        for end in ends:
            other = first(known.setdefault(end, number))
            groups[max(other, first(number))] = min(other, first(number))
    return [first(number) for number in range(len(inputs))]


def _drawn(inputs: Sequence[Input], causes: Sequence[int], times: Sequence[int], samples: int) -> dict[str, Floats]:
    """Each input's factor on its likely value, shape (n_samples,); those of one cause at one place of their laws.

    times: how often each multiplies: a growth does in every month.
    """
    dice, found = np.random.default_rng(_SEED), {}
    places: dict[int, Floats] = {}
    for input_, cause, often in zip(inputs, causes, times, strict=True):
        if cause not in places:
            places[cause] = dice.standard_normal(samples)
        z = places[cause]
        down, up = math.log(input_.likely / input_.low) / _Z95, math.log(input_.high / input_.likely) / _Z95
        found[input_.name] = np.exp(often * np.where(z < 0, z * down, z * up))
    return found


Factors = dict[str, Floats]


def _factors(
    evaluation: Evaluation, inputs: Sequence[Input], drawn: Mapping[str, Floats], samples: int
) -> tuple[Factors, Factors, Factors]:
    """By flow: the factor on its rate, on its duration, and on its volume."""
    one = np.ones(samples)
    flows = evaluation.described.estate.flows
    rates, durations, volumes = dict.fromkeys(flows, one), dict.fromkeys(flows, one), dict.fromkeys(flows, one)
    for each in inputs:
        factor = drawn[each.name]
        if each.key in (*_RATES, *_GROWTHS):
            rates[each.flow] = rates[each.flow] * factor
        elif each.key == "duration_s":
            durations[each.flow] = durations[each.flow] * factor
            if flows[each.flow].users is not None:
                # Users hold as many at once whatever they last: they open fewer.
                rates[each.flow] = rates[each.flow] / factor
        elif each.key in _VOLUMES:
            volumes[each.flow] = volumes[each.flow] * factor
    return rates, durations, volumes


def _exit(
    evaluation: Evaluation,
    exit_capacity: ExitCapacity,
    level: float,
    rates: Factors,
    durations: Factors,
    logs: Mapping[str, Floats],
) -> ExitConfidence:
    best: Floats | None = None
    base = 0.0
    for pool in pools(
        evaluation.demand, exit_capacity.exit, exit_capacity.assignment.view, toward=exit_capacity.toward
    ):
        likely = sum(part.concurrent * weight for part, weight in zip(pool.parts, pool.weights, strict=True))
        # Shape (n_samples, n_times), one pool at a time.
        series = np.stack([_factor(part, rates, durations) for part in pool.parts], axis=1) @ np.stack(
            [part.concurrent * weight for part, weight in zip(pool.parts, pool.weights, strict=True)]
        )
        peak = series.max(axis=1)
        base = max(base, float(np.max(likely)))
        best = peak if best is None else np.maximum(best, peak)
    assert best is not None
    load = best / base if base else np.ones_like(best)
    suffices = _suffices(exit_capacity, load)
    wanted = next((n for n, share in suffices.items() if share >= level), None)
    after: int | None = 0
    then, shares = exit_capacity.after_fault, dict[int, float]()
    if then is not None:
        shares = _suffices(then.then, load)
        after = next((n for n, share in shares.items() if share >= level), None)
    first, weight = _first(best, logs)
    low, middle, high = np.percentile(best, [5, 50, 95])
    return ExitConfidence(
        exit_capacity.name,
        exit_capacity,
        (float(low), float(middle), float(high)),
        suffices,
        wanted,
        first,
        weight,
        after,
        shares,
    )


def _factor(part: Part, rates: Factors, durations: Factors) -> Floats:
    """A part's connections in each sample, as a factor: its rate, and its duration within the holding time."""
    rate, duration = rates[part.flow], durations[part.flow]
    if part.holding_s is None or part.duration_s is None or not part.holding_s:
        return rate
    longer: Floats = rate * (1.0 + (duration - 1.0) * part.duration_s / part.holding_s)
    return longer


def _suffices(exit_capacity: ExitCapacity, load: Floats) -> dict[int, float]:
    """The share of samples in which each number of addresses suffices: those whose load is within what it carries."""
    found = dict[int, float]()
    carries = 0.0
    for addresses in range(1, _MOST + 1):
        grows = growth_until(
            exit_capacity.streams, exit_capacity.assignment, exit_capacity.how, addresses, exit_capacity.target
        )
        carried = math.inf if grows is None else (1.0 + grows) * (1 + 1e-12)
        found[addresses] = float((load <= carried).mean())
        if found[addresses] == 1.0 and addresses >= exit_capacity.addresses:
            break
        before, carries = carries, carried
        if addresses > max(4, exit_capacity.addresses) and carried <= before:
            # Something else binds: more addresses carry no more.
            break
    return found


def _months(evaluation: Evaluation, rates: Factors, volumes: Factors, samples: int) -> Floats:
    """The bill of each sample: what is fixed, and each flow's share of the rest with its volume."""
    bill = evaluation.bill
    months = np.full(samples, float(bill.fixed))
    for line in bill.lines:
        for use, share in line.uses.items() if not line.fixed else ():
            amount = float(line.amount * share)
            months = months + (amount * rates[use.flow] * volumes[use.flow] if use.flow in rates else amount)
    return months


def _first(result: Floats, logs: Mapping[str, Floats]) -> tuple[str, float]:
    """The input that goes with most of a result's variance: the square of their correlation."""
    found: dict[str, float] = {}
    for name, values in logs.items():
        if np.std(result) > 1e-12 * abs(float(np.mean(result))):
            found[name] = float(np.corrcoef(result, values)[0, 1] ** 2)
    best = max(found, key=lambda name: found[name], default="")
    return best, found.get(best, 0.0)
