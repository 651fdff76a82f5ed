"""What each exit needs month by month: its addresses, now and after the worst fault, with the confidence asked for."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from fenrask.addresses import ExitAddresses
from fenrask.capacity import ExitCapacity
from fenrask.evaluation import Evaluation
from fenrask.prefixes import Prefix, parse_prefix
from fenrask.what_if.confidence import ExitConfidence
from fenrask.what_if.schedule.courses import Life, Sure

__all__ = ["Key", "Needed", "StandIns", "needed_by_month"]


class Key(NamedTuple):
    """An exit in one of its lives, or what one destination alone sees of it."""

    exit: str
    toward: str
    """The destination that alone sees some of its addresses, or empty for those that others see."""
    begin: int = 0
    """The month from which it has them."""


@dataclass(frozen=True)
class Needed:
    """One exit, or what one destination alone sees of it, through the months from now."""

    key: Key
    name: str
    owned: tuple[Prefix, ...]
    """The addresses that it has; stand-ins where the estate says only how many, or lets them be sized.

    None where it begins in a later month and its addresses are not listed: all are then ordered.
    """
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
    until: int
    """The month before which it goes, or has others; that after the last where it stays."""

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


def known_by(block: Prefix) -> str:
    """What tells a block from others: of one that stands in, its length."""
    return f"/{block.prefixlen}" if block.is_reserved else str(block)


def _dotted(number: int) -> str:
    return ".".join(str(number >> shift & 255) for shift in (24, 16, 8, 0))


def needed_by_month(
    ahead: Sequence[Evaluation], uncertain: Sequence[Sure], lives: Sequence[Life], stand_ins: StandIns
) -> list[Needed]:
    """Each exit with public addresses of its own, in each of its lives."""
    found = []
    for life in lives:
        first = dict[str, ExitAddresses]()
        for planned in (one for month in ahead[life.begin : life.until] for one in month.plan.exits):
            if planned.exit == life.exit:
                first.setdefault(planned.toward, planned)
        for toward, planned in first.items():
            months = [one if life.begin <= month < life.until else None for month, one in enumerate(ahead)]
            sized = tuple(one.capacity.of(life.exit, toward) if one else None for one in months)
            there = [some.exits if one else {} for one, some in zip(months, uncertain, strict=True)]
            sure = tuple(one.get((life.exit, toward)) for one in there)
            most = next(one.most_addresses for one in sized if one is not None)
            partners = _partners([one for one in months if one], life.exit, toward)
            key = Key(life.exit, toward, life.begin)
            numbers = tuple(map(_number, sized, sure))
            owned = () if life.begin and planned.purchase else _owned(planned, stand_ins)
            found.append(Needed(key, planned.name, owned, numbers, most, sized, sure, partners, life.until))
    return found


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


def _partners(months: Sequence[Evaluation], exit_: str, toward: str) -> tuple[str, ...]:
    """Who lets in only what they list and sees an exit, in any of the months."""
    seen = (one for month in months for one in month.plan.partners if one.fixed)
    return (
        *dict.fromkeys(
            one.destination for one in seen if any((part.exit, part.toward) == (exit_, toward) for part in one.parts)
        ),
    )
