"""What a bill adds or takes off once all its other lines are known: least sums, and committed use."""

from collections.abc import Iterator, Sequence
from decimal import Decimal
from fractions import Fraction

from fenrask.charges.lines import UNALLOCATED, Line, Metered, Use, shares
from fenrask.charges.meters import Meters
from fenrask.charges.rates import rates_of
from fenrask.estate import Described
from fenrask.units import cents

__all__ = ["commitments", "minimums"]


def minimums(described: Described, lines: Sequence[Line], meters: Meters) -> Iterator[Line]:
    """What is missing to the least that an exit costs a month, its hours and what it carried together."""
    paid: dict[str, Fraction] = {}
    for line in lines:
        if line.item in ("hours", "processed"):
            for name, share in line.uses.by_exit.items():
                paid[name] = paid.get(name, Fraction(0)) + line.amount * share
    for name, exit_ in described.estate.exits.items():
        rates = rates_of(described, name)
        least = exit_.units * Fraction(rates.month_minimum) if rates else Fraction(0)
        missing = least - paid.get(name, Fraction(0))
        if missing > 0:
            uses = shares(meters.at_exit[name], Use(name, UNALLOCATED))
            reason = f"up to the least of {cents(least)} a month"
            yield Line("minimum", name, missing, described.catalogue.currency, Decimal(1), reason, True, uses)


def commitments(described: Described, lines: Sequence[Line]) -> Iterator[Line]:
    """What committed use takes off: a share of the lines that it covers, or a sum, at most all of them."""
    for name, commitment in described.catalogue.commitments.items():
        weights: dict[Use, Fraction] = {}
        for line in lines:
            for use, share in line.uses.items():
                offer = described.estate.exits[use.exit].offer_name if use.exit in described.estate.exits else ""
                if commitment.covers(line.item, offer or ""):
                    weights[use] = weights.get(use, Fraction(0)) + line.amount * share
        covered = sum(weights.values(), Fraction(0))
        if not covered:
            continue
        uses, unit = shares(Metered.of(weights), Use("", UNALLOCATED)), described.catalogue.currency
        if commitment.share is not None:
            reason = f"{commitment.share * 100:f} % off {', '.join(commitment.items)}"
            yield Line("commitment", name, covered, unit, -commitment.share, reason, True, uses)
        else:
            off = min(covered, Fraction(commitment.month_off or 0))
            reason = f"a sum off {', '.join(commitment.items)}"
            yield Line("commitment", name, off, unit, Decimal(-1), reason, True, uses)
