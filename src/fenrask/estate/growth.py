"""How load and hosts become more, or fewer, month by month from now."""

import re
from collections.abc import Callable
from typing import Annotated, Any, Self

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Field,
    ValidationInfo,
    WithJsonSchema,
    field_validator,
    model_validator,
)

from fenrask.estate.values import (
    Strict,
    Uncertain,
    UncertainGrowth,
    UncertainNumber,
    UncertainWhole,
    unfit,
)

__all__ = ["CalendarMonth", "HostGrowth", "InUse", "LoadGrowth", "month_of_number", "number_of_month"]

_MOST_MONTHS = 240
_YEAR = 12
_CALENDAR = re.compile(r"([12]\d{3})-(0[1-9]|1[0-2])")
"""From 1000 to 2999: what is counted from there is a date still."""


def _calendar_month(text: str) -> str:
    if not _CALENDAR.fullmatch(text):
        raise unfit("a month such as 2026-12")
    return text


CalendarMonth = Annotated[
    str,
    AfterValidator(_calendar_month),
    WithJsonSchema({"type": "string", "pattern": f"^{_CALENDAR.pattern}$", "examples": ["2026-12"]}),
]


def number_of_month(month: object, first: str | None) -> int:
    """How many months after the first one a month is, which is written as that number or, as 2027-03, by the calendar.

    ValueError for what is neither, or where the calendar month of the first is not known.
    """
    if found := _CALENDAR.fullmatch(str(month)):
        origin = _CALENDAR.fullmatch(first or "")
        if origin is None:
            raise ValueError("first_month is not stated")
        (year, number), (year_now, now) = (map(int, one.groups()) for one in (found, origin))
        return (year - year_now) * _YEAR + number - now
    if isinstance(month, bool) or not str(month).isdecimal():
        raise ValueError(month)
    return int(str(month))


def month_of_number(number: int, first: str | None) -> str | None:
    """The calendar month so many months after the first one, as 2027-03; None where that is not known."""
    origin = _CALENDAR.fullmatch(first or "")
    if origin is None:
        return None
    year, month = map(int, origin.groups())
    years, gone = divmod(month - 1 + number, _YEAR)
    return f"{year + years:04}-{gone + 1:02}"


def _number(value: Any, info: ValidationInfo, least: int) -> int:
    """The number of a month, which is written so or by the calendar; of the calendar it may be over."""
    first = (info.context or {}).get("first_month")
    try:
        number = number_of_month(value, first)
    except ValueError:
        if _CALENDAR.fullmatch(str(value)):
            remedy = f"Write the estate's first_month, from which {value} counts, or how many months from now it is."
            raise unfit("first_month of the estate beside a calendar month", remedy) from None
        remedy = f"Month 1 is the next; {f'{first} is month 0' if first else 'by the calendar with first_month'}."
        raise unfit(f"a month from {least} to {_MOST_MONTHS}, not {value}", remedy) from None
    is_over = number < least and bool(_CALENDAR.fullmatch(str(value)))
    if not is_over and not least <= number <= _MOST_MONTHS:
        after = f" after {first}" if first else ""
        raise unfit(f"a month from {least} to {_MOST_MONTHS}{after}, not {value}", "Month 1 is the next.")
    return number


def _begin(value: Any, info: ValidationInfo, least: int) -> int:
    """The first month of something; what began before this one is there from now on."""
    return max(least, _number(value, info, least))


def _by_month(value: Any, info: ValidationInfo) -> Any:
    """Months are keys of a mapping, and keys are text; those that are over are in the load, and the hosts, of now."""
    if not isinstance(value, dict):
        return value
    numbers = [_number(key, info, 1) for key in value]
    if twice := [key for key, number in zip(value, numbers, strict=True) if numbers.count(number) > 1]:
        raise unfit(f"each month once, not {' and '.join(map(str, twice))}")
    return {number: one for number, one in zip(numbers, value.values(), strict=True) if number >= 1}


def _no_text(value: Any) -> Any:
    """The value of a month: text is one of the calendar alone; keys are text in any case."""
    if isinstance(value, str) and not _CALENDAR.fullmatch(value):
        raise unfit("a whole number, or a month such as 2026-12")
    return value


def _month(read: Callable[[Any, ValidationInfo, int], int], least: int) -> Any:
    number = {"type": "integer", "minimum": least, "maximum": _MOST_MONTHS}
    schema = WithJsonSchema({"anyOf": [number, {"type": "string", "pattern": f"^{_CALENDAR.pattern}$"}]})
    return BeforeValidator(lambda value, info: read(_no_text(value), info, least)), schema


_From = Annotated[int, *_month(_begin, 1)]
_Until = Annotated[int, *_month(_number, 1)]
_FromThis = Annotated[int, *_month(_begin, 0)]
_UntilThis = Annotated[int, *_month(_number, 0)]
_Steps = Annotated[dict[int, UncertainWhole], BeforeValidator(_by_month)]
_Table = Annotated[dict[int, Uncertain], BeforeValidator(_by_month)]


class InUse(Strict):
    """The months in which something is there, from now (0 is this one, 1 the next) or by the calendar (2027-03)."""

    from_: _FromThis = Field(0, alias="from", description="the first")
    until: _UntilThis | None = Field(None, description="the last; default: no end")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.until is not None and 0 <= self.until < self.from_:
            raise unfit(f"until at or after from, month {self.from_}")
        return self

    def is_in(self, month: int) -> bool:
        """Whether it is there in a month."""
        return self.from_ <= month and (self.until is None or month <= self.until)


class LoadGrowth(Strict):
    """How a load grows from month to month; month 1 is the next one, and 0 is this."""

    load_per_month: UncertainGrowth = Field(0.0, description="share by which the load grows each month, compounded")
    load: _Table = Field({}, description="times the load of now, from a month on: {6: 1.5, 9: 1}; on top of the other")
    season: tuple[Uncertain, ...] = Field(
        (), description="load of twelve months, the first for now; only how they stand to each other counts"
    )
    from_: _From = Field(1, alias="from", description="the first month in which it grows by the month")
    until: _Until | None = Field(None, description="the last month in which it does; default: no end")

    @field_validator("season")
    @classmethod
    def _a_year(cls, season: tuple[float, ...]) -> tuple[float, ...]:
        if season and (len(season) != _YEAR or not season[0]):
            raise unfit(f"{_YEAR} numbers, the first above 0", "Write one number for each month, beginning with this.")
        return season

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.until is not None and 1 <= self.until < self.from_:
            raise unfit(f"until at or after from, month {self.from_}")
        return self

    def months_of(self, month: int) -> int:
        """In how many months it has grown, after this many."""
        last = month if self.until is None else min(month, self.until)
        return max(0, last - self.from_ + 1)

    def times(self, month: int) -> float:
        """The load after this many months, as a multiple of that of now."""
        begun = [at for at in self.load if at <= month]
        table = self.load[max(begun)] if begun else 1.0
        season = self.season[month % _YEAR] / self.season[0] if self.season else 1.0
        steady: float = (1 + self.load_per_month) ** self.months_of(month)
        return steady * table * season


class HostGrowth(LoadGrowth):
    """Hosts that are added from month to month, numbers below 0 taking hosts away; and how the load of each grows."""

    hosts_per_month: UncertainNumber = Field(0.0, description="hosts added each month; a part of one adds up")
    steps: _Steps = Field({}, description="hosts added at once, by the month in which they are: {3: 20}")

    def added(self, month: int) -> int:
        """The hosts that exist after this many months in addition to those of today."""
        steady = self.hosts_per_month * self.months_of(month)
        return round(steady) + sum(number for at, number in self.steps.items() if at <= month)
