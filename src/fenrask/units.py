"""Units: names and conversions of seconds, bytes, hours and money.

Volumes and money are exact: `exact` takes a number as it was written (0.1 means one tenth), and
nothing is rounded before `cents`.
"""

from decimal import Decimal
from fractions import Fraction

__all__ = [
    "BYTES_PER_UNIT",
    "KIB",
    "SECONDS_PER_DAY",
    "SECONDS_PER_HOUR",
    "cents",
    "clock_text",
    "counted",
    "exact",
    "figure",
    "percent",
    "rough",
    "span_text",
]

SECONDS_PER_HOUR = 3600
SECONDS_PER_DAY = 24 * SECONDS_PER_HOUR
KIB = 2**10
BYTES_PER_UNIT = {"GB": 10**9, "GiB": 2**30}
"""Bytes in one of the volume units that a catalogue may bill in."""


def exact(value: int | float | Decimal | Fraction) -> Fraction:
    """The number as it was written, as a fraction: the float 0.1 becomes 1/10.

    >>> exact(0.1) * 3
    Fraction(3, 10)
    """
    return Fraction(Decimal(repr(value)) if isinstance(value, float) else value)


def cents(amount: Fraction) -> Decimal:
    """An amount of money rounded to the hundredth, half to even; the only place where money is rounded.

    >>> cents(Fraction(1, 3))
    Decimal('0.33')
    """
    return Decimal(round(amount * 100)).scaleb(-2)


def clock_text(time_s: float) -> str:
    """A time of the day or week, s from its start, to the minute; days of a week count from 1.

    >>> clock_text(17.5 * 3600), clock_text(30 * 3600)
    ('17:30', 'day 2 06:00')
    """
    minutes = round(time_s / 60)
    hour, minute = divmod(minutes, 60)
    return f"{hour:02d}:{minute:02d}" if hour < 24 else f"day {hour // 24 + 1} {hour % 24:02d}:{minute:02d}"


def span_text(seconds: float) -> str:
    """A stretch of time in the unit that suits it, to two or three digits.

    >>> span_text(75), span_text(5400), span_text(0.4)
    ('75 s', '1.5 h', '0.4 s')
    """
    if seconds < 120:
        return f"{seconds:.3g} s"
    return f"{seconds / 60:.3g} min" if seconds < 5400 else f"{seconds / 3600:.3g} h"


def percent(share: float) -> str:
    """A share in per cent with one decimal; below 0.1% as such, and 100.0% only where it is whole.

    >>> percent(0.3808), percent(0.00004), percent(0.0), percent(0.99999)
    ('38.1%', '<0.1%', '0%', '>99.9%')
    """
    if share == 0:
        return "0%"
    if 0 < abs(share) < 0.001:
        return "<0.1%"
    if 0.9995 <= share < 1:
        return ">99.9%"
    return f"{100 * share:.1f}%"


def figure(value: float | Fraction) -> str:
    """A number with at most six significant digits before it loses any of its whole part.

    >>> figure(31850.1666), figure(2914621.4), figure(0.25)
    ('31,850.2', '2,914,621', '0.25')
    """
    number = float(value)
    return f"{number:,.0f}" if abs(number) >= 1e6 else f"{number:,.6g}"


def rough(value: float | Fraction) -> str:
    """A rate or a time: three significant digits, and all of its whole part.

    >>> rough(31850.1666), rough(999.7), rough(7.125), rough(0.0136007)
    ('31,850', '1,000', '7.12', '0.0136')
    """
    number = float(value)
    return f"{number:,.0f}" if abs(number) >= 100 else f"{number:.3g}"


def counted(number: int, singular: str, many: str = "") -> str:
    """A number with its noun: 1 address, 3 addresses.

    >>> counted(1, "flow"), counted(2, "address", "addresses")
    ('1 flow', '2 addresses')
    """
    return f"{number:,} {singular if number == 1 else many or singular + 's'}"
