"""One evaluation of an estate: paths, demand, capacity, addresses, bill, needs; every verdict is read off it."""

from fenrask.evaluation.explained import explain
from fenrask.evaluation.needs import ALLOWED, BY_SIZE, NEEDS, BrokenNeed, broken_needs, every_broken_need, not_allowed
from fenrask.evaluation.stages import Evaluation, evaluate
from fenrask.evaluation.surviving import Survived, Surviving

__all__ = [
    "ALLOWED",
    "BY_SIZE",
    "NEEDS",
    "Survived",
    "Surviving",
    "BrokenNeed",
    "Evaluation",
    "broken_needs",
    "evaluate",
    "every_broken_need",
    "explain",
    "not_allowed",
]
