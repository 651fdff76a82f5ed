"""Whether what is advised does harm: the estate with it is evaluated like any other, and compared with the first."""

from collections.abc import Mapping
from fractions import Fraction
from typing import Any, NamedTuple

from fenrask.addresses import Change
from fenrask.errors import UnusableInput
from fenrask.estate.suggestions import some
from fenrask.evaluation.stages import Evaluation, evaluate

__all__ = ["Next", "comes_next", "harm", "tried"]


def tried(before: Evaluation, patch: Mapping[str, Any], name: str) -> Evaluation | None:
    """The estate with what is advised; None where that does not hold together, or does harm."""
    try:
        after = evaluate(before.described.patched(dict(patch), name), like=before)
        return None if harm(before, after) else after
    except UnusableInput:
        return None


def harm(before: Evaluation, after: Evaluation) -> str:
    """What an estate does worse than another: flows lost, needs broken, exits that lack something; or nothing.

    Also an allow-list that becomes too short for the addresses that exits need and do not have yet.
    """
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
    more_there = _carrying_more(after, lost)
    short = {one.name for one in before.short}
    lacking = [one.name for one in after.short if one.name not in short and one.exit not in more_there]
    if lacking:
        return f"{some(lacking)} would not carry what comes there"
    too_short = {one.destination for one in _lists_too_short(before, after) if one.exit not in more_there}
    # How many entries a list needs is known once some number of addresses suffices.
    if too_short and all(one.most_needed is not None for one in before.capacity.exits):
        return f"the allow-list of {some(sorted(too_short))} would be too short"
    return "" if before.too_much_work else after.too_much_work


class Next(NamedTuple):
    """What an estate brings up that another hid: what is to be mended next."""

    lacking: tuple[str, ...]
    """Exits that do not carry what arrives now."""
    breaking: tuple[str, ...]
    """Flows that arrive now and break another need."""
    too_short: tuple[str, ...]
    """Destinations whose allow-lists are too short for what exits are now known to need."""


def comes_next(before: Evaluation, after: Evaluation) -> Next:
    """What `harm` does not count, since it is about flows that were lost, or exits that no addresses sufficed for."""
    already = {one.name for one in before.short}
    lacking = tuple(one.exit for one in after.short if one.name not in already)
    lost, known = before.paths.lost_shares, {(one.flow, one.need) for one in before.broken}
    flows = {flow for flow, _ in lost}
    broken = (one.flow for one in after.broken if one.flow in flows and (one.flow, one.need) not in known)
    too_short = (one.destination for one in _lists_too_short(before, after))
    return Next(tuple(dict.fromkeys(lacking)), tuple(dict.fromkeys(broken)), tuple(dict.fromkeys(too_short)))


def _lists_too_short(before: Evaluation, after: Evaluation) -> list[Change]:
    """Where an allow-list becomes too short for the addresses that an exit needs and does not have yet."""
    was = {one.destination for one in before.plan.changes if not one.fits}
    return [one for one in after.plan.changes if not one.fits and one.destination not in was]


def _carrying_more(after: Evaluation, lost: Mapping[tuple[str, str], Fraction]) -> set[str]:
    """The exits that carry what was lost before and arrives now: what they lack then is another finding."""
    then, found = after.paths.lost_shares, set[str]()
    for (flow, subnet), share in lost.items():
        if then.get((flow, subnet), Fraction(0)) < share and flow in after.paths.by_flow:
            own = (path for path in after.paths.by_flow[flow] if path.subnet == subnet)
            found.update(name for path in own if path.example.verdict.arrives for name in path.example.exits)
    return found
