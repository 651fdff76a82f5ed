"""What each exit needs month by month: its addresses, now and after the worst fault, with the confidence asked for."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from fenrask.addresses import ExitAddresses
from fenrask.capacity import ExitCapacity
from fenrask.evaluation import Evaluation
from fenrask.prefixes import Prefix, parse_prefix
from fenrask.what_if.confidence import ExitConfidence, confident, ranges

__all__ = ["Key", "Needed", "StandIns", "needed_by_month"]

Key = tuple[str, str]
"""An exit, and the destination that alone sees some of its addresses, or empty for those that others see."""


@dataclass(frozen=True)
class Needed:
    """One exit, or what one destination alone sees of it, through the months from now."""

    key: Key
    name: str
    owned: tuple[Prefix, ...]
    """The addresses that it has; stand-ins where the estate says only how many, or lets them be sized."""
    addresses: tuple[int | None, ...]
    """By month: the fewest that it needs; None where no number suffices."""
    most: int | None
    """The addresses that its offer takes at most."""
    sized: tuple[ExitCapacity | None, ...]
    """By month, for the likely load; None where it is not there."""
    confidence: tuple[ExitConfidence | None, ...]
    """By month, over all samples; None where nothing is a range."""
    partners: tuple[str, ...]
    """Who lets in only what they list, and list these."""

    @property
    def has(self) -> int:
        """How many addresses it has."""
        return sum(int(one.num_addresses) for one in self.owned)

    def wanted(self, month: int) -> int:
        """The addresses that it is to have in a month: of those that its offer takes."""
        known = [one for one in self.addresses[: month + 1] if one is not None]
        number = self.addresses[month]
        wanted = number if number is not None else max(known, default=self.has)
        return wanted if self.most is None else min(wanted, max(self.most, self.has))


class StandIns:
    """Addresses that stand for ones which are not known yet: apart from each other, and none that anybody has.

    From the block that is reserved for the future (RFC 1112, section 4): 240.0.0.0/4.
    """

    def __init__(self) -> None:
        self._taken = 0

    def block(self, length: int) -> Prefix:
        """A block of this prefix length that touches none before it."""
        step = 1 << (32 - min(24, length))
        first = -(-(_RESERVED + self._taken) // step) * step
        self._taken = first - _RESERVED + 2 * step
        return parse_prefix(f"{_dotted(first)}/{length}")


_RESERVED = 240 << 24


def _dotted(number: int) -> str:
    return ".".join(str(number >> shift & 255) for shift in (24, 16, 8, 0))


def needed_by_month(ahead: Sequence[Evaluation], level: float, stand_ins: StandIns) -> list[Needed]:
    """Each exit with public addresses of its own, in the order of the estate.

    level: the confidence, where anything is a range.
    """
    uncertain = [_by_key(one, level, month) for month, one in enumerate(ahead)]
    seen = _partners(ahead)
    found = []
    first: dict[Key, ExitAddresses] = {}
    for planned in (one for month in ahead for one in month.plan.exits):
        first.setdefault((planned.exit, planned.toward), planned)
    for key, planned in first.items():
        sized = tuple(_of(one, key) for one in ahead)
        sure = tuple(one.get(key) for one in uncertain)
        numbers = tuple(map(_number, sized, sure))
        most = next(one.most_addresses for one in sized if one is not None)
        owned = _owned(planned, stand_ins)
        found.append(Needed(key, planned.name, owned, numbers, most, sized, sure, seen.get(key, ())))
    return found


def _by_key(evaluation: Evaluation, level: float, month: int) -> Mapping[Key, ExitConfidence]:
    if not ranges(evaluation.described, month):
        return {}
    exits = confident(evaluation, level, month=month).exits
    return {(one.sized.exit, one.sized.toward): one for one in exits}


def _of(evaluation: Evaluation, key: Key) -> ExitCapacity | None:
    return next((one for one in evaluation.capacity.exits if (one.exit, one.toward) == key), None)


def _number(sized: ExitCapacity | None, sure: ExitConfidence | None) -> int | None:
    """Enough for the likely load, now and after a fault, and for so many of the samples; none where it is not there."""
    if sized is None:
        return 0
    numbers = [sized.most_needed]
    if sure is not None:
        numbers += [sure.wanted, sure.wanted_after_fault]
    return None if any(one is None for one in numbers) else max(one for one in numbers if one is not None)


def _owned(planned: ExitAddresses, stand_ins: StandIns) -> tuple[Prefix, ...]:
    """The addresses of an exit: listed ones, or stand-ins for what it has, or would be bought today."""
    if planned.purchase is None:
        return planned.listed
    return tuple(stand_ins.block(length) for length in planned.purchase.lengths)


def _partners(ahead: Sequence[Evaluation]) -> dict[Key, tuple[str, ...]]:
    """Who lets in only what they list and sees each exit, in any month."""
    found: dict[Key, dict[str, None]] = {}
    for key, partner in (pair for one in ahead for pair in _seen_by(one)):
        found.setdefault(key, {})[partner] = None
    return {key: tuple(some) for key, some in found.items()}


def _seen_by(evaluation: Evaluation) -> Iterator[tuple[Key, str]]:
    for one in evaluation.plan.partners:
        if one.fixed:
            yield from (((part.exit, part.toward), one.destination) for part in one.parts)
