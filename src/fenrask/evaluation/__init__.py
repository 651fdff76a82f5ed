"""One evaluation of an estate: paths, demand, capacity, addresses, bill, needs; every verdict is read off it."""

from fenrask.evaluation.needs import NEEDS, BrokenNeed, broken_needs
from fenrask.evaluation.stages import Evaluation, evaluate

__all__ = ["NEEDS", "BrokenNeed", "Evaluation", "broken_needs", "evaluate"]
