"""What a bill adds or takes off once all its other lines are known: least sums, and committed use."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from math import lcm

import numpy as np

from fenrask.charges.lines import UNALLOCATED, Line, Metered, Shares, Use, Users
from fenrask.charges.meters import Meters
from fenrask.charges.standing import LEAST_OF, least_month
from fenrask.estate import Described
from fenrask.units import cents

__all__ = ["amounts_of", "commitments", "minimums"]


def minimums(described: Described, lines: Sequence[Line], meters: Meters) -> Iterator[Line]:
    """What is missing to the least that an exit costs a month, its hours and what it carried together."""
    paid: dict[str, Fraction] = {}
    for line in lines:
        if line.item in LEAST_OF:
            for name, share in line.uses.by_exit.items():
                paid[name] = paid.get(name, Fraction(0)) + line.amount * share
    for name in described.estate.exits:
        least = least_month(described, name)
        missing = least - paid.get(name, Fraction(0))
        if missing > 0:
            uses = meters.at_exit[name].shares(Use(name, UNALLOCATED))
            reason = f"up to the least of {cents(least)} a month"
            yield Line("minimum", name, missing, described.catalogue.currency, Decimal(1), reason, True, uses)


def amounts_of(users: Users, lines: Sequence[Line]) -> Metered:
    """What lines come to by use, all over one denominator."""
    units = [line.amount / line.uses.whole for line in lines]
    denominator = lcm(*(unit.denominator for unit in units))
    weights = [line.uses.weights for line in lines]
    nothing = np.zeros(0, dtype=np.intp)
    exits = np.concatenate([nothing, *(one.exit for one in weights)])
    flows = np.concatenate([nothing, *(one.flow for one in weights)])
    amounts = [one.amounts * int(unit * denominator) for one, unit in zip(weights, units, strict=True)]
    return Metered.summed(users, exits, flows, np.concatenate([np.zeros(0, dtype=object), *amounts]), denominator)


def commitments(described: Described, lines: Sequence[Line], users: Users) -> Iterator[Line]:
    """What committed use takes off: a share of the lines that it covers, or a sum, at most all of them."""
    exits = described.estate.exits
    offers = [exits[name].offer_name or "" if name else "" for name in users.exits]
    for name, commitment in described.catalogue.commitments.items():
        covered = []
        for line in lines:
            held = np.array([commitment.covers(line.item, offer) for offer in offers], dtype=bool)
            part = line.uses.weights.where(held[line.uses.weights.exit])
            if part.amounts.any():
                share = Fraction(int(part.amounts.sum()), line.uses.whole)
                covered.append(replace(line, quantity=line.quantity * share, uses=Shares(part)))
        weights = amounts_of(users, covered)
        if not weights.total:
            continue
        uses, unit = weights.shares(Use("", UNALLOCATED)), described.catalogue.currency
        if commitment.share is not None:
            reason = f"{commitment.share * 100:f} % off {', '.join(commitment.items)}"
            yield Line("commitment", name, weights.total, unit, -commitment.share, reason, True, uses)
        else:
            off = min(weights.total, Fraction(commitment.month_off or 0))
            reason = f"a sum off {', '.join(commitment.items)}"
            yield Line("commitment", name, off, unit, Decimal(-1), reason, True, uses)
