"""With what confidence a plan holds, where loads are ranges: samples of all of them, through the same formulas.

An exit's peak is that of its flows together, sample by sample; how many addresses suffice follows from the load that
each number of them carries, and from the hosts that it carries it of, by the engine. What its other limits count adds
up from what each flow uses of them.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import ExitCapacity, Stream, given
from fenrask.capacity.streams import pools
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.what_if.kept import LimitConfidence, kept
from fenrask.what_if.ranges import Floats, Input, Samples, ranges, sampled

__all__ = ["Assured", "Confident", "ExitConfidence", "assured", "confident", "with_confidence"]

_SAMPLES = 1000
_MOST = 256
_HOST_COUNTS = 64
"""Numbers of hosts of one stream that are told apart; they are rounded up."""


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
class Assured:
    """The exits of an estate over all samples."""

    exits: tuple[ExitConfidence, ...]
    limits: tuple[LimitConfidence, ...]
    """Those beside ports that some samples exceed."""
    hosts: Mapping[str, Floats]
    """By workload whose number of hosts is a range: of its samples, as multiples of what is likely."""


@dataclass(frozen=True)
class Confident(Assured):
    """An estate over all samples."""

    level: float
    samples: int
    inputs: tuple[Input, ...]
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


def assured(evaluation: Evaluation, level: float, month: int = 0, samples: int = _SAMPLES) -> Assured:
    """What exits need with this confidence, and the limits that they then exceed. month: as in `confident`."""
    described = evaluation.described
    return _assured(evaluation, level, sampled(described, ranges(described, month), samples))


def _assured(evaluation: Evaluation, level: float, drawn: Samples) -> Assured:
    sized = [one for one in evaluation.capacity.exits if one.ports]
    exits = tuple(_exit(evaluation, one, level, drawn) for one in sized)
    return Assured(exits, tuple(kept(evaluation, level, drawn)), drawn.hosts)


def confident(evaluation: Evaluation, level: float, samples: int = _SAMPLES, month: int = 0) -> Confident:
    """What holds with this confidence: addresses of each exit, and the bill. month: that of the estate, from now."""
    described = evaluation.described
    inputs = ranges(described, month)
    drawn = sampled(described, inputs, samples)
    found, months = _assured(evaluation, level, drawn), _months(evaluation, drawn, samples)
    # What to measure first, and how it would be otherwise, is told where each range moves for itself.
    alone = drawn if drawn.moves_apart else sampled(described, inputs, samples, is_apart=True)
    apart, months_apart = found, months
    if alone is not drawn:
        apart, months_apart = _assured(evaluation, level, alone), _months(evaluation, alone, samples)
    exits = tuple(
        replace(one, if_apart=other.wanted, measure_first=other.measure_first, weight=other.weight)
        for one, other in zip(found.exits, apart.exits, strict=True)
    )
    first, weight = _first(months_apart, alone.places)
    low, middle, high = np.quantile(months, [(1 - level) / 2, 0.5, (1 + level) / 2])
    return Confident(
        exits, found.limits, drawn.hosts, level, samples, tuple(inputs),
        (float(low), float(middle), float(high)), first, weight, months,
    )  # fmt: skip


def _exit(evaluation: Evaluation, exit_capacity: ExitCapacity, level: float, drawn: Samples) -> ExitConfidence:
    best: Floats | None = None
    base, view = 0.0, exit_capacity.assignment.view
    for pool in pools(evaluation.demand, exit_capacity.exit, view, toward=exit_capacity.toward):
        likely = sum(part.concurrent * weight for part, weight in zip(pool.parts, pool.weights, strict=True))
        # Shape (n_samples, n_times), one pool at a time.
        series = np.stack([drawn.held(part, by_host=view == "hosts") for part in pool.parts], axis=1) @ np.stack(
            [part.concurrent * weight for part, weight in zip(pool.parts, pool.weights, strict=True)]
        )
        peak = series.max(axis=1)
        base = max(base, float(np.max(likely)))
        best = peak if best is None else np.maximum(best, peak)
    assert best is not None
    load = best / base if base else np.ones_like(best)
    suffices = _suffices(evaluation.described, exit_capacity, load, drawn)
    wanted = next((n for n, share in suffices.items() if share >= level), None)
    after: int | None = 0
    then, shares = exit_capacity.after_fault, dict[int, float]()
    if then is not None:
        shares = _suffices(evaluation.described, then.then, load, drawn)
        after = next((n for n, share in shares.items() if share >= level), None)
    first, weight = _first(best, drawn.places)
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


def _suffices(described: Described, exit_capacity: ExitCapacity, load: Floats, drawn: Samples) -> dict[int, float]:
    """The share of samples in which each number of addresses suffices: those whose load is within what it carries."""
    found = dict[int, float]()
    groups = [
        _Group(exit_capacity, streams, load[rows]) for streams, rows in _by_hosts(described, exit_capacity, drawn)
    ]
    for addresses in range(1, _MOST + 1):
        found[addresses] = sum(one.within(addresses) for one in groups) / load.size
        is_done = found[addresses] == 1.0 or all(one.is_done for one in groups)
        if is_done and addresses >= max(1, exit_capacity.addresses):
            break
    return found


class _Group:
    """Samples with the same streams, as many times as large as each sample has it."""

    def __init__(self, exit_capacity: ExitCapacity, streams: Sequence[Stream], load: Floats) -> None:
        self._exit, self._streams, self._load = exit_capacity, streams, load
        least, most = (
            replace(exit_capacity.load, streams=streams).scaled(float(factor)).least_addresses()
            for factor in (load.min(), load.max())
        )
        self._least, self._most = least, most
        """The fewest addresses that do for any sample, and for all; None where no number does."""
        self._carries, self.is_done = 0.0, least is None
        """Whether more addresses than were asked for carry no more."""

    def within(self, addresses: int) -> int:
        """In how many samples so many addresses suffice; asked for each number in turn."""
        if self._least is None or addresses < self._least:
            return 0
        if self._most is not None and addresses >= self._most:
            self.is_done = True
            return self._load.size
        exit_capacity = self._exit
        if not self.is_done:
            grows = replace(exit_capacity.load, streams=self._streams).growth_until(addresses)
            before, self._carries = self._carries, math.inf if grows is None else (1.0 + grows) * (1 + 1e-12)
            # Something else binds: more addresses carry no more.
            self.is_done = (
                addresses > max(4, exit_capacity.addresses) and self._most is None and self._carries <= before
            )
        return int(np.count_nonzero(self._load <= self._carries))


def _by_hosts(
    described: Described, exit_capacity: ExitCapacity, drawn: Samples
) -> Iterator[tuple[Sequence[Stream], NDArray[np.bool_]]]:
    """The streams of an exit with each number of hosts that samples have, fewest first, and which samples these are."""
    own = exit_capacity.assignment.view == "hosts"
    factors = {one.label: drawn.copies(described, one.label) for one in exit_capacity.streams} if own else {}
    varied = {label: factor for label, factor in factors.items() if factor is not None}
    if not varied:
        yield exit_capacity.streams, np.ones(drawn.size, dtype=bool)
        return
    counts = []
    for label, factor in varied.items():
        hosts = factor * max(one.copies for one in exit_capacity.streams if one.label == label)
        step = max(1.0, math.ceil((hosts.max() - hosts.min()) / _HOST_COUNTS))
        counts.append(np.ceil(hosts / step - 1e-9) * step)
    rows, back = np.unique(np.stack(counts, axis=1), axis=0, return_inverse=True)
    for number, row in enumerate(rows):
        hosts_of = dict(zip(varied, row.tolist(), strict=True))
        streams = [replace(one, copies=hosts_of.get(one.label, one.copies)) for one in exit_capacity.streams]
        yield [one for one in streams if one.copies], back.ravel() == number


def _months(evaluation: Evaluation, drawn: Samples, samples: int) -> Floats:
    """The bill of each sample: what is fixed, and each flow's share of the rest with its volume."""
    bill = evaluation.bill
    months = np.full(samples, float(bill.fixed))
    for line in bill.lines:
        for use, share in line.uses.items() if not line.fixed else ():
            amount, flow = float(line.amount * share), use.flow
            months = months + (amount * drawn.rate(flow) * drawn.volumes[flow] if flow in drawn.rates else amount)
    return months


def _first(result: Floats, places: Mapping[str, Floats]) -> tuple[str, float]:
    """The input that goes with most of a result's variance: the square of their correlation."""
    found: dict[str, float] = {}
    for name, values in places.items():
        if np.std(result) > 1e-12 * abs(float(np.mean(result))):
            found[name] = float(np.corrcoef(result, values)[0, 1] ** 2)
    best = max(found, key=lambda name: found[name], default="")
    return best, found.get(best, 0.0)
