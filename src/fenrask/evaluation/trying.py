"""Whether what is advised does harm: the estate with it is evaluated like any other, and compared with the first."""

from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import Any

from fenrask.errors import UnusableInput
from fenrask.estate.suggestions import some
from fenrask.evaluation.stages import Evaluation, evaluate

__all__ = ["harm", "tried"]


def tried(before: Evaluation, patch: Mapping[str, Any], name: str) -> Evaluation | None:
    """The estate with what is advised; None where that does not hold together, or does harm."""
    try:
        after = evaluate(before.described.patched(dict(patch), name), like=before)
        return None if harm(before, after) else after
    except UnusableInput:
        return None


def harm(before: Evaluation, after: Evaluation) -> str:
    """What an estate does worse than another: flows lost, needs broken, exits that lack something; or nothing."""
    lost = before.paths.lost_shares
    after_all = after.paths.lost_shares
    more = [
        f"{flow} from {subnet}" for (flow, subnet), share in after_all.items() if share > lost.get((flow, subnet), 0)
    ]
    if more:
        return f"{some(more)} would be lost"
    # What is lost already meets nothing.
    known = {(one.flow, one.need) for one in before.broken} | {(flow, "") for flow, _ in lost}
    broken = [one for one in after.broken if (one.flow, one.need) not in known and (one.flow, "") not in known]
    if broken:
        return f"{broken[0].flow} would break {broken[0].need}"
    if any(share < lost[key] for key, share in _still(after, lost)):
        # What arrives now has to be carried, too: that is another finding.
        return ""
    short = {one.name for one in before.short}
    lacking = [one.name for one in after.short if one.name not in short]
    if lacking:
        return f"{some(lacking)} would not carry what comes there"
    return "" if before.too_much_work else after.too_much_work


def _still(after: Evaluation, lost: Mapping[tuple[str, str], Fraction]) -> Iterator[tuple[tuple[str, str], Fraction]]:
    """What of that which was lost still is."""
    then = after.paths.lost_shares
    return ((key, then.get(key, Fraction(0))) for key in lost)
