"""Whether exits keep to their limits beside ports, over samples of the loads.

What a limit counts adds up from what each flow uses of it, by the same functions that say what all of them use; each
sample has its own share of what each flow is likely to use.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from fenrask.capacity import LIMITS, ExitLimits, Groups, Limit, LimitUse, Present, Use, uses
from fenrask.demand import Part, Parts
from fenrask.evaluation import Evaluation
from fenrask.what_if.ranges import Floats, Samples

__all__ = ["LimitConfidence", "kept"]


@dataclass(frozen=True)
class LimitConfidence:
    """One limit of an exit beside its ports, over all samples."""

    exit: str
    limit: LimitUse
    use: float
    """What is not passed with the confidence asked for, in the limit's own unit."""
    kept: float
    """The share of samples in which it is kept to."""


def kept(evaluation: Evaluation, level: float, samples: Samples) -> Iterator[LimitConfidence]:
    """The limits that some samples exceed. level: the confidence."""
    for exit_limits in evaluation.capacity.every if samples.places else ():
        told = {limit.limit: limit for limit in exit_limits.limits}
        for limit, used in _used(evaluation, exit_limits, samples):
            likely = told.get(limit.name)
            if likely is not None and float(np.max(used)) * likely.use > likely.capacity:
                use = likely.use * used
                within = float(np.mean(use <= likely.capacity * (1 + 1e-12)))
                yield LimitConfidence(exit_limits.exit, likely, float(np.quantile(use, level)), within)


def _used(evaluation: Evaluation, exit_limits: ExitLimits, samples: Samples) -> Iterator[tuple[Limit, Floats]]:
    """What an exit uses of each limit, as a multiple of what is likely, shape (n_samples,)."""
    described, demand = evaluation.described, evaluation.demand
    offer, parts = described.offer_of(exit_limits.exit), demand.at_exit.get(exit_limits.exit, ())
    if offer is None or not parts or not exit_limits.limits:
        return
    some = Parts.of(parts)
    _, first, group = np.unique(some.flow, return_index=True, return_inverse=True)
    groups = Groups(some, group, first.size, in_the_mean=True)
    peaks: dict[str, tuple[float, Floats]] = {}
    # How many nodes share it makes no difference to how a sample stands to what is likely.
    for key, _, use in uses(demand, exit_limits.exit, groups, offer, 1):
        if isinstance(use, Use):
            factors = _factors(LIMITS[key], [some[number] for number in first.tolist()], samples)
            likely, sampled = float(np.max(use.series.sum(axis=0))), _peaks(use.series, factors)
        elif isinstance(use, Present):
            likely, sampled = _present(use, samples)
        else:
            # What one connection carries is no more for there being more of them.
            continue
        before = peaks.get(key, (0.0, sampled))
        peaks[key] = (max(before[0], likely), np.maximum(before[1], sampled))
    for key, (likely, sampled) in peaks.items():
        if likely:
            yield LIMITS[key], sampled / likely


def _factors(limit: Limit, parts: Sequence[Part], samples: Samples) -> Floats:
    """By flow, of which one part stands for all: what a sample has of what the limit counts, (n_samples, n_flows)."""
    by: dict[str, Floats] = {}
    for part in parts:
        if limit.follows == "held":
            by[part.flow] = samples.held(part)
        elif limit.follows == "carried":
            by[part.flow] = samples.rate(part.flow) * samples.volumes[part.flow]
        else:
            by[part.flow] = samples.rate(part.flow)
    return np.stack([*by.values()], axis=1)


_FEW = 16
"""Samples that tell the laws of two flows apart."""


def _peaks(series: Floats, factors: Floats) -> Floats:
    """The most of each sample through the day, shape (n_samples,); series by flow, (n_flows, n_times)."""
    # Flows of one law are one, and those that are certain.
    _, first, law = np.unique(factors[:_FEW], axis=1, return_index=True, return_inverse=True)
    together = np.zeros((first.size, series.shape[1]))
    np.add.at(together, law.ravel(), series)
    most: Floats = (factors[:, first] @ together).max(axis=1)
    return most


def _present(use: Present, samples: Samples) -> tuple[float, Floats]:
    """What counts once, by its members: hosts are as many as a sample has of them."""
    there = np.any(use.there, axis=0)
    total = np.zeros(samples.size)
    for place in np.flatnonzero(there).tolist():
        member = use.members[place]
        name = member[0] if isinstance(member, tuple) else ""
        total = total + use.amount[place] * samples.hosts.get(name, 1.0)
    return float(np.ceil(use.amount[there].sum() - 1e-9)), np.ceil(total - 1e-9)
