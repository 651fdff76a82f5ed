"""Blocking and ports: Erlang's recursion where it applies, else connections drawn one by one; integrals of the rate."""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

from fenrask.capacity import ExitCapacity
from fenrask.demand import Load
from fenrask.estate import LOADS
from fenrask.evaluation import Evaluation, evaluate
from fenrask.teletraffic.simulation import Stop, replicated
from fenrask.what_if.second_methods.contract import Audited, NotLookedAt
from fenrask.what_if.simulated import Asked, Simulated, simulated

__all__ = ["audited_by_drawing", "audited_ports"]

_MOST_STEPS = 4_000_000
"""Ports that the recursion goes through, in all."""
_MOST_DRAWN, _MOST_OF_A_RUN = 1e6, 5e5
"""Connections of one exit that are drawn one by one at most, and of one run of them."""
_WITHOUT = "no free port about the peak"
_HOURS = 1.0
"""So long about the busiest moment they are drawn."""
_WIDER = 2.0
"""Times the 95 % interval: one of some ten thousand results lies outside by chance (the normal law's 3.9 sigma)."""


def audited_ports(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Blocking, addresses needed, ports wanted."""
    yield from _blocking(evaluation)
    yield from _held(evaluation)
    yield from _in_halves(evaluation)


def _blocking(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Where ports are shared and tried one by one until one is free, Erlang's recursion (Erlang 1917)."""
    steps = 0
    for exit_ in evaluation.capacity.exits:
        streams = [stream for stream in exit_.streams if stream.busiest > 0]
        if not exit_.ports or not streams or not exit_.assignment.adds_up(streams, exit_.how):
            continue
        size = round(exit_.port_limit.capacity)
        steps += size
        if steps > _MOST_STEPS or not 0 < size < _MOST_STEPS:
            yield NotLookedAt(
                "no free port at the peak",
                exit_.name,
                f"{size:,} ports; the recursion goes through {_MOST_STEPS:,} in all",
            )
            continue
        # Each node has its own part of ports and load.
        parts = exit_.assignment.division(streams[0], exit_.addresses, exit_.how).even_cells
        top = max(stream.load.peak.concurrent for stream in streams) / parts
        blocked = _recursion(top, size // parts)
        # The mean of those who find no port at the worst moment of the binding pool.
        yield Audited("no free port at the peak", exit_.name, exit_.blocking, blocked, "Erlang's recursion", 0.01)
        yield from _needed(exit_, top, parts)


def audited_by_drawing(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Where no recursion applies: hosts, hashes, blocks and connections drawn, each by itself."""
    for exit_ in evaluation.capacity.exits:
        streams = [stream for stream in exit_.streams if stream.busiest > 0]
        if exit_.ports and streams and not exit_.assignment.adds_up(streams, exit_.how):
            yield from _drawn(evaluation, exit_)


def _drawn(evaluation: Evaluation, exit_capacity: ExitCapacity) -> Iterator[Audited | NotLookedAt]:
    """What is refused about the busiest hour of the pool that is worst off, by drawing it."""
    asked = Asked(exits=[exit_capacity.exit], around_hours=_HOURS)
    for pool in simulated(evaluation.capacity, asked, toward=exit_capacity.toward):
        if pool.formula is None:
            continue
        about = f"{exit_capacity.name}, {pool.pool}"
        if pool.not_counted:
            yield NotLookedAt(_WITHOUT, about, f"the drawing leaves out {pool.not_counted[0]}")
        elif (calls := pool.setting.calls.of_a_run) > _MOST_OF_A_RUN:
            yield NotLookedAt(
                _WITHOUT,
                about,
                f"{calls:.2g} connections in one run; `fenrask simulate` draws them",
            )
        else:
            yield _by_drawing(evaluation, exit_capacity, pool, about)


def _by_drawing(evaluation: Evaluation, exit_capacity: ExitCapacity, pool: Simulated, about: str) -> Audited:
    target = evaluation.described.estate.targets.blocking
    stop = Stop(precision=0.1, negligible=target / 2, most_runs=200, most_attempts=_MOST_DRAWN)
    with ThreadPoolExecutor(1) as executor:
        found = replicated(pool.setting, executor, stop)
    near, chance = _DRAWN_NEAR, _WIDER * max(found.high - found.share, found.share - found.low)
    if exit_capacity.ports is not None and exit_capacity.ports.hashed:
        near, chance = _HASHED_NEAR, 2 * chance + _HASHED_WITHIN
    elif any(stream.is_capped and stream.keeps_after for stream in exit_capacity.streams if stream.label == pool.pool):
        near = _KEPT_NEAR
    words = f"{found.attempts:,} connections drawn in {found.runs} runs"
    what, first = f"{_WITHOUT}, at most" if pool.at_most else _WITHOUT, pool.formula or 0.0
    return Audited(what, about, first, found.share, words, near, chance + target, pool.at_most)


_DRAWN_NEAR = 0.1
"""The formulas are exact for no load that varies: docs/validity.md says how near they are."""
_KEPT_NEAR = 0.2
"""The same where hosts have limits on open connections and ports are kept after these: furthest where one host has a
block to itself."""
_HASHED_NEAR, _HASHED_WITHIN = 0.5, 1e-3
"""The same where a hash ties hosts to ports: a few runs see a few of its outcomes, of which rare ones count most."""


def _needed(exit_capacity: ExitCapacity, top: float, parts: int) -> Iterator[Audited]:
    """The least number of addresses, from the one that was found: one fewer is too few, and as many are enough."""
    each = round(exit_capacity.how.per_address) // parts
    if exit_capacity.needed_now is None or exit_capacity.needed_now != exit_capacity.needed or each < 1:
        return
    least = exit_capacity.needed_now
    while least > 1 and _recursion(top, each * (least - 1)) <= exit_capacity.target:
        least -= 1
    while least <= exit_capacity.needed_now + _MORE and _recursion(top, each * least) > exit_capacity.target:
        least += 1
    yield Audited(
        "addresses needed",
        exit_capacity.name,
        exit_capacity.needed_now,
        least,
        "the least number by Erlang's recursion",
    )


_MORE = 10
"""Addresses beyond those that were found which are tried: the two differ then, whatever the number."""


def _recursion(load: float, servers: int) -> float:
    """B(n) = A B(n-1) / (n + A B(n-1)), with its inverse, which does not underflow."""
    inverse = 1.0
    for n in range(1, servers + 1):
        inverse = 1.0 + inverse * n / load
        if inverse > 1e300:
            return 0.0
    return 1.0 / inverse


def _held(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Ports wanted at the peak, as an integral of the rate before it; and that what fits has ports to spare."""
    for exit_ in evaluation.capacity.exits:
        if exit_.ports is None:
            continue
        if exit_.fits and exit_.target <= _SMALL:
            lacking = max(0.0, -exit_.ports.headroom)
            yield Audited("ports lacking", exit_.name, lacking, 0.0, "none, since the exit carries its load")
        stream = next((each for each in exit_.streams if each.label == exit_.ports.binding), None)
        if stream is not None and stream.load.numbers.size > _MOST_LAWS:
            why = f"{stream.load.numbers.size} laws of holds in one pool; up to {_MOST_LAWS} are integrated"
            yield NotLookedAt("ports wanted", exit_.name, why)
        elif stream is not None:
            peak = stream.load.peak
            method = "integral of the rate before the peak"
            yield Audited(
                "ports wanted", exit_.name, peak.concurrent, _integral(stream.load, peak.time_s), method, 0.01
            )


_SMALL, _MOST_LAWS = 1e-3, 100
_LASTS, _STEPS = 60.0, 6000


def _integral(load: Load, time_s: float) -> float:
    """The integral of rate(t - u) x P(holding time > u), by the middles of small steps of u."""
    total, curves = load.persistent, load.curves
    for number, rate in zip(load.numbers.tolist(), load.rates.tolist(), strict=True):
        curve = curves.curve(number)
        law, mean = curve.law, float(np.max(curve.law.mean_s))
        if not rate or not mean:
            continue
        ends = np.concatenate([[0.0], np.geomspace(mean * 1e-4, mean * _LASTS, _STEPS)])
        middles = (ends[1:] + ends[:-1]) / 2
        steps = np.floor((time_s - middles) / curves.step_s).astype(np.int64) % curve.profile.size
        survival = np.ravel(law.survival(middles))
        total += rate * float(np.dot(curve.profile[steps] * survival, np.diff(ends)))
    return total


def _in_halves(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """The same load, each flow written as two of half of it: ports and addresses are as many."""
    described, patch = evaluation.described, dict[str, dict[str, Any]]()
    flows = described.estate.flows
    if len(flows) > _MOST_FLOWS:
        why = f"{len(flows):,} flows; up to {_MOST_FLOWS} are written as two of half the load"
        yield NotLookedAt("addresses needed, flows halved", "", why)
        return
    for name, flow in flows.items():
        # What hangs on each flow by itself cannot be halved.
        if flow.max_per_host is not None or flow.is_pooled:
            continue
        keys = (*LOADS, "out_gib_per_month", "in_gib_per_month")
        half = {key: value / 2 for key in keys if (value := getattr(flow, key)) is not None}
        patch[name], patch[f"{name}, half of it"] = half, {**described.data["flows"][name], **half}
    halved = evaluate(described.patched({"flows": patch}, "halves"))
    for exit_ in evaluation.capacity.exits:
        other = halved.capacity.of(exit_.exit, exit_.toward)
        if other is None or exit_.ports is None or other.ports is None:
            continue
        method = "each flow written as two of half the load"
        yield Audited("ports wanted, flows halved", exit_.name, exit_.ports.concurrent, other.ports.concurrent, method)
        yield Audited("addresses needed, flows halved", exit_.name, exit_.needed or 0, other.needed or 0, method)


_MOST_FLOWS = 300
