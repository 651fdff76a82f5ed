"""The month's bill as a function of one factor on all volumes, for those who calculate with it further.

Steps of graduated rates, least sums and commitment discounts follow the factor; hours and addresses do not.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from fenrask.addresses import AddressPlan
from fenrask.charges.adjustments import Parts, committed_parts, least_parts
from fenrask.charges.bill import fixed_lines, lines_by_volume
from fenrask.charges.lines import Line
from fenrask.charges.meters import Meters
from fenrask.charges.standing import least_month
from fenrask.routing import Paths

__all__ = ["ScaledBill", "ScaledLine", "scaled_bill"]


@dataclass(frozen=True)
class ScaledLine:
    """One line: a quantity that stays, a step of a volume, or what is made of lines before it.

    volume: of which this is the part above one edge and up to the other; None for any other line. of: what a least sum
    or a commitment is made of. least: up to this sum, parts included. off: this sum of the parts at most.
    """

    item: str
    about: str
    unit: str
    rate: Decimal
    reason: str
    quantity: Fraction = Fraction(0)
    volume: Fraction | None = None
    above: Decimal = Decimal(0)
    up_to: Decimal | None = None
    of: Parts = ()
    least: Fraction | None = None
    off: Fraction | None = None

    def quantity_at(self, factor: Fraction, amounts: Sequence[Fraction]) -> Fraction:
        """The quantity with all volumes times a factor; amounts: of the lines before it."""
        if self.volume is not None:
            end = self.volume * factor
            end = end if self.up_to is None else min(end, Fraction(self.up_to))
            return max(Fraction(0), end - Fraction(self.above))
        parts = sum((amounts[number] * share for number, share in self.of), Fraction(0))
        if self.least is not None:
            return max(Fraction(0), self.least - parts)
        if self.of:
            return parts if self.off is None else min(parts, self.off)
        return self.quantity


@dataclass(frozen=True)
class ScaledBill:
    """All lines of a month, in the order in which they are made of one another."""

    lines: tuple[ScaledLine, ...]

    def amounts(self, factor: Fraction) -> list[Fraction]:
        """What each line comes to with all volumes times a factor."""
        found: list[Fraction] = []
        for line in self.lines:
            found.append(line.quantity_at(factor, found) * Fraction(line.rate))
        return found


def scaled_bill(paths: Paths, plan: AddressPlan) -> ScaledBill:
    """The bill of an estate whose volumes are yet to be multiplied."""
    described, meters = paths.described, Meters(paths)
    stand = [*fixed_lines(described, plan, meters)]
    steps = [*lines_by_volume(described, meters, every_step=True)]
    found = [ScaledLine(one.item, one.about, one.unit, one.rate, one.reason, one.quantity) for one in stand]
    found += [
        ScaledLine(
            one.line.item, one.line.about, one.line.unit, one.line.rate, one.line.reason,
            volume=one.volume, above=one.piece.above, up_to=one.piece.up_to,
        )
        for one in steps
    ]  # fmt: skip
    lines: list[Line] = [*stand, *(one.line for one in steps)]
    currency = described.catalogue.currency
    for name, parts in least_parts(described, lines).items():
        least = least_month(described, name)
        found.append(ScaledLine("minimum", name, currency, Decimal(1), "up to the least", of=parts, least=least))
    for name, parts in committed_parts(described, lines, meters.users).items():
        commitment = described.catalogue.in_force[name]
        rate = Decimal(-1) if commitment.share is None else -commitment.share
        off = Fraction(commitment.month_off or 0) if commitment.share is None else None
        found.append(
            ScaledLine("commitment", name, currency, rate, f"off {', '.join(commitment.items)}", of=parts, off=off)
        )
    return ScaledBill(tuple(found))
