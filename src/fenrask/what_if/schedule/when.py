"""When months begin, by the calendar or without one."""

from calendar import monthrange
from dataclasses import dataclass
from datetime import date

from fenrask.estate import MONTH_DAYS, Described

__all__ = ["Months"]

_YEAR = 12


@dataclass(frozen=True)
class Months:
    """When months begin, in days from today, which is 0."""

    first: date | None = None
    """The day on which this month begins, where the calendar is known; without it a month is a twelfth of a year."""

    @classmethod
    def of(cls, described: Described, begin: date | None = None) -> "Months":
        """By the calendar from this day on, or from the first of the month that the estate states as its first."""
        first = described.estate.first_month
        return cls(date.fromisoformat(f"{first}-01") if begin is None and first else begin)

    def begin(self, month: int) -> int:
        """The day on which a month from now begins."""
        if self.first is None:
            return int(month * MONTH_DAYS)
        years, number = divmod(self.first.month - 1 + month, _YEAR)
        year = self.first.year + years
        last = monthrange(year, number + 1)[1]
        return (date(year, number + 1, min(self.first.day, last)) - self.first).days

    def since(self, day: int) -> int:
        """The first month that begins on a day or later."""
        return next(month for month in range(10**6) if self.begin(month) >= day)

    def around(self, day: int) -> int:
        """The month in which a day is."""
        return max(0, self.since(day + 1) - 1)
