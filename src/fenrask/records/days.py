"""What counts by hour tell of days: the profile that they share, how they vary about it, what the next one may bring.

A profile is as fine as the days that were seen bear out: one day like another; weekends apart; weekdays apart; each
hour of the week by itself. Days vary about it by chance and by themselves; the mean day, and the next one, lie within
what Student's law leaves of that (Student 1908), of as many days as are free of the profile.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrask.records.dispersion import Dispersion, told_apart

__all__ = ["LEVEL", "PRIOR_CV", "Days", "days_of"]

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
    trend: float = 0.0
    """Growth from day to day, as a share of the mean; 0 where none is sure."""
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
        return float(np.sqrt(max(0.0, self.spread**2 - self.chance)))

    @property
    def last(self) -> float:
        """What days are like after these, as a share of the mean that was measured: by the trend, where one is sure."""
        return self.ahead.level if self.trend and self.ahead is not None else 1.0

    @property
    def error(self) -> float:
        """The standard error of the mean, as a share of it: from the spread of days, or chance where there is one."""
        if not self.number:
            return 0.0
        deviation = self.spread if self.free else float(np.sqrt(self.chance))
        return deviation / float(np.sqrt(self.number))

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
        from scipy.special import ndtri, stdtrit

        at = (1 + LEVEL) / 2
        if ahead is not None:
            half = float(stdtrit(ahead.free, at)) * ahead.spread * float(np.sqrt(own + ahead.leverage))
            return _about(ahead.level, ahead.level * half)
        deviation, times = self.spread, float(stdtrit(max(1, self.free), at))
        if not self.free:
            deviation, times = float(np.sqrt(PRIOR_CV**2 + self.chance)), float(ndtri(at))
        return _about(1.0, deviation * times * float(np.sqrt(own + self.leverage)))


def _about(middle: float, half: float) -> tuple[float, float]:
    """An interval that ends above nothing: where it would not, it is as far apart in times."""
    return (middle - half if half < middle / 2 else middle * middle / (middle + half), middle + half)


def days_of(hours: Counts, looked_s: Counts, starts: Floats, uneven: Dispersion) -> Days:
    """The days of counts by hour.

    hours: since 1970, rising; looked_s: how much of each was looked at, s; starts: connections that began in each.
    """
    day = hours // _HOURS
    days, place = np.unique(day, return_inverse=True)
    spans: Floats = np.bincount(place, weights=looked_s).astype(np.float64)
    seen: Floats = np.bincount(place, weights=starts).astype(np.float64)
    whole = np.flatnonzero(spans >= _DAY / 2)
    weekday = (days + _SHIFT) % 7
    kinds = np.zeros(7, dtype=np.int64)
    ratios = seen[whole] / np.maximum(_due(hours, looked_s, starts, kinds, weekday[place], place)[whole], 1e-300)
    for finer in _groupings(weekday[whole]):
        if _is_apart(ratios, days[whole], kinds[weekday[whole]], finer[weekday[whole]]):
            kinds = finer
    due = _due(hours, looked_s, starts, kinds, weekday[place], place)
    kept = whole[due[whole] > 0]
    by_hour = _profile(hours, looked_s, starts, kinds[weekday[place]])[kinds]
    counts = np.bincount(kinds[weekday[kept]], minlength=int(kinds.max()) + 1)
    found = _about_profile(
        by_hour, seen[kept] / due[kept], days[kept], int(kept.size - np.count_nonzero(counts)),
        _chance(due[kept], spans[kept], float(starts.sum()), uneven), uneven, counts[kinds],
    )  # fmt: skip
    return _by_the_week(found, hours, looked_s, starts, uneven) if kept.size >= 14 else found


def _due(hours: Counts, looked_s: Counts, starts: Floats, kinds: Counts, weekday: Counts, place: Counts) -> Floats:
    """What the profile of a grouping has for what was looked at of each day; weekday, place: of each hour's day."""
    by_hour = _profile(hours, looked_s, starts, kinds[weekday])
    due = by_hour[kinds[weekday], hours % _HOURS] * looked_s
    found: Floats = np.bincount(place, weights=due).astype(np.float64)
    return found


def _chance(due: Floats, spans: Floats, total: float, uneven: Dispersion) -> float:
    """The variance of a day, as a share of it, that comes of chance alone; of less than a day, of what was seen."""
    if not due.size:
        return uneven.burstiness / max(1.0, total)
    return float(np.mean(uneven.burstiness / due + uneven.rate_cv**2 * uneven.steady_s / np.maximum(spans, 1)))


def _groupings(weekdays: Counts) -> list[Counts]:
    """Kinds of days by weekday, Monday first, from coarse to fine: as far as each was seen, and some twice."""
    found, counts = [], np.bincount(weekdays, minlength=7)
    if counts[:5].sum() >= 2 and counts[5:].sum() >= 1 and counts.sum() >= 4:
        found.append(np.array([0, 0, 0, 0, 0, 1, 1]))
    if counts.min() >= 2:
        found.append(np.arange(7))
    return found


def _profile(hours: Counts, looked_s: Counts, starts: Floats, kind: Counts) -> Floats:
    """Rates by kind of day and hour, shape (n_kinds, 24); an hour that was not looked at has the mean of its kind."""
    kinds = int(kind.max()) + 1
    cell = kind * _HOURS + hours % _HOURS
    sums = np.bincount(cell, weights=starts, minlength=kinds * _HOURS).reshape(kinds, _HOURS)
    spans = np.bincount(cell, weights=looked_s, minlength=kinds * _HOURS).reshape(kinds, _HOURS)
    mean = sums.sum(axis=1, keepdims=True) / np.maximum(spans.sum(axis=1, keepdims=True), 1)
    found: Floats = np.where(spans > 0, sums / np.maximum(spans, 1), mean)
    return found


def _is_apart(ratios: Floats, days: Counts, coarse: Counts, fine: Counts) -> bool:
    """Whether days of finer kinds differ by more than those of one of them do (analysis of variance: Fisher 1925).

    Beside a line through all, where there are days enough: a week that grows is no pattern of weekdays.
    """
    from scipy.special import fdtrc

    left, free = [], []
    for kinds in (coarse, fine):
        columns = [*(kinds == kind for kind in np.unique(kinds))]
        if ratios.size - np.unique(fine).size > _LINE:
            columns.append(days - days.mean())
        matrix = np.stack(columns, axis=1).astype(np.float64)
        fitted = matrix @ np.linalg.lstsq(matrix, ratios, rcond=None)[0]
        left.append(float(np.sum((ratios - fitted) ** 2)))
        free.append(ratios.size - len(columns))
    if free[1] < 1 or free[0] <= free[1]:
        return False
    between, within = (left[0] - left[1]) / (free[0] - free[1]), left[1] / free[1]
    return within <= 0 < between or (within > 0 and float(fdtrc(free[0] - free[1], free[1], between / within)) < _SURE)


def _about_profile(
    by_hour: Floats, ratios: Floats, days: Counts, free: int, chance: float, uneven: Dispersion, times: Counts
) -> Days:
    """The days about one profile, by weekday and hour, shape (7, 24); times: days like each weekday, shape (7,)."""
    same = bool((by_hour == by_hour[0]).all())
    each = (by_hour[0] if same else by_hour.reshape(-1)).tolist()
    shape = told_apart(each, uneven.of_an_hour(float(np.mean(each))) / max(1.0, float(times.min())))
    found = Days(tuple(each), shape, tuple(ratios.tolist()), 0.0, chance)
    if free < 1:
        return found
    spread = float(np.sqrt(np.sum((ratios - ratios.mean()) ** 2) / free))
    like = int(times[(days[-1] + 1 + _SHIFT) % 7])
    found = replace(found, spread=spread, free=free, leverage=1 / max(1, like))
    if free < _LINE:
        return found
    slope, ahead, is_sure = _line(ratios, days, free, found.leverage)
    return replace(found, ahead=ahead, trend=slope if is_sure else 0.0)


_LINE = 5
"""Days that are free of the profile from which on a line is laid through them."""


def _line(ratios: Floats, days: Counts, free: int, leverage: float) -> tuple[float, Ahead, bool]:
    """The slope of the line through days, the next day by it, and whether the slope is more than chance.

    Of their logarithms, since a day varies by a share of what it is.
    """
    from scipy.special import stdtr

    logs = np.log(np.maximum(ratios, 1e-3))
    apart = days - days.mean()
    wide = float(np.sum(apart**2))
    slope = float(np.dot(apart, logs)) / wide
    left = float(np.sum((logs - logs.mean() - slope * apart) ** 2)) / (free - 1)
    ahead = float(days[-1] + 1 - days.mean())
    level = float(np.exp(logs.mean() + slope * ahead + left / 2))
    found = Ahead(level, float(np.sqrt(left)), free - 1, leverage + ahead**2 / wide)
    sure = left <= 0 or 2 * float(stdtr(free - 1, -abs(slope) / np.sqrt(left / wide))) < _SURE
    return slope, found, bool(slope) and sure


def _by_the_week(found: Days, hours: Counts, looked_s: Counts, starts: Floats, uneven: Dispersion) -> Days:
    """The same with each hour of the week by itself, where what it brings is not what kinds of days have in common.

    Days keep their level: how much a weekday brings is a matter of kinds of days.
    """
    from scipy.special import chdtrc

    cell = (hours + _SHIFT * _HOURS) % _WEEK
    sums, spans = (np.bincount(cell, weights=each, minlength=_WEEK).reshape(7, _HOURS) for each in (starts, looked_s))
    common = np.resize(np.array(found.by_hour), _WEEK).reshape(7, _HOURS)
    level = sums.sum(axis=1, keepdims=True) / np.maximum((common * spans).sum(axis=1, keepdims=True), 1e-300)
    due = common * spans * level
    known = due > 0
    varied = uneven.rate_cv**2 * uneven.steady_s / np.maximum(spans, 1) * due**2
    excess = float(np.sum((sums - due)[known] ** 2 / (uneven.burstiness * due + varied)[known]))
    if float(chdtrc(int(known.sum()) - 7 - len(found.by_hour) // 7, excess)) >= _SURE / 10:
        return found
    by_hour = np.where(spans > 0, sums / np.maximum(spans, 1) / np.maximum(level, 1e-300), common).reshape(-1)
    times = float(looked_s.sum()) / _DAY / 7
    shape = told_apart(by_hour.tolist(), uneven.of_an_hour(float(by_hour.mean())) / max(1.0, times))
    return replace(found, by_hour=tuple(by_hour.tolist()), shape=shape)
