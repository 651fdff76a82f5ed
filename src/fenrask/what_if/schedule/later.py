"""What a measurement before an order would change, and what may be regretted of the order."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any, Literal

from fenrask.capacity import ExitCapacity, Stream, given, parts_toward
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import scaled_flows
from fenrask.what_if.schedule.due import Due
from fenrask.what_if.schedule.when import Months

__all__ = ["Later", "Regret", "later_of"]


@dataclass(frozen=True)
class Later:
    """What a measurement before an order would change: below so many it can wait."""

    due: Due
    day: int
    counted: Literal["connections", "hosts"]
    """What is measured: those at the peak of the exit, or those behind it where each has ports of its own."""
    planned: float
    """How many there are by the plan, in the month of that day."""
    below: float
    """With no more than these the addresses before the order still do when its month begins."""
    regret: "Regret | None"
    """None where nothing is a range."""


@dataclass(frozen=True)
class Regret:
    """What may be regretted of an order, over all samples: that it was given, or that it was not."""

    needed: float
    """The share of samples in which its month needs it."""
    unused: Fraction
    """Money for it in months that do not need it, in the mean."""
    short_days: float
    """Days on which ports are lacking if it waits until its month has shown that it is needed, in the mean."""


def later_of(months: Months, ahead: Sequence[Evaluation], due: Sequence[Due]) -> Iterator[Later]:
    """For each purchase what it can wait below, counted in the month in which it has to be decided."""
    for purchase in due:
        sized = purchase.needed.sized[purchase.order.month]
        if sized is None or purchase.then == purchase.order.addresses:
            # Without any address nothing waits.
            continue
        # Of a larger block only so many are in use as the offer takes.
        before = min(purchase.then - purchase.order.addresses, purchase.needed.most or purchase.then)
        month = min(purchase.order.month, months.around(max(0, purchase.order_by)))
        asked = ahead, purchase, sized, before, month
        yield from _of_hosts(*asked) or _of_connections(*asked)


def _rooms(sized: ExitCapacity) -> list[ExitCapacity]:
    """What has to hold: an exit, and after the worst fault."""
    return [sized, *([sized.after_fault.then] if sized.after_fault else [])]


_JUST_BELOW, _MORE = 0.999, 8
"""A little below what just does; and so many times the hosts of the plan are looked at."""


def _of_connections(ahead: Sequence[Evaluation], due: Due, sized: ExitCapacity, before: int, month: int) -> list[Later]:
    """The connections below which fewer addresses do. before: how many; month: that of the decision."""
    then = ahead[due.order.month].described
    rooms = _rooms(sized)
    grows = [each.load.growth_until(before) for each in rooms]
    exit_, toward, _ = due.needed.key
    demand = ahead[month].demand
    parts = parts_toward(demand, exit_, toward) if toward else demand.at_exit.get(exit_, ())
    peak = demand.load(parts).peak.concurrent
    known = [grow for grow in grows if grow is not None]
    times = (1 + min(known, default=-1.0)) / (1 + then.estate.targets.growth_margin)
    if not peak or times <= 0:
        return []
    patch = scaled_flows(then, dict.fromkeys(then.estate.flows, times * _JUST_BELOW))
    if not _does(then, sized, before, patch):
        return []
    return [Later(due, max(0, due.order_by), "connections", peak, peak * times, _regret(due, before))]


def _of_hosts(ahead: Sequence[Evaluation], due: Due, sized: ExitCapacity, before: int, month: int) -> list[Later]:
    """The hosts below which fewer addresses do, where each has ports of its own and there are more of them then."""
    now = due.needed.sized[max(month, due.needed.key.begin)]
    if sized.assignment.view != "hosts" or now is None:
        return []
    each, first = _hosts(sized.streams), due.needed.sized[due.needed.key.begin]
    total = sum(each.values())
    if first is None or round(total) <= round(sum(_hosts(first.streams).values())):
        return []
    described = ahead[due.order.month].described
    margin = 1 + described.estate.targets.growth_margin
    enough = 0
    for step in (1 << power for power in reversed(range(round(_MORE * total).bit_length()))):
        if _carry(sized, before, (enough + step) / total, margin):
            enough += step
    estate, parts = described.estate, ahead[due.order.month].demand.at_exit.get(sized.exit, ())
    behind = {estate.flows[part.flow].workload for part in parts}
    hosts = {name: {"hosts": int(estate.workloads[name].hosts * enough / total + 1e-9)} for name in behind}
    if not enough or not _does(described, sized, before, {"workloads": hosts}):
        return []
    # What is added between the decision and the order's month is added all the same.
    planned = round(sum(_hosts(now.streams).values()))
    below = enough - (round(total) - planned)
    return [Later(due, max(0, due.order_by), "hosts", planned, below, _regret(due, before))] if below > 0 else []


def _hosts(streams: Sequence[Stream]) -> dict[str, float]:
    """The hosts of each workload in each subnet; where flows come from parts of them, the most."""
    found: dict[str, float] = {}
    for stream in streams:
        found[stream.label] = max(found.get(stream.label, 0.0), stream.copies)
    return found


def _carry(sized: ExitCapacity, addresses: int, share: float, margin: float) -> bool:
    """Whether so many addresses do for a share of the hosts."""
    return all(
        one.assignment.carries(
            [replace(stream, copies=stream.copies * share) for stream in one.streams],
            addresses,
            one.how,
            one.target,
            margin,
        )
        for one in _rooms(sized)
    )


def _regret(due: Due, before: int) -> Regret | None:
    """What an order's months say of it over their samples. before: the addresses without it."""
    sure = due.needed.confidence[due.order.month : due.needed.until]
    carried = [one.carried_by(before) for one in sure if one is not None]
    if not carried:
        return None
    needed = 1 - carried[0]
    return Regret(
        needed, sum(map(Fraction, carried), Fraction(0)) * due.month_amount, needed * (due.there - due.order_by)
    )


def _does(then: Described, sized: ExitCapacity, addresses: int, patch: dict[str, Any]) -> bool:
    """Whether an exit does with so many addresses if what is measured is so: other limits may bind."""
    changed = then.patched({**patch, "exits": given([(sized, addresses)])}, "measured")
    then_sized = evaluate(changed).capacity.of(sized.exit, sized.toward)
    return then_sized is not None and then_sized.fits and then_sized.carries_faults
