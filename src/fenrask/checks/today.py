"""What an estate does not deliver, carry or meet as it is: what leads every answer, and decides every exit status."""

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from fenrask.checks import errors_of
from fenrask.evaluation import Evaluation

__all__ = ["Today", "today"]


@dataclass(frozen=True)
class Today:
    """Errors of an estate that its exceptions do not accept: what `check` finds, told by whom it concerns."""

    errors: tuple[tuple[str, str], ...]
    """The rule and the place of each."""
    flows: int
    """All flows that there are."""
    lost: Mapping[str, Fraction]
    """The part of each flow that does not arrive, of those of which some does not."""
    reasons: tuple[str, ...]
    """Why these are lost, each once."""
    unmet: tuple[str, ...]
    """Flows that arrive and break a need."""
    short: tuple[str, ...]
    """Exits that do not carry their load, now or after a fault that a flow is to survive."""
    covered: float
    """The share of all connections that are open in the mean which arrives."""

    @property
    def is_well(self) -> bool:
        """Whether there is none."""
        return not self.errors


def today(evaluation: Evaluation) -> Today:
    """What is wrong with an estate as it is."""
    paths = evaluation.paths
    lost: dict[str, Fraction] = {}
    reasons: dict[str, None] = {}
    for path in paths.lost:
        lost[path.flow] = lost.get(path.flow, Fraction(0)) + path.share
        reasons.setdefault(path.trace.why)
    broken = {one.flow for one in evaluation.broken}
    return Today(
        errors=tuple(errors_of(evaluation)),
        flows=len(paths.flows),
        lost=lost,
        reasons=tuple(reasons),
        unmet=tuple(name for name in paths.flows if name in broken and name not in lost),
        short=tuple(one.name for one in evaluation.short),
        covered=_covered(evaluation, lost),
    )


def _covered(evaluation: Evaluation, lost: Mapping[str, Fraction]) -> float:
    """The share of the connections that are open in the mean, of flows as they are stated, that arrives."""
    traffic = evaluation.described.traffic
    opened = traffic.mean_new_per_s * np.nan_to_num(traffic.duration_s) + traffic.persistent
    whole = float(opened.sum())
    missing = sum(float(opened[traffic.number[flow]]) * float(part) for flow, part in lost.items())
    return 1.0 - missing / whole if whole > 0 else float(not lost or len(lost) < len(traffic.names))
