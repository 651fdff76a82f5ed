"""The choice, priced again: the programme's sum against the bill of the estate that it leads to, and that by floats."""

from collections.abc import Iterator

from fenrask.errors import NoAnswer, UnusableInput
from fenrask.evaluation import Evaluation
from fenrask.optimise import Wanted, choose
from fenrask.what_if.second_methods.bills import MONTHLY, audited_bill
from fenrask.what_if.second_methods.contract import Audited, NotLookedAt

__all__ = ["audited_choice"]

_MOST_FLOWS = 300


def audited_choice(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """What the cheapest mix costs, by the programme, by the bill, and by the rates as they are written."""
    described = evaluation.described
    if len(described.estate.flows) > _MOST_FLOWS:
        yield NotLookedAt(
            "the choice", "", f"{len(described.estate.flows):,} flows; up to {_MOST_FLOWS} are chosen for"
        )
        return
    try:
        found = choose(described, Wanted(explain=False))
    except (NoAnswer, UnusableInput) as error:
        yield NotLookedAt("the choice", "", f"there is none: {error}")
        return
    if found.not_counted:
        yield NotLookedAt("the choice by its programme", "", f"its proof leaves out: {found.not_counted[0]}")
    elif not found.design and found.patch:
        yield Audited("the choice: monthly bill", "", found.month, found.mix.month, "the programme's sum")
    for audited in audited_bill(found.evaluation):
        if isinstance(audited, Audited) and audited.what == MONTHLY:
            yield Audited(f"the choice: {MONTHLY}", audited.about, audited.first, audited.second, audited.method)
