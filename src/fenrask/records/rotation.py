"""How a rotating name drifts: the union of what it answered, and how many new addresses come in a week."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from fenrask.estate.history import Answered
from fenrask.prefixes import Address

__all__ = ["Rotation", "rotations"]

_WEEK_S = 7 * 86_400


@dataclass(frozen=True)
class Rotation:
    """All that one name answered between its first and its last look-up."""

    name: str
    addresses: tuple[Address, ...]
    looks: int
    first: str
    last: str
    new_per_week: float | None
    """Addresses that were not in its first answer, by week; None where only one look-up is known."""


def rotations(answers: Sequence[Answered], names: Iterable[str]) -> list[Rotation]:
    """The rotation of each name that was looked up."""
    found = []
    for name in names:
        own = sorted((one for one in answers if one.name == name), key=lambda answer: answer.seconds)
        if not own:
            continue
        times = dict.fromkeys(one.time for one in own)
        first = {one.address for one in own if one.time == own[0].time}
        span = own[-1].seconds - own[0].seconds
        union = tuple(dict.fromkeys(one.address for one in own))
        new = (len(union) - len(first)) / span * _WEEK_S if span > 0 else None
        found.append(Rotation(name, union, len(times), own[0].time, own[-1].time, new))
    return found
