"""What a longer or a shorter mapping timeout costs in ports and addresses: a sweep of one, exit by exit."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from fenrask.capacity import ExitCapacity, given
from fenrask.estate import Described
from fenrask.evaluation import evaluate, quiet_through

__all__ = ["AtTimeout", "adjustable", "sweep"]


_OF_QUIET = ("idle", "udp_idle", "udp_answered")
"""The timeouts that end connections which are quiet."""


@dataclass(frozen=True)
class AtTimeout:
    """An exit with a mapping timeout set to some seconds."""

    exit: str
    seconds: float
    is_current: bool
    sized: ExitCapacity
    month: Fraction
    """What the exit costs a month with it, and with as many addresses as are then needed."""
    ends: tuple[str, ...] = ()
    """The flows that keep connections quiet for longer: theirs end unnoticed."""


def adjustable(described: Described, ending: str) -> list[str]:
    """The exits that can set this timeout for themselves."""
    found = []
    for name in described.estate.exits:
        offer = described.offer_of(name)
        if offer is not None and offer.mapping_timeout_s.bounds(ending):
            found.append(name)
    return found


def sweep(described: Described, ending: str, each_s: Sequence[float], exits: Sequence[str]) -> list[AtTimeout]:
    """Each exit with each of these timeouts, as far as its offer allows it, and with the one that it has."""
    found = []
    for name in exits:
        offer = described.offer_of(name)
        bounds = offer.mapping_timeout_s.bounds(ending) if offer else None
        if bounds is None:
            continue
        now, quiet = bounds.default, quiet_through(evaluate(described).paths, name) if ending in _OF_QUIET else {}
        for value in sorted({*(one for one in each_s if bounds.min <= one <= bounds.max), now}):
            patch = {"exits": {name: {"mapping_timeout_s": {ending: value}}}}
            evaluation = evaluate(described.patched(patch, "--timeout"))
            rows = [one for one in evaluation.capacity.exits if one.exit == name]
            if rows:
                sized = max(rows, key=lambda row: row.blocking)
                needing = {"exits": given((one, one.most_needed) for one in rows if one.most_needed)}
                then = evaluate(evaluation.described.patched(needing, "needed"), like=evaluation)
                month = then.bill.by_exit.get(name, Fraction(0))
                ends = tuple(flow for flow, seconds in quiet.items() if seconds >= value)
                found.append(AtTimeout(name, value, value == now, sized, month, ends))
    return found
