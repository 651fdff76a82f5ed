"""Whether what is advised does harm: the estate with it is evaluated like any other, and compared with the first."""

from collections.abc import Mapping
from fractions import Fraction
from typing import Any

from fenrask.errors import UnusableInput
from fenrask.estate.suggestions import some
from fenrask.evaluation.stages import Evaluation, evaluate

__all__ = ["comes_next", "harm", "tried"]


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
    short = {one.name for one in before.short} | _carrying_more(after, lost)
    lacking = [one.name for one in after.short if one.name not in short]
    if lacking:
        return f"{some(lacking)} would not carry what comes there"
    return "" if before.too_much_work else after.too_much_work


def comes_next(before: Evaluation, after: Evaluation) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What `harm` does not count, since it is about flows that were lost: the next thing to mend.

    Returns: exits that do not carry what arrives now, and flows that arrive now and break another need.
    """
    already = {one.name for one in before.short}
    lacking = tuple(one.exit for one in after.short if one.name not in already)
    lost, known = before.paths.lost_shares, {(one.flow, one.need) for one in before.broken}
    flows = {flow for flow, _ in lost}
    broken = (one.flow for one in after.broken if one.flow in flows and (one.flow, one.need) not in known)
    return tuple(dict.fromkeys(lacking)), tuple(dict.fromkeys(broken))


def _carrying_more(after: Evaluation, lost: Mapping[tuple[str, str], Fraction]) -> set[str]:
    """The exits that carry what was lost before and arrives now: that they lack something then is another finding."""
    then, found = after.paths.lost_shares, set[str]()
    for (flow, subnet), share in lost.items():
        if then.get((flow, subnet), Fraction(0)) < share and flow in after.paths.by_flow:
            own = (path for path in after.paths.by_flow[flow] if path.subnet == subnet)
            found.update(name for path in own if path.example.verdict.arrives for name in path.example.exits)
    return {one.name for one in after.short if one.exit in found}
