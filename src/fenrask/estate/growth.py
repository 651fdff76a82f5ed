"""How a workload's hosts become more, month by month from now."""

from typing import Annotated, Any, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from fenrask.estate.values import MOST, Strict, unfit

__all__ = ["HostGrowth"]

_MOST_MONTHS = 240


def _months(value: Any) -> Any:
    """Months are keys of a mapping, and keys are text."""
    if not isinstance(value, dict):
        return value
    wrong = [key for key in value if not (str(key).isdecimal() and 1 <= int(key) <= _MOST_MONTHS)]
    if wrong:
        raise unfit(f"months from 1 to {_MOST_MONTHS}, not {wrong[0]}", "Write {MONTH: HOSTS}: month 1 is the next.")
    return {int(key): number for key, number in value.items()}


_Number = Annotated[float, Field(strict=True, ge=-MOST, le=MOST)]
_Steps = Annotated[
    dict[int, Annotated[int, Field(strict=True, ge=-MOST, le=MOST)]],
    BeforeValidator(_months),
    WithJsonSchema({"type": "object", "additionalProperties": {"type": "integer"}}),
]
_Month = Annotated[int, Field(strict=True, ge=1, le=_MOST_MONTHS)]


class HostGrowth(Strict):
    """Hosts that are added from month to month; month 1 is the next one, and numbers below 0 take hosts away."""

    hosts_per_month: _Number = Field(0.0, description="hosts added each month; a part of one adds up")
    steps: _Steps = Field({}, description="hosts added at once, by the month in which they are: {3: 20}")
    from_: _Month = Field(1, alias="from", description="the first month of hosts_per_month")
    until: _Month | None = Field(None, description="the last month of hosts_per_month; default: no end")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.until is not None and self.until < self.from_:
            raise unfit(f"until at or after from, month {self.from_}")
        return self

    def added(self, month: int) -> int:
        """The hosts that exist after this many months in addition to those of today."""
        last = month if self.until is None else min(month, self.until)
        steady = self.hosts_per_month * max(0, last - self.from_ + 1)
        return round(steady) + sum(number for at, number in self.steps.items() if at <= month)
