"""What a longer or a shorter mapping timeout costs in ports and addresses: a sweep of one, exit by exit."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from fenrask.capacity import ExitCapacity
from fenrask.estate import Described
from fenrask.evaluation import evaluate

__all__ = ["AtTimeout", "adjustable", "sweep"]


@dataclass(frozen=True)
class AtTimeout:
    """An exit with a mapping timeout set to some seconds."""

    exit: str
    seconds: float
    is_current: bool
    sized: ExitCapacity
    month: Fraction
    """What the exit costs a month with it."""


def adjustable(described: Described, ending: str) -> list[str]:
    """The exits that can set this timeout for themselves."""
    found = []
    for name in described.estate.exits:
        offer = described.offer_of(name)
        if offer is not None and offer.mapping_timeout_s.bounds(ending):
            found.append(name)
    return found


def sweep(described: Described, ending: str, seconds: Sequence[float], exits: Sequence[str]) -> list[AtTimeout]:
    """Each exit with each of these timeouts, as far as its offer allows it, and with the one that it has."""
    found = []
    for name in exits:
        offer = described.offer_of(name)
        bounds = offer.mapping_timeout_s.bounds(ending) if offer else None
        if bounds is None:
            continue
        now = bounds.default
        for value in sorted({*(one for one in seconds if bounds.min <= one <= bounds.max), now}):
            patch = {"exits": {name: {"mapping_timeout_s": {ending: value}}}}
            evaluation = evaluate(described.patched(patch, "--timeout"))
            rows = [one for one in evaluation.capacity.exits if one.exit == name]
            if rows:
                sized = max(rows, key=lambda one: one.blocking)
                month = evaluation.bill.by_exit.get(name, Fraction(0))
                found.append(AtTimeout(name, value, value == now, sized, month))
    return found
