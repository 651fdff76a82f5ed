"""One evaluation of an estate: paths, demand, capacity, addresses, bill, needs; every verdict is read off it."""

from fenrask.evaluation.divided import divided, divisible
from fenrask.evaluation.explained import explain
from fenrask.evaluation.needs import (
    ALLOWED,
    NEEDS,
    SURVIVES,
    BrokenNeed,
    Given,
    Need,
    broken_needs,
    by_size,
    every_broken_need,
    is_asked,
    most_entries,
    not_allowed,
    wanted_on_the_way,
)
from fenrask.evaluation.quiet import quiet_through
from fenrask.evaluation.stages import Evaluation, evaluate
from fenrask.evaluation.surviving import Survived, Surviving
from fenrask.evaluation.trying import comes_next, harm, tried

__all__ = [
    "ALLOWED",
    "NEEDS",
    "SURVIVES",
    "Survived",
    "Surviving",
    "BrokenNeed",
    "Need",
    "Evaluation",
    "Given",
    "broken_needs",
    "by_size",
    "divided",
    "divisible",
    "comes_next",
    "evaluate",
    "every_broken_need",
    "explain",
    "harm",
    "is_asked",
    "most_entries",
    "not_allowed",
    "quiet_through",
    "tried",
    "wanted_on_the_way",
]
