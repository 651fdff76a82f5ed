"""At what load of each exit to raise an alarm: where its first limit is reached, and as long before as an order takes.

All loads of an exit are taken to grow alike, by the growth that its flows state. Where none is stated there is no time
to reckon with: the warning then stands where half of the room above today's peak is used up.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fenrask.capacity import ExitCapacity, ExitLimits
from fenrask.capacity.streams import parts_toward
from fenrask.estate import Described
from fenrask.estate.flows import Flow
from fenrask.estate.growth import LoadGrowth
from fenrask.evaluation import Evaluation

__all__ = ["Alert", "alerts"]


@dataclass(frozen=True)
class Alert:
    """One exit: concurrent connections at which to warn, and at which a limit is reached."""

    name: str
    """What it is called: the exit, and the destination whose connections alone are meant, if one's are."""
    exit: str
    limit: str
    """The limit that binds first."""
    peak: float
    """Concurrent connections at today's busiest moment, all of the exit."""
    full_at: float
    """Concurrent connections at which the limit is reached; for ports, at which blocking is at its target."""
    warn_at: float
    growth_per_month: float
    months_left: float | None
    """From today's peak until the limit is reached; None where nothing grows; 0 where it is reached today."""
    months_after_warning: float | None
    """From the warning until the limit is reached, at the present growth; None where nothing grows."""
    target: float
    """The share of new connections without a port that is accepted."""
    toward: str = ""
    """The destination whose connections alone are meant; empty for all of the exit."""
    fault: str = ""
    """The fault after which it would be so, while all is well; empty where it is so at once."""


def alerts(evaluation: Evaluation, lead_months: float = 1.0) -> Iterator[Alert]:
    """An alert for each exit that carries connections and has a limit that load fills; the tightest first."""
    yield from sorted(_all(evaluation, lead_months), key=lambda alert: alert.full_at / alert.peak)


def _all(evaluation: Evaluation, lead_months: float) -> Iterator[Alert]:
    flows, target = evaluation.described.estate.flows, evaluation.described.estate.targets.blocking
    for exit_limits in evaluation.capacity.every:
        toward = exit_limits.toward if isinstance(exit_limits, ExitCapacity) else ""
        # Ports of the whole exit are those that others see; its other limits are of all that passes.
        parts = (
            parts_toward(evaluation.demand, exit_limits.exit, toward)
            if toward
            else evaluation.demand.at_exit.get(exit_limits.exit, ())
        )
        limits = [
            (limit.growth, limit.limit) for limit in exit_limits.limits if limit.grows and limit.growth is not None
        ]
        if not parts or not limits:
            continue
        load = evaluation.demand.load(parts).concurrent
        at, peak = int(np.argmax(load)), float(np.max(load))
        if peak <= 0:
            continue
        open_ = [(_monthly(evaluation.described, flows[part.flow]), float(part.concurrent[at])) for part in parts]
        growth = sum(share * held for share, held in open_) / sum(held for _, held in open_)
        monthly = math.log1p(growth) if growth > 0 else 0.0
        rooms = [(*min(limits), "")]
        rooms += sorted(_rooms_after(exit_limits))[:1]
        for room, limit, fault in rooms:
            full = peak * (1 + room)
            warn = full / math.exp(monthly * lead_months) if monthly else peak + max(0.0, full - peak) / 2
            left = max(0.0, math.log(full / peak) / monthly) if monthly and full > 0 else (None if full > peak else 0.0)
            after = lead_months if monthly else None
            yield Alert(
                exit_limits.name,
                exit_limits.exit,
                limit,
                peak,
                full,
                min(warn, full),
                growth,
                left,
                after,
                target,
                toward,
                fault,
            )


def _monthly(described: Described, flow: Flow) -> float:
    """By which share a flow's load grows each month: its own, and that of its hosts in the mean of a year."""
    workload = described.estate.workloads[flow.workload]
    more = 0 if workload.growth is None or flow.users is not None else workload.growth.added(_YEAR)
    hosts = (1 + max(-workload.hosts, more) / workload.hosts) ** (1 / _YEAR) if workload.hosts else 1.0
    return (1 + flow.growth_per_month) * _mean_growth(flow.growth) * _mean_growth(workload.growth) * hosts - 1


def _mean_growth(growth: LoadGrowth | None) -> float:
    """What multiplies a load each month, in the mean of a year."""
    return growth.times(_YEAR) ** (1 / _YEAR) if growth else 1.0


_YEAR = 12


def _rooms_after(exit_limits: ExitLimits) -> Iterator[tuple[float, str, str]]:
    """By how much all load may grow until a fault that flows are to survive overloads an exit; the limit, the fault."""
    if isinstance(exit_limits, ExitCapacity) and exit_limits.after_fault is not None:
        then = exit_limits.after_fault.then
        room = then.load.growth_until(exit_limits.addresses)
        if room is not None:
            yield room, "ports", exit_limits.after_fault.fault
    for fault, limit in exit_limits.after_faults.items():
        if limit.grows and limit.growth is not None:
            yield limit.growth, limit.limit, fault
