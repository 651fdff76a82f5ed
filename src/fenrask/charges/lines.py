"""One line of a bill: what, how much, at which rate, why, and by whose use."""

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

__all__ = ["UNALLOCATED", "Line", "Use", "shares"]


@dataclass(frozen=True)
class Use:
    """Who uses what a line charges for: the flow (empty: nobody) at the exit (empty: none)."""

    exit: str
    flow: str


UNALLOCATED = ""


@dataclass(frozen=True)
class Line:
    """One line of a month's bill. `quantity` x `rate` = `amount`, exactly; `uses` sum to 1."""

    item: str
    about: str
    """The exit, offer or workload that it is charged for; empty for the estate as a whole."""
    quantity: Fraction
    unit: str
    rate: Decimal
    reason: str
    fixed: bool
    """Whether it is due whatever the volume."""
    uses: Mapping[Use, Fraction]

    @property
    def amount(self) -> Fraction:
        return self.quantity * Fraction(self.rate)


def shares(weights: Mapping[Use, Fraction], otherwise: Use) -> dict[Use, Fraction]:
    """Weights scaled to sum to 1; even ones where all are zero; all to `otherwise` where there are none."""
    if not weights:
        return {otherwise: Fraction(1)}
    total = sum(weights.values(), Fraction(0))
    if not total:
        return dict.fromkeys(weights, Fraction(1, len(weights)))
    return {use: weight / total for use, weight in weights.items() if weight}
