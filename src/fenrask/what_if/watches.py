"""What tells that a network is not well, beside how full it is: each figure as the plan has it, and where to warn.

Every threshold is the model's: what it expects today with a margin, or the level from which something runs out. Figures
of a whole month or of the busiest moment are told apart by their words.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta

import numpy as np

from fenrask.capacity import ExitCapacity, translators
from fenrask.capacity.limits import OF_PACKETS
from fenrask.demand import Parts
from fenrask.estate import Ending
from fenrask.evaluation import Evaluation
from fenrask.units import percent

__all__ = ["METRICS", "Watch", "watches"]

METRICS = {
    "attempts": "counter: connections that hosts try to open",
    "unanswered": "counter: those of them that nobody answered",
    "dropped_packets": "counter: packets that the exit drops",
    "packets": "counter: packets both ways",
    "connections": "gauge: connections that are open",
    "table_entries": "gauge: entries of a translator's table, by `state`",
    "session_up": "gauge: 1 where a routing session is up, by `router`",
    "names_moved": "gauge: destinations whose names answer outside their prefixes (`fenrask resolve`)",
}
"""The metrics that are asked for, each with the label `exit` but for the last one, and what each is."""

_TWICE, _AT_LEAST = 2.0, 0.02
"""A share is worth a look at so many times what is planned, and at so much more."""
_ASTRAY = 0.15
_OF_TABLE = 0.8
_OLD = timedelta(days=365)


@dataclass(frozen=True)
class Watch:
    """One figure of an exit (empty: of all): what is planned for today, and from which value on to warn.

    expression: of `METRICS`, in the form `NAME` or `NAME/NAME` for a share, or `time`; labels: beside the exit.
    is_critical: whether traffic is lost already.
    """

    exit: str
    what: str
    expression: str
    planned: float
    warn_at: float
    unit: str
    why: str
    labels: tuple[tuple[str, str], ...] = ()
    of: tuple[str, ...] = ()
    """For a share of several exits: all of them."""
    is_critical: bool = False
    is_below: bool = False
    """Whether to warn below the value, not above it."""


def watches(evaluation: Evaluation) -> Iterator[Watch]:
    """By exit in the order of the estate, then what is of all."""
    estate = evaluation.described.estate
    for name in estate.exits:
        yield from _lines(evaluation, name)
        parts = evaluation.demand.at_exit.get(name)
        if not parts:
            continue
        yield from _unanswered(evaluation, name, Parts.of(parts))
        yield Watch(
            name, "drops", "dropped_packets", 0.0, 0.0, "packets a second", "the plan drops none", is_critical=True
        )
        yield from _packets(evaluation, name)
    yield from _tables(evaluation)
    yield from _zones(evaluation)
    named = [name for name, one in estate.destinations.items() if one.names and one.prefixes]
    if named:
        why = f"{len(named)} destinations are planned with the prefixes that their names had"
        yield Watch("", "names that moved", "names_moved", 0.0, 0.0, "destinations", why)
    read_on = evaluation.described.catalogue.read_on
    old = datetime.combine(read_on, time(), UTC) + _OLD
    why = f"rates and limits were read on {read_on}: a year later others may hold"
    yield Watch("", "age of the catalogue", "time", 0.0, old.timestamp(), "seconds since 1970", why)


def _unanswered(evaluation: Evaluation, name: str, parts: Parts) -> Iterator[Watch]:
    """The share of attempts that nobody answers: each holds its port for as long as the exit waits."""
    traffic, flows = evaluation.described.traffic, evaluation.described.estate.flows
    rates = np.bincount(parts.flow, weights=parts.rate_per_s, minlength=len(traffic.names))
    each = [(float(rates[row]), flows[traffic.names[row]]) for row in np.flatnonzero(rates).tolist()]
    whole = sum(rate for rate, _ in each)
    if not whole:
        return
    share = sum(rate * flow.unanswered_share for rate, flow in each) / whole
    warn, why = max(_TWICE * share, share + _AT_LEAST), f"{percent(share)} are planned"
    full = _full_at(evaluation, name, share, whole)
    if full is not None and full <= share:
        why = f"{why}, with which its ports run out at the peak already"
    elif full is not None and full < warn:
        warn, why = full, f"{why}; its ports run out at the peak from {percent(full)} on"
    yield Watch(name, "unanswered share", "unanswered/attempts", share, min(warn, 1.0), "share of attempts", why)


def _full_at(evaluation: Evaluation, name: str, share: float, rate: float) -> float | None:
    """From which share on the ports run out: what unanswered attempts hold longer fills the room that there is."""
    exit_capacity, offer = evaluation.capacity.of(name), evaluation.described.offer_of(name)
    if exit_capacity is None or exit_capacity.ports is None or offer is None or exit_capacity.port_limit.growth is None:
        return None
    held = float(np.mean(evaluation.demand.load(evaluation.demand.at_exit[name]).concurrent)) / rate
    longer = offer.mapping_timeout_s.after("unanswered") - held
    return share + max(0.0, exit_capacity.port_limit.growth) * held / longer if longer > 0 else None


def _packets(evaluation: Evaluation, name: str) -> Iterator[Watch]:
    """Packets a second, where the exit's offer limits them."""
    for exit_limits in evaluation.capacity.every:
        for limit in exit_limits.limits if exit_limits.exit == name else ():
            if limit.limit == OF_PACKETS:
                why = f"{limit.use:,.0f} at the planned peak of {limit.capacity:,.0f} that it takes"
                warn = max(limit.use, _OF_TABLE * limit.capacity)
                yield Watch(name, "packets", "packets", limit.use, min(warn, limit.capacity), "packets a second", why)


def _lines(evaluation: Evaluation, name: str) -> Iterator[Watch]:
    """Routing sessions that are up by the plan."""
    exit_ = evaluation.described.estate.exits[name]
    for router, is_up in exit_.sessions.items():
        if is_up and exit_.speaks:
            why = f"the session{f' with {router}' if router else ''} is up by the plan"
            labels = (("router", router),) if router else ()
            yield Watch(name, "session", "session_up", 1.0, 0.5, "up", why, labels, is_critical=True, is_below=True)


def _tables(evaluation: Evaluation) -> Iterator[Watch]:
    """Entries of translators' tables by the state that connections end in, and all of them against its size."""
    demand = evaluation.demand
    for translator in translators(evaluation.capacity):
        parts = demand.at_exit.get(translator.exit)
        if not parts:
            continue
        peak = float(np.max(demand.load(parts).concurrent))
        why = f"the table takes {translator.table:,}"
        warn = max(peak, _OF_TABLE * translator.table)
        yield Watch(
            translator.exit, "table entries", "table_entries", peak, min(warn, translator.table), "entries", why
        )
        offer = evaluation.described.offer_of(translator.exit)
        for state, rate in sorted(_waiting(evaluation, Parts.of(parts)).items()):
            timer = offer.mapping_timeout_s.after(state) if offer is not None else 0.0
            why = f"{rate:,.3g} connections a second end so in the mean, each kept for {timer:,.6g} s"
            if (kept := rate * timer) >= 1:
                labels = (("state", state),)
                yield Watch(
                    translator.exit, "table entries", "table_entries", kept, _TWICE * kept, "entries", why, labels
                )


def _waiting(evaluation: Evaluation, parts: Parts) -> dict[Ending, float]:
    """How many connections a second end in each way, in the mean of a day."""
    traffic, estate = evaluation.described.traffic, evaluation.described.estate
    rates = np.bincount(parts.flow, weights=parts.rate_per_s, minlength=len(traffic.names))
    found: dict[Ending, float] = {}
    for row in np.flatnonzero(rates).tolist():
        flow = estate.flows[traffic.names[row]]
        for state, share in flow.endings(estate.remotes[flow.remote].protocol).items():
            found[state] = found.get(state, 0.0) + float(rates[row]) * share
    return found


def _zones(evaluation: Evaluation) -> Iterator[Watch]:
    """Each zone's share of what the gateways of a network carry, where several stand in zones of their own."""
    estate, demand = evaluation.described.estate, evaluation.demand
    groups: dict[tuple[str | None, str], list[ExitCapacity]] = {}
    for exit_capacity in evaluation.capacity.exits:
        exit_ = estate.exits[exit_capacity.exit]
        if not exit_capacity.toward and exit_.in_subnets and demand.at_exit.get(exit_capacity.exit):
            groups.setdefault((estate.network_of(exit_), exit_.kind), []).append(exit_capacity)
    for some in groups.values():
        zones = [estate.subnets[estate.exits[one.exit].in_subnets[0]].zone for one in some]
        if len({*zones}) < 2 or len({*zones}) < len(zones):
            continue
        loads = [demand.load(demand.at_exit[one.exit]).concurrent for one in some]
        at = int(np.argmax(np.sum(loads, axis=0)))
        whole = float(sum(load[at] for load in loads))
        for exit_capacity, zone, load in zip(some, zones, loads, strict=True):
            share = float(load[at]) / whole if whole else 0.0
            why = f"zone {zone} has {share:.0%} of what {len(some)} gateways carry at the peak"
            of = tuple(each.exit for each in some)
            yield Watch(
                exit_capacity.exit, "zone's share", "connections/connections", share, min(1.0, share + _ASTRAY),
                "share of connections", why, of=of,
            )  # fmt: skip
