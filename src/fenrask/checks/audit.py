"""Each result by a second method, and what disagrees: sums that must be kept, recursions, plain reckoning by floats.

No second method shares code with the first beyond the estate itself and the paths.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Network, IPv6Network, collapse_addresses
from typing import Any

import numpy as np

from fenrask.capacity import ExitCapacity
from fenrask.demand import Load
from fenrask.estate import LOADS
from fenrask.evaluation import Evaluation, evaluate

__all__ = ["Audited", "audit"]

_NEAR = 1e-6
_MOST_STEPS = 4_000_000
"""Ports that the recursion goes through, in all; exits beyond are said not to be audited."""


@dataclass(frozen=True)
class Audited:
    """One figure by both methods."""

    what: str
    about: str
    first: float
    second: float
    method: str
    """The second one."""
    near: float = _NEAR

    @property
    def agrees(self) -> bool:
        return math.isclose(self.first, self.second, rel_tol=self.near, abs_tol=1e-12)


def audit(evaluation: Evaluation) -> Iterator[Audited]:
    """Shares, connections over hops, bytes, the bill, blocking, ports wanted, addresses needed, allow-lists."""
    yield from _shares(evaluation)
    yield from _rates(evaluation)
    yield from _volumes(evaluation)
    yield from _sums(evaluation)
    yield from _blocking(evaluation)
    yield from _held(evaluation)
    yield from _in_halves(evaluation)
    yield from _lists(evaluation)


def _shares(evaluation: Evaluation) -> Iterator[Audited]:
    for flow, paths in evaluation.paths.by_flow.items():
        found = math.fsum(float(path.share) for path in paths)
        yield Audited("shares of paths", flow, found, 1.0, "parts of a whole")


def _per_s(evaluation: Evaluation, name: str) -> float:
    """New connections per second in the mean, or requests where these are stated, by floats."""
    estate = evaluation.described.estate
    flow = estate.flows[name]
    if flow.persistent_per_host is not None:
        return 0.0
    if flow.users is not None:
        rate = flow.users * (flow.connections_per_user or 0.0) / flow.duration_mean_s
    else:
        rate = estate.workloads[flow.workload].hosts * (flow.per_host_per_s or flow.requests_per_host_per_s or 0.0)
    profile = estate.profiles.get(flow.profile or "", (1.0,))
    return rate * math.fsum(profile) / len(profile)


def _opened_per_s(evaluation: Evaluation, name: str) -> float:
    """New connections per second in the mean, by floats."""
    traffic, flow = evaluation.described.traffic, evaluation.described.estate.flows[name]
    if not flow.is_pooled:
        return _per_s(evaluation, name)
    pooled = traffic.pooled[traffic.number[name]]
    hosts = evaluation.described.estate.workloads[flow.workload].hosts
    return hosts * pooled.new_per_s * math.fsum(pooled.multipliers) / len(pooled.multipliers)


def _rates(evaluation: Evaluation) -> Iterator[Audited]:
    """What enters an exit is what flows send that pass it, hop by hop."""
    second: dict[str, float] = {}
    for path in evaluation.paths.paths:
        for name in dict.fromkeys(path.example.exits) if path.example.verdict.arrives else ():
            second[name] = second.get(name, 0.0) + float(path.share) * _opened_per_s(evaluation, path.flow)
    limited = evaluation.described.limits_of
    for name, parts in evaluation.demand.at_exit.items():
        # A bare door counts only what nothing else on its path keeps.
        if limited(name) is None:
            continue
        # What is always open, and opened again after idle timeouts, is not among what flows say of rates.
        moving = (part for part in parts if part.duration_s is not None)
        first = math.fsum(part.rate_per_s * part.curve.mean_profile for part in moving)
        yield Audited("new connections/s", name, first, second.get(name, 0.0), "flows over hops")


def _volumes(evaluation: Evaluation) -> Iterator[Audited]:
    """What is billed as processed is what flows carry through the exit."""
    described = evaluation.described
    unit = 1e9 if described.catalogue.volume_unit == "GB" else float(2**30)
    seconds = float(described.catalogue.hours_per_month) * 3600
    carried: dict[str, float] = {}
    for path in evaluation.paths.paths:
        flow = described.estate.flows[path.flow]
        connections = _per_s(evaluation, path.flow) * seconds
        each = sum(
            gib * 2**30 if gib is not None else connections * (kib or 0.0) * 1024
            for kib, gib in (
                (flow.out_kib_per_connection, flow.out_gib_per_month),
                (flow.in_kib_per_connection, flow.in_gib_per_month),
            )
        )
        for name in dict.fromkeys(path.example.exits) if path.example.verdict.arrives else ():
            carried[name] = carried.get(name, 0.0) + float(path.share) * each / unit
    billed: dict[str, float] = {}
    for line in evaluation.bill.lines:
        if line.item == "processed" and line.about in described.estate.exits and line.reason == "both ways":
            billed[line.about] = billed.get(line.about, 0.0) + float(line.quantity)
    for name, quantity in billed.items():
        yield Audited(
            f"{described.catalogue.volume_unit} processed", name, quantity, carried.get(name, 0.0), "flows over hops"
        )


def _sums(evaluation: Evaluation) -> Iterator[Audited]:
    bill = evaluation.bill
    total = float(bill.total)
    plain = math.fsum(float(line.quantity) * float(line.rate) for line in bill.lines)
    yield Audited("the month's bill", "", total, plain, "quantity x rate by floats")
    for what, divided in (("exits", bill.by_exit), ("flows", bill.by_flow), ("cost centres", bill.by_cost_centre)):
        yield Audited("the month's bill", f"by {what}", math.fsum(map(float, divided.values())), total, "sum of parts")


def _blocking(evaluation: Evaluation) -> Iterator[Audited]:
    """Where ports are shared and tried one by one until one is free, Erlang's recursion (Erlang 1917)."""
    steps = 0
    for one in evaluation.capacity.exits:
        streams = [stream for stream in one.streams if stream.busiest > 0]
        if not one.ports or not streams or not one.assignment.adds_up(streams, one.how):
            continue
        size = round(one.port_limit.capacity)
        steps += size
        if steps > _MOST_STEPS or not 0 < size < _MOST_STEPS:
            return
        # Each node has its own part of ports and load.
        parts = one.assignment.division(streams[0], one.addresses, one.how).even_cells
        top = max(stream.load.peak.concurrent for stream in streams) / parts
        blocked = _recursion(top, size // parts)
        # The mean of those who find no port at the worst moment of the binding pool.
        yield Audited("blocking", one.name, one.blocking, blocked, "Erlang's recursion", 0.01)
        yield from _needed(one, top, parts)


def _needed(one: ExitCapacity, top: float, parts: int) -> Iterator[Audited]:
    """One address fewer than is needed is too few, and as many are enough."""
    if one.needed_now is None or one.needed_now != one.needed:
        return
    each = round(one.how.per_address) // parts
    enough = _recursion(top, each * one.needed_now) <= one.target
    short = one.needed_now <= 1 or _recursion(top, each * (one.needed_now - 1)) > one.target
    yield Audited("addresses needed", one.name, 1.0, float(enough and short), "Erlang's recursion, and one fewer")


def _recursion(load: float, servers: int) -> float:
    """B(n) = A B(n-1) / (n + A B(n-1)), with its inverse, which does not underflow."""
    inverse = 1.0
    for n in range(1, servers + 1):
        inverse = 1.0 + inverse * n / load
        if inverse > 1e300:
            return 0.0
    return 1.0 / inverse


def _held(evaluation: Evaluation) -> Iterator[Audited]:
    """Ports wanted at the peak, as an integral of the rate before it; and that what fits has ports to spare."""
    for one in evaluation.capacity.exits:
        if one.ports is None:
            continue
        if one.fits and one.target <= _SMALL:
            yield Audited("ports lacking where all fits", one.name, min(0.0, one.ports.headroom), 0.0, "none may")
        stream = next((each for each in one.streams if each.label == one.ports.binding), None)
        if stream is not None and stream.load.numbers.size <= _MOST_LAWS:
            peak = stream.load.peak
            method = "rate before x share still held, in small steps"
            yield Audited("ports wanted", one.name, peak.concurrent, _integral(stream.load, peak.time_s), method, 0.01)


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


def _in_halves(evaluation: Evaluation) -> Iterator[Audited]:
    """The same load, each flow written as two of half of it: ports and addresses are as many."""
    described, patch = evaluation.described, dict[str, dict[str, Any]]()
    flows = described.estate.flows
    if len(flows) > _MOST_FLOWS:
        return
    for name, flow in flows.items():
        # What hangs on each flow by itself cannot be halved.
        if flow.max_per_host is not None or flow.is_pooled:
            continue
        keys = (*LOADS, "out_gib_per_month", "in_gib_per_month")
        half = {key: value / 2 for key in keys if (value := getattr(flow, key)) is not None}
        patch[name], patch[f"{name}, half of it"] = half, {**described.data["flows"][name], **half}
    halved = evaluate(described.patched({"flows": patch}, "halves"))
    for one in evaluation.capacity.exits:
        other = halved.capacity.of(one.exit, one.toward)
        if other is None or one.ports is None or other.ports is None:
            continue
        method = "each flow as two of half the load"
        yield Audited("ports of the pool that binds", one.name, one.ports.concurrent, other.ports.concurrent, method)
        yield Audited("addresses for one load", one.name, one.needed or 0, other.needed or 0, method)


_MOST_FLOWS = 300


def _lists(evaluation: Evaluation) -> Iterator[Audited]:
    """As few prefixes as can hold the listed addresses, by the standard library."""
    for one in evaluation.plan.exits:
        listed = evaluation.described.estate.exits[one.exit].listed_toward(one.toward)
        if listed:
            four = collapse_addresses(IPv4Network(str(each)) for each in listed if each.version == 4)
            six = collapse_addresses(IPv6Network(str(each)) for each in listed if each.version == 6)
            fewest = len([*four]) + len([*six])
            yield Audited("allow-list entries", one.name, one.entries, fewest, "ipaddress.collapse_addresses")
