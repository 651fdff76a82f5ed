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

__all__ = ["Parts", "amounts_of", "commitments", "committed_parts", "least_parts", "minimums"]

Parts = tuple[tuple[int, Fraction], ...]
"""Numbers of lines, from 0, and which share of each."""


def minimums(described: Described, lines: Sequence[Line], meters: Meters) -> Iterator[Line]:
    """What is missing to the least that an exit costs a month, its hours and what it carried together."""
    for name, parts in least_parts(described, lines).items():
        least = least_month(described, name)
        missing = least - sum((lines[number].amount * share for number, share in parts), Fraction(0))
        if missing > 0:
            uses = meters.at_exit[name].shares(Use(name, UNALLOCATED))
            reason = f"up to the least of {cents(least)} a month"
            yield Line("minimum", name, missing, described.catalogue.currency, Decimal(1), reason, True, uses)


def least_parts(described: Described, lines: Sequence[Line]) -> dict[str, Parts]:
    """By exit that costs a least sum a month: which share of which lines counts toward it."""
    paid: dict[str, list[tuple[int, Fraction]]] = {
        name: [] for name in described.estate.exits if least_month(described, name)
    }
    for number, line in enumerate(lines if paid else ()):
        if line.item in LEAST_OF:
            for name, share in line.uses.by_exit.items():
                if name in paid:
                    paid[name].append((number, share))
    return {name: tuple(parts) for name, parts in paid.items()}


def committed_parts(described: Described, lines: Sequence[Line], users: Users) -> dict[str, Parts]:
    """By commitment: which share of which lines it covers."""
    return {
        name: tuple((number, Fraction(int(part.amounts.sum()), lines[number].uses.whole)) for number, part in covered)
        for name, covered in _covered(described, lines, users)
    }


def _covered(
    described: Described, lines: Sequence[Line], users: Users
) -> Iterator[tuple[str, list[tuple[int, Metered]]]]:
    """Each commitment with the uses that it covers of each line."""
    exits = described.estate.exits
    offers = [exits[name].offer_name or "" if name else "" for name in users.exits]
    for name, commitment in described.catalogue.in_force.items():
        covered = []
        for number, line in enumerate(lines):
            held = np.array([commitment.covers(line.item, offer) for offer in offers], dtype=bool)
            part = line.uses.weights.where(held[line.uses.weights.exit])
            if part.amounts.any():
                covered.append((number, part))
        yield name, covered


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
    for name, covered in _covered(described, lines, users):
        commitment, own = described.catalogue.commitments[name], []
        for number, part in covered:
            share = Fraction(int(part.amounts.sum()), lines[number].uses.whole)
            own.append(replace(lines[number], quantity=lines[number].quantity * share, uses=Shares(part)))
        weights = amounts_of(users, own)
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
