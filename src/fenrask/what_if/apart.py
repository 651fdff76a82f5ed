"""Cases worked out apart, by other processes or a cluster: an estate goes there, plain results come back.

The results are the same as from one process, to the last digit, and in the same order.
"""

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import replace
from fractions import Fraction

from fenrask.estate import Case, Described
from fenrask.evaluation import evaluate
from fenrask.progress import gone_through
from fenrask.what_if.confidence import Confident, confident
from fenrask.what_if.growth import Growth, grown, month
from fenrask.what_if.outcomes import Outcome, zone_losses
from fenrask.what_if.stress import stress

__all__ = ["confident_apart", "grow_apart", "stress_apart", "zone_losses_apart"]


def stress_apart(
    executor: Executor, shares: int, described: Described, cases: Mapping[str, Case], explain: bool
) -> list[Outcome]:
    """The outcomes of `stress`, the cases dealt out to so many workers, each of which evaluates the estate once.

    explain: whether they tell how ports are computed.
    """
    names = list(cases)
    dealt = [names[first::shares] for first in range(min(shares, len(names)))]
    futures = [executor.submit(_outcomes, described, {name: cases[name] for name in some}, explain) for some in dealt]
    found = {one.case: one for future in gone_through(futures, "share of the cases") for one in future.result()}
    return [found[name] for name in names]


def _outcomes(described: Described, cases: Mapping[str, Case], explain: bool) -> list[Outcome]:
    return [(one.explained() if explain else one).handed_over() for one in stress(described, cases)]


def zone_losses_apart(executor: Executor, estates: Sequence[Described]) -> list[tuple[Outcome, ...]]:
    """What the loss of each zone does to each of several estates."""
    futures = [executor.submit(_losses, described) for described in estates]
    return [future.result() for future in gone_through(futures, "design")]


def _losses(described: Described) -> tuple[Outcome, ...]:
    return tuple(one.handed_over() for one in zone_losses(evaluate(described)))


def confident_apart(executor: Executor, estates: Sequence[Described], level: float) -> list[Confident]:
    """The bill's spread in each of several estates; of exits nothing is handed over."""
    futures = [executor.submit(_confident, one, level) for one in estates]
    return [future.result() for future in gone_through(futures, "design")]


def _confident(described: Described, level: float) -> Confident:
    return replace(confident(evaluate(described), level), exits=())


def grow_apart(
    executor: Executor, described: Described, months: int, share: float = 0.0, budget: Fraction | None = None
) -> Growth:
    """`grow`, each month by itself."""
    futures = [executor.submit(month, described, number, share, budget) for number in range(months + 1)]
    return grown(future.result() for future in gone_through(futures, "month"))
