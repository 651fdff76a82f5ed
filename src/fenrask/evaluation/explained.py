"""How the figures of an evaluation are computed."""

from collections.abc import Iterator

from fenrask.capacity import explain_capacity
from fenrask.charges import explain_bill
from fenrask.derivation import Step
from fenrask.evaluation.stages import Evaluation

__all__ = ["explain"]


def explain(evaluation: Evaluation, most_lines: int | None = None) -> Iterator[Step]:
    """The ports of each exit, the fullest first, then the bill, its largest lines first."""
    yield from explain_capacity(evaluation.capacity)
    yield from explain_bill(evaluation.bill, most_lines)
