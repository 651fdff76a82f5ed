"""Money divided to the cent, so that the parts add up to the whole."""

from collections.abc import Hashable, Mapping
from decimal import Decimal
from fractions import Fraction
from math import floor
from typing import TypeVar

from fenrask.units import cents

__all__ = ["to_the_cent"]

Key = TypeVar("Key", bound=Hashable)


def to_the_cent(amounts: Mapping[Key, Fraction]) -> dict[Key, Decimal]:
    """Each amount in whole cents, their sum that of all rounded once: the largest remainders are rounded up.

    >>> to_the_cent({"a": Fraction(1, 3), "b": Fraction(1, 3), "c": Fraction(1, 3)})
    {'a': Decimal('0.34'), 'b': Decimal('0.33'), 'c': Decimal('0.33')}
    """
    whole = {key: floor(amount * 100) for key, amount in amounts.items()}
    rest = int(cents(sum(amounts.values(), Fraction(0))) * 100) - sum(whole.values())
    by_remainder = sorted(amounts, key=lambda key: whole[key] - amounts[key] * 100)
    for key in by_remainder[:rest]:
        whole[key] += 1
    return {key: Decimal(number).scaleb(-2) for key, number in whole.items()}
