"""Shares, connections over hops, and allow-lists: plain sums along the paths."""

import math
from collections.abc import Iterator
from ipaddress import IPv4Network, IPv6Network, collapse_addresses

from fenrask.evaluation import Evaluation
from fenrask.what_if.second_methods.bills import per_s
from fenrask.what_if.second_methods.contract import Audited

__all__ = ["audited_loads"]


def audited_loads(evaluation: Evaluation) -> Iterator[Audited]:
    """Shares of paths, connections over hops, entries of allow-lists."""
    yield from _shares(evaluation)
    yield from _rates(evaluation)
    yield from _lists(evaluation)


def _shares(evaluation: Evaluation) -> Iterator[Audited]:
    for flow, paths in evaluation.paths.by_flow.items():
        found = math.fsum(float(path.share) for path in paths)
        yield Audited("sum of path shares", flow, found, 1.0, "all of the flow")


def _opened_per_s(evaluation: Evaluation, name: str) -> float:
    """New connections per second in the mean, by floats."""
    traffic, flow = evaluation.described.traffic, evaluation.described.estate.flows[name]
    if not flow.is_pooled:
        return per_s(evaluation, name)
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
        yield Audited("new connections/s", name, first, second.get(name, 0.0), "added up over hops")


def _lists(evaluation: Evaluation) -> Iterator[Audited]:
    """As few prefixes as can hold the listed addresses, by the standard library."""
    for exit_ in evaluation.plan.exits:
        listed = evaluation.described.estate.exits[exit_.exit].listed_toward(exit_.toward)
        if listed:
            four = collapse_addresses(IPv4Network(str(each)) for each in listed if each.version == 4)
            six = collapse_addresses(IPv6Network(str(each)) for each in listed if each.version == 6)
            fewest = len([*four]) + len([*six])
            yield Audited(
                "allow-list entries", exit_.name, len(exit_.listed), fewest, "prefixes joined by Python's library"
            )
