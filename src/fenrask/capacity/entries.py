"""What a translator's table holds at the peak: connections that are open, and ended ones by how they ended."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fenrask.demand import Demand, Parts, ended

__all__ = ["Entries", "table_entries"]

_OPEN = "open"
_NEVER_EMPTY = 0.5


@dataclass(frozen=True)
class Entries:
    """Entries of one state. timer_s: mean time that one stays after its end, s; None for open ones."""

    state: str
    entries: float
    timer_s: float | None


def table_entries(demand: Demand, exit_name: str) -> Iterator[Entries]:
    """By state, the most first, at the rates of the busiest step of the exit (Little 1961).

    A port that is given out again early leaves its entry until its timer ends.
    """
    some = demand.at_exit.get(exit_name)
    described = demand.paths.described
    if some is None:
        return
    parts, offer = Parts.of(some), described.offer_of(exit_name)
    load, curves = demand.load(some), demand.laid.curves
    step = int(load.peak.time_s // curves.step_s) % curves.profiles.shape[1]
    rates = parts.rate_per_s * curves.profiles[curves.profile[parts.curve], step]
    connected = np.array([one.connected for one in curves.families])[curves.family]
    lives = (connected * curves.duration_s)[parts.curve]
    entries = {_OPEN: float(np.dot(rates, lives) + parts.persistent.sum())}
    kept: dict[str, float] = {}
    examples, number = demand.laid.traffic.endings
    names, of_destination = demand.laid.traffic.protocols
    groups = np.stack([number[parts.flow], of_destination[parts.destination]])
    kinds, back = np.unique(groups, axis=1, return_inverse=True)
    by_kind = np.bincount(back.ravel(), weights=rates, minlength=kinds.shape[1]).tolist()
    for (flow, protocol), rate in zip(kinds.T.tolist(), by_kind, strict=True):
        for ending in ended(examples[flow], names[protocol], offer, timers_only=True):
            entries[ending.ending] = entries.get(ending.ending, 0.0) + rate * ending.share * ending.delay_s
            kept[ending.ending] = kept.get(ending.ending, 0.0) + rate * ending.share
    for state, held in sorted(entries.items(), key=lambda pair: -pair[1]):
        if held >= _NEVER_EMPTY:
            timer = None if state == _OPEN or not kept[state] else held / kept[state]
            yield Entries(state, held, timer)
