"""Shares, connections over hops, and allow-lists: plain sums along the paths."""

import math
from collections.abc import Collection, Iterator
from ipaddress import IPv4Network, IPv6Network, collapse_addresses

from fenrask.evaluation import Evaluation
from fenrask.prefixes import Address
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
    """As few prefixes as can hold the listed addresses, by the standard library; a held block of its own is one."""
    estate = evaluation.described.estate
    everyone = [address for exit_ in estate.exits.values() for address in exit_.every_listed]
    for planned in evaluation.plan.exits:
        left, blocks = {*estate.exits[planned.exit].listed_toward(planned.toward)}, 0
        if not left:
            continue
        for stated in estate.public_addresses.values():
            inside = {address for address in left if address in stated.address}
            if _joined(inside) > 1 and inside == {address for address in everyone if address in stated.address}:
                left, blocks = left - inside, blocks + 1
        fewest = blocks + _joined(left)
        yield Audited(
            "allow-list entries", planned.name, planned.entries, fewest, "prefixes joined by Python's library"
        )


def _joined(addresses: Collection[Address]) -> int:
    """How many prefixes hold exactly these."""
    four = collapse_addresses(IPv4Network(str(one)) for one in addresses if one.version == 4)
    six = collapse_addresses(IPv6Network(str(one)) for one in addresses if one.version == 6)
    return len([*four]) + len([*six])
