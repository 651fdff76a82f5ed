"""How load and hosts become more, or fewer, month by month from now."""

from typing import Annotated, Any, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, field_validator, model_validator

from fenrask.estate.values import MOST, Number, Strict, UncertainGrowth, unfit

__all__ = ["HostGrowth", "InUse", "LoadGrowth"]

_MOST_MONTHS = 240


def _months(value: Any) -> Any:
    """Months are keys of a mapping, and keys are text."""
    if not isinstance(value, dict):
        return value
    wrong = [key for key in value if not (str(key).isdecimal() and 1 <= int(key) <= _MOST_MONTHS)]
    if wrong:
        raise unfit(f"months from 1 to {_MOST_MONTHS}, not {wrong[0]}", "Write {MONTH: NUMBER}: month 1 is the next.")
    return {int(key): number for key, number in value.items()}


_Number = Annotated[float, Field(strict=True, ge=-MOST, le=MOST)]
_Steps = Annotated[
    dict[int, Annotated[int, Field(strict=True, ge=-MOST, le=MOST)]],
    BeforeValidator(_months),
    WithJsonSchema({"type": "object", "additionalProperties": {"type": "integer"}}),
]
_Month = Annotated[int, Field(strict=True, ge=1, le=_MOST_MONTHS)]


_Table = Annotated[
    dict[int, Number],
    BeforeValidator(_months),
    WithJsonSchema({"type": "object", "additionalProperties": {"type": "number", "minimum": 0}}),
]
_YEAR = 12


class InUse(Strict):
    """The months in which something is there; 0 is this one, 1 the next."""

    from_: Annotated[int, Field(strict=True, ge=0, le=_MOST_MONTHS)] = Field(0, alias="from", description="the first")
    until: Annotated[int, Field(strict=True, ge=0, le=_MOST_MONTHS)] | None = Field(
        None, description="the last; default: no end"
    )

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.until is not None and self.until < self.from_:
            raise unfit(f"until at or after from, month {self.from_}")
        return self

    def is_in(self, month: int) -> bool:
        """Whether it is there in a month."""
        return self.from_ <= month and (self.until is None or month <= self.until)


class LoadGrowth(Strict):
    """How a load grows from month to month; month 1 is the next one, and 0 is this."""

    load_per_month: UncertainGrowth = Field(0.0, description="share by which the load grows each month, compounded")
    load: _Table = Field({}, description="times the load of now, from a month on: {6: 1.5, 9: 1}; on top of the other")
    season: tuple[Number, ...] = Field(
        (), description="load of twelve months, the first for now; only how they stand to each other counts"
    )
    from_: _Month = Field(1, alias="from", description="the first month in which it grows by the month")
    until: _Month | None = Field(None, description="the last month in which it does; default: no end")

    @field_validator("season")
    @classmethod
    def _a_year(cls, season: tuple[float, ...]) -> tuple[float, ...]:
        if season and (len(season) != _YEAR or not season[0]):
            raise unfit(f"{_YEAR} numbers, the first above 0", "Write one number for each month, beginning with this.")
        return season

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.until is not None and self.until < self.from_:
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

    hosts_per_month: _Number = Field(0.0, description="hosts added each month; a part of one adds up")
    steps: _Steps = Field({}, description="hosts added at once, by the month in which they are: {3: 20}")

    def added(self, month: int) -> int:
        """The hosts that exist after this many months in addition to those of today."""
        steady = self.hosts_per_month * self.months_of(month)
        return round(steady) + sum(number for at, number in self.steps.items() if at <= month)
