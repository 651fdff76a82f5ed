"""What counts by hour tell of days: the profile that they share, how they vary about it, what the next one may bring.

A profile is as fine as the days that were seen bear out: one day like another; weekends apart; weekdays apart; each
hour of the week by itself. Days vary about it by chance and by themselves; the mean day, and the next one, lie within
what Student's law leaves of that (Student 1908), of as many days as are free of the profile.
"""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import MONTH_DAYS
from fenrask.records.dispersion import Dispersion, of_an_hour, told_apart

__all__ = ["LEVEL", "PRIOR_CV", "Days", "days_of", "days_of_each"]

Floats = NDArray[np.float64]
Counts = NDArray[np.int64]
LEVEL = 0.9
"""Of the intervals: from the 5th to the 95th percentile."""
PRIOR_CV = 0.15
"""By how much days are taken to vary where only one was seen."""
_DAY, _HOURS, _WEEK = 86_400, 24, 168
_SHIFT = 3
"""Days from a Monday to 1970-01-01, a Thursday."""
_SURE = 0.01
"""How probable a difference may be by chance alone that is taken for one."""


@dataclass(frozen=True)
class Ahead:
    """A forecast of the next day by a line through the days before (Draper & Smith, "Applied Regression Analysis").

    level: as a share of the mean; spread: the standard deviation of days about the line, as a share of them; free: days
    that are free of it; leverage: the variance of the level, as a share of a day's.
    """

    level: float
    spread: float
    free: int
    leverage: float
    reach: float
    """Standard deviations to the end of the interval, by Student's law."""


@dataclass(frozen=True)
class Growth:
    """Growth from month to month by a line through the logarithms of days, compounded: shares of the load.

    low and high: the 5th and the 95th percentile, by Student's law of the slope.
    """

    low: float
    likely: float
    high: float


@dataclass(frozen=True)
class Days:
    """Days of which at least half was looked at, held against the profile that they share.

    by_hour: rates by hour of the day (24) or of the week (168, Monday first), /s; shape: the same without what chance
    alone explains of its spread. ratios: each day against the profile. spread: their standard deviation, of which
    `chance` is by chance alone (a variance); free: days that are free of the profile (0: only one was seen, or none).
    """

    by_hour: tuple[float, ...]
    shape: tuple[float, ...]
    ratios: tuple[float, ...] = ()
    spread: float = 0.0
    chance: float = 0.0
    free: int = 0
    leverage: float = 1.0
    """The variance of the mean of days like the next one, as a share of a day's."""
    reach: float = 1.6448536269514722
    """Standard deviations to the end of the interval: by Student's law; by a normal one where the spread is stated."""
    trend: float = 0.0
    """Growth from day to day, as a share of the mean; 0 where none is sure."""
    growth: "Growth | None" = None
    """Of days over three weeks or more."""
    ahead: "Ahead | None" = None
    """The next day by the line through these, be it sure or not; None of too few days for one."""

    @property
    def number(self) -> int:
        return len(self.ratios)

    @property
    def mean_per_s(self) -> float:
        return sum(self.by_hour) / len(self.by_hour)

    @property
    def cv(self) -> float:
        """By how much days vary of themselves: beyond chance, or, of one day, as they are taken to."""
        if not self.free:
            return 0.0
        return math.sqrt(max(0.0, self.spread**2 - self.chance))

    @property
    def last(self) -> float:
        """What days are like after these, as a share of the mean that was measured: by the trend, where one is sure."""
        return self.ahead.level if self.trend and self.ahead is not None else 1.0

    @property
    def error(self) -> float:
        """The standard error of the mean, as a share of it: from the spread of days, or chance where there is one."""
        if not self.number:
            return 0.0
        deviation = self.spread if self.free else math.sqrt(self.chance)
        return deviation / math.sqrt(self.number)

    @property
    def mean_day(self) -> tuple[float, float]:
        """Within which the mean of days like these lies, as shares of the mean that was measured; by a sure trend, of
        days as they are after these.
        """
        return self._bounds(0.0, self.ahead if self.trend else None)

    @property
    def next_day(self) -> tuple[float, float]:
        """Within which the day after these lies."""
        return self._bounds(1.0, self.ahead)

    def _bounds(self, own: float, ahead: Ahead | None) -> tuple[float, float]:
        """An interval about the mean, or a forecast; own: the variance of the day itself, as a share of a day's."""
        if ahead is not None:
            return _about(ahead.level, ahead.level * ahead.reach * ahead.spread * math.sqrt(own + ahead.leverage))
        deviation = self.spread if self.free else math.sqrt(PRIOR_CV**2 + self.chance)
        return _about(1.0, deviation * self.reach * math.sqrt(own + self.leverage))


def _about(middle: float, half: float) -> tuple[float, float]:
    """An interval that ends above nothing: where it would not, it is as far apart in times."""
    return (middle - half if half < middle / 2 else middle * middle / (middle + half), middle + half)


def days_of(hours: Counts, looked_s: Counts, starts: Floats, uneven: Dispersion) -> Days:
    """The days of counts by hour.

    hours: since 1970, rising; looked_s: how much of each was looked at, s; starts: connections that began in each.
    """
    return days_of_each(hours, looked_s, starts[None, :], [uneven])[0]


def days_of_each(hours: Counts, looked_s: Counts, starts: Floats, uneven: Sequence[Dispersion]) -> list[Days]:
    """The days of several counts by hour; starts: shape (n_counts, n_hours)."""
    seen = _Seen(hours, looked_s, starts, uneven)
    kinds = [np.zeros(7, dtype=np.int64)]
    level, whole = np.zeros(starts.shape[0], dtype=np.int64), seen.whole
    ratios = seen.by_day[:, whole] / np.maximum(seen.due(kinds[0])[1][:, whole], 1e-300)
    for finer in _groupings(seen.weekday[whole]):
        of_day = [one[seen.weekday[whole]] for one in (*kinds, finer)]
        for known in np.unique(level).tolist():
            rows = np.flatnonzero(level == known)
            level[rows[_is_apart(ratios[rows], seen.days[whole], of_day[known], of_day[-1])]] = len(kinds)
        kinds.append(finer)
    found: list[Days | None] = [None] * starts.shape[0]
    for known in np.unique(level).tolist():
        rows = np.flatnonzero(level == known)
        for row, days in _about_kinds(seen.some(rows), kinds[known]):
            found[rows[row]] = days
    return [one for one in found if one is not None]


class _Seen:
    """Counts by hour of the same hours, and what these come to by day."""

    def __init__(self, hours: Counts, looked_s: Counts, starts: Floats, uneven: Sequence[Dispersion]) -> None:
        self.hours, self.looked_s, self.starts, self.uneven = hours, looked_s, starts, uneven
        self.days, self._first = np.unique(hours // _HOURS, return_index=True)
        self.weekday = (self.days + _SHIFT) % 7
        self._times = np.diff(self._first, append=hours.size)
        self.spans: Floats = np.add.reduceat(looked_s, self._first).astype(np.float64)
        self.whole = np.flatnonzero(self.spans >= _DAY / 2)
        self.by_day: Floats = np.add.reduceat(starts, self._first, axis=1)
        self.burstiness, self.rate_cv, self.steady_s = (
            np.array([getattr(one, name) for one in uneven]) for name in ("burstiness", "rate_cv", "steady_s")
        )

    def some(self, rows: Counts) -> "_Seen":
        """Some of the counts."""
        return _Seen(self.hours, self.looked_s, self.starts[rows], [self.uneven[row] for row in rows.tolist()])

    def by_cell(self, cells: Counts, number: int) -> tuple[Floats, Floats]:
        """Connections by the cell that hours are of, shape (n_counts, number), and the time looked at, (number,)."""
        order = np.argsort(cells, kind="stable")
        used, first = np.unique(cells[order], return_index=True)
        sums = np.zeros((self.starts.shape[0], number))
        sums[:, used] = np.add.reduceat(self.starts[:, order], first, axis=1)
        return sums, np.bincount(cells, weights=self.looked_s, minlength=number).astype(np.float64)

    def due(self, kinds: Counts) -> tuple[Floats, Floats]:
        """The profile by kind of day, and what it has for what was looked at of each day.

        kinds: of weekdays, Monday first. Shapes (n_counts, n_kinds, 24), (n_counts, n_days). An hour that was not
        looked at has the mean of its kind.
        """
        number, kind, hour = int(kinds.max()) + 1, np.repeat(kinds[self.weekday], self._times), self.hours % _HOURS
        sums, spans = (one.reshape(-1, number, _HOURS) for one in self.by_cell(kind * _HOURS + hour, number * _HOURS))
        mean = sums.sum(axis=2, keepdims=True) / np.maximum(spans.sum(axis=2, keepdims=True), 1)
        profile: Floats = np.where(spans > 0, sums / np.maximum(spans, 1), mean)
        return profile, np.add.reduceat(profile[:, kind, hour] * self.looked_s, self._first, axis=1)

    def of_an_hour(self, rows: Counts, rates: Floats) -> Floats:
        """The variance of an hour's rate that comes of chance alone, of profiles of shape (n_rows, n_hours)."""
        return of_an_hour(self.burstiness[rows], self.rate_cv[rows], self.steady_s[rows], rates.mean(axis=1))


def _groupings(weekdays: Counts) -> list[Counts]:
    """Kinds of days by weekday, Monday first, from coarse to fine: as far as each was seen, and some twice."""
    found, counts = [], np.bincount(weekdays, minlength=7)
    if counts[:5].sum() >= 2 and counts[5:].sum() >= 1 and counts.sum() >= 4:
        found.append(np.array([0, 0, 0, 0, 0, 1, 1]))
    if counts.min() >= 2:
        found.append(np.arange(7))
    return found


def _is_apart(ratios: Floats, days: Counts, coarse: Counts, fine: Counts) -> NDArray[np.bool_]:
    """Whether days of finer kinds differ by more than those of one of them do (analysis of variance: Fisher 1925).

    Beside a line through all, where there are days enough: a week that grows is no pattern of weekdays. ratios: shape
    (n_counts, n_days).
    """
    from scipy.special import fdtrc

    left, free = [], []
    for kinds in (coarse, fine):
        columns = [*(kinds == kind for kind in np.unique(kinds))]
        if days.size - np.unique(fine).size > _LINE:
            columns.append(days - days.mean())
        matrix = np.stack(columns, axis=1).astype(np.float64)
        fitted = matrix @ np.linalg.lstsq(matrix, ratios.T, rcond=None)[0]
        left.append(np.sum((ratios.T - fitted) ** 2, axis=0))
        free.append(days.size - len(columns))
    if free[1] < 1 or free[0] <= free[1]:
        return np.zeros(ratios.shape[0], dtype=bool)
    between, within = (left[0] - left[1]) / (free[0] - free[1]), left[1] / free[1]
    chance = fdtrc(free[0] - free[1], free[1], np.maximum(between, 0.0) / np.maximum(within, 1e-300))
    found: NDArray[np.bool_] = np.where(within > 0, chance < _SURE, between > 0)
    return found


def _about_kinds(seen: _Seen, kinds: Counts) -> Iterator[tuple[int, Days]]:
    """The days of counts whose days are of these kinds, those together whose profiles have some of the same days."""
    profile, due = seen.due(kinds)
    by_hour = profile[:, kinds]
    same = (by_hour == by_hour[:, :1]).all(axis=(1, 2))
    traits = np.column_stack([due[:, seen.whole] > 0, same])
    patterns, of = np.unique(traits, axis=0, return_inverse=True)
    for number in range(patterns.shape[0]):
        rows = np.flatnonzero(of.reshape(-1) == number)
        kept = seen.whole[patterns[number, :-1]]
        counts = np.bincount(kinds[seen.weekday[kept]], minlength=int(kinds.max()) + 1)
        hours = by_hour[rows, 0] if patterns[number, -1] else by_hour[rows].reshape(rows.size, -1)
        free = int(kept.size - np.count_nonzero(counts))
        found = _about_profile(seen, _Same(rows, kept, hours, due[rows][:, kept], free, counts[kinds]))
        yield from zip(rows.tolist(), found, strict=True)


_LINE = 5
"""Days that are free of the profile from which on a line is laid through them."""


class _Same(NamedTuple):
    """Counts (rows) whose profiles have some of the same days (kept), and how many of these are free of the profiles.

    by_hour: shape (n_rows, n_hours); due: by day, shape (n_rows, n_days); times: days like each weekday, shape (7,).
    """

    rows: Counts
    kept: Counts
    by_hour: Floats
    due: Floats
    free: int
    times: Counts


def _about_profile(seen: _Seen, same: _Same) -> list[Days]:
    """The days of some counts about their profiles."""
    rows, kept, by_hour, due, free, times = same
    ratios, days = seen.by_day[rows][:, kept] / due, seen.days[kept]
    burstiness, varied = seen.burstiness[rows], seen.rate_cv[rows] ** 2 * seen.steady_s[rows]
    if kept.size:
        chance = np.mean(burstiness[:, None] / due + varied[:, None] / np.maximum(seen.spans[kept], 1), axis=1)
    else:
        # Of less than a day, of what was seen.
        chance = burstiness / np.maximum(1.0, seen.starts[rows].sum(axis=1))
    shape = told_apart(by_hour, seen.of_an_hour(rows, by_hour) / max(1.0, float(times.min())))
    columns = [[tuple(each) for each in one.tolist()] for one in (by_hour, shape, ratios)]
    spread, leverage, reach = np.zeros(rows.size), 1.0, Days.reach
    if free >= 1:
        reach = _reach(free)
        spread = np.sqrt(np.sum((ratios - ratios.mean(axis=1, keepdims=True)) ** 2, axis=1) / free)
        leverage = 1 / max(1, int(times[(days[-1] + 1 + _SHIFT) % 7]))
    found = [
        Days(each, shape_of_each, of_days, wide, by_chance, max(0, free), leverage, reach)
        for each, shape_of_each, of_days, wide, by_chance in zip(
            *columns, spread.tolist(), chance.tolist(), strict=True
        )
    ]
    if free >= _LINE:
        lines = _lines(ratios, days, free, leverage)
        found = [
            replace(one, ahead=ahead, trend=trend, growth=growth)
            for one, (trend, ahead, growth) in zip(found, lines, strict=True)
        ]
    if kept.size >= _TWO_WEEKS:
        for row, week in _by_the_week(seen, rows, by_hour):
            by_week, shape_of_week = week
            found[row] = replace(found[row], by_hour=by_week, shape=shape_of_week)
    return found


def _reach(free: int) -> float:
    """Standard deviations from the middle of an interval to its end, by Student's law."""
    from scipy.special import stdtrit

    return float(stdtrit(free, (1 + LEVEL) / 2))


def _lines(ratios: Floats, days: Counts, free: int, leverage: float) -> Iterator[tuple[float, Ahead, Growth | None]]:
    """The slope of the line through the days of each, 0 where it is not more than chance; the next day by it; and the
    growth of a month, of three weeks or more.

    Of their logarithms, since a day varies by a share of what it is.
    """
    from scipy.special import stdtr

    logs = np.log(np.maximum(ratios, 1e-3))
    apart = days - days.mean()
    wide = float(np.sum(apart**2))
    slope = logs @ apart / wide
    mean = logs.mean(axis=1)
    left = np.sum((logs - mean[:, None] - slope[:, None] * apart) ** 2, axis=1) / (free - 1)
    ahead = float(days[-1] + 1 - days.mean())
    level = np.exp(mean + slope * ahead + left / 2)
    chance = 2 * stdtr(free - 1, -np.abs(slope) / np.sqrt(np.maximum(left, 1e-300) / wide))
    trend = np.where((left <= 0) | (chance < _SURE), slope, 0.0)
    of_next, reach = leverage + ahead**2 / wide, _reach(free - 1)
    half = reach * np.sqrt(left / wide)
    months = np.expm1(MONTH_DAYS * np.stack([slope - half, slope, slope + half], axis=1)).tolist()
    is_long = days[-1] - days[0] + 1 >= _THREE_WEEKS
    for slope_, at_end, spread, month in zip(
        trend.tolist(), level.tolist(), np.sqrt(left).tolist(), months, strict=True
    ):
        yield slope_, Ahead(at_end, spread, free - 1, of_next, reach), Growth(*month) if is_long else None


_TWO_WEEKS, _THREE_WEEKS = 14, 21
_Series = tuple[float, ...]


def _by_the_week(seen: _Seen, rows: Counts, by_hour: Floats) -> Iterator[tuple[int, tuple[_Series, _Series]]]:
    """Each hour of the week by itself, where what it brings is not what kinds of days have in common.

    Days keep their level: how much a weekday brings is a matter of kinds of days. by_hour: of the rows, shape (n_rows,
    24 or 168). Yielded: the place in the rows, the profile, and its shape.
    """
    from scipy.special import chdtrc

    cells, spans = seen.by_cell((seen.hours + _SHIFT * _HOURS) % _WEEK, _WEEK)
    sums, spans = cells[rows].reshape(-1, 7, _HOURS), spans.reshape(7, _HOURS)
    common = np.tile(by_hour, _WEEK // by_hour.shape[1]).reshape(-1, 7, _HOURS)
    level = sums.sum(axis=2, keepdims=True) / np.maximum((common * spans).sum(axis=2, keepdims=True), 1e-300)
    due = common * spans * level
    burstiness, varied = (
        one[:, None, None] for one in (seen.burstiness[rows], seen.rate_cv[rows] ** 2 * seen.steady_s[rows])
    )
    variance = burstiness * due + varied / np.maximum(spans, 1) * due**2
    excess = np.sum(np.where(due > 0, (sums - due) ** 2 / np.maximum(variance, 1e-300), 0.0), axis=(1, 2))
    free = np.count_nonzero(due > 0, axis=(1, 2)) - 7 - by_hour.shape[1] // 7
    own = np.flatnonzero(chdtrc(np.maximum(free, 1), excess) < _SURE / 10)
    each = np.where(spans > 0, sums / np.maximum(spans, 1) / np.maximum(level, 1e-300), common).reshape(-1, _WEEK)[own]
    times = max(1.0, float(seen.looked_s.sum()) / _DAY / 7)
    shape = told_apart(each, seen.of_an_hour(rows[own], each) / times)
    for row, week, shape_of_week in zip(own.tolist(), each.tolist(), shape.tolist(), strict=True):
        yield row, (tuple(week), tuple(shape_of_week))
