"""Units: names and conversions of seconds, bytes, hours and money.

Volumes and money are exact: `exact` takes a number as it was written (0.1 means one tenth), and
nothing is rounded before `cents`.
"""

from decimal import Decimal
from fractions import Fraction

__all__ = ["BYTES_PER_UNIT", "KIB", "SECONDS_PER_HOUR", "cents", "counted", "exact", "hour_text"]

SECONDS_PER_HOUR = 3600
KIB = 2**10
BYTES_PER_UNIT = {"GB": 10**9, "GiB": 2**30}
"""Bytes in one of the volume units that a catalogue may bill in."""


def exact(value: int | float | Decimal | Fraction) -> Fraction:
    """The number as it was written, as a fraction: the float 0.1 becomes 1/10.

    >>> exact(0.1) * 3
    Fraction(3, 10)
    """
    return Fraction(repr(value)) if isinstance(value, float) else Fraction(value)


def cents(amount: Fraction) -> Decimal:
    """An amount of money rounded to the hundredth, half to even; the only place where money is rounded.

    >>> cents(Fraction(1, 3))
    Decimal('0.33')
    """
    return Decimal(round(amount * 100)).scaleb(-2)


def hour_text(hour: int) -> str:
    """An hour of the day or week as a clock time; days of a week count from 1.

    >>> hour_text(17), hour_text(30)
    ('17:00', 'day 2 06:00')
    """
    return f"{hour:02d}:00" if hour < 24 else f"day {hour // 24 + 1} {hour % 24:02d}:00"


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun: 1 address, 3 addresses.

    >>> counted(1, "flow"), counted(2, "address", "addresses")
    ('1 flow', '2 addresses')
    """
    return f"{number:,} {one if number == 1 else many or one + 's'}"
