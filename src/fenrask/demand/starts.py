"""Moments at which jobs start: what is held and opened then, of each part."""

from collections.abc import Iterator
from dataclasses import dataclass
from math import lcm

import numpy as np

from fenrask.demand.load import shaped
from fenrask.demand.parts import Laid, Parts
from fenrask.estate.traffic import Numbers, Series
from fenrask.teletraffic.bursts import held_since
from fenrask.units import SECONDS_PER_DAY

__all__ = ["Starts", "most_new", "new_in_worst_second", "starts"]

_MOST, _AT_ONCE_S = 400, 1e-6


@dataclass(frozen=True)
class Starts:
    """One moment, as factors of what each part opens and holds in the mean over time, shape (n_parts,).

    new: opened in that second; last: held of a start at that moment; earlier: held of earlier ones. 1, 0 and 1 for what
    comes by chance. share: the part of the connections that this is said of; others come at any time.
    """

    new: Series
    last: Series
    earlier: Series
    share: Series

    @property
    def held(self) -> Series:
        """Held of all connections."""
        return self.share * (self.last + self.earlier) + 1 - self.share

    @property
    def opened(self) -> Series:
        """Opened of all connections."""
        return self.share * self.new + 1 - self.share


def starts(laid: Laid, rows: Numbers) -> Iterator[Starts]:
    """The moments of some rows, by when their jobs start; jobs that do not say when start with each of the others.

    Of more moments than can be looked at, one in which all start together, which is no less than any.
    """
    traffic, flow = laid.traffic, laid.flow[rows]
    every, spread, at = (column[flow] for column in (traffic.every_s, traffic.spread_s, traffic.at_s))
    last_ones, earlier_ones = laid.bursts
    together = Starts(laid.new_at_worst[rows], last_ones[rows], earlier_ones[rows], traffic.job_share[flow])
    stated = np.flatnonzero((every > 0) & ~np.isnan(at))
    groups, back = np.unique(np.stack([every, spread, at])[:, stated], axis=1, return_inverse=True)
    moments = _moments(groups) if groups.shape[1] > 1 else None
    if moments is None:
        yield together
        return
    curve = laid.curve[rows]
    for moment in moments:
        new, last, earlier = (column.copy() for column in (together.new, together.last, together.earlier))
        for number, (period, over, begins) in enumerate(groups.T.tolist()):
            since = (moment - begins - over) % period
            # A start that is under way counts as one that ends now.
            if since < _AT_ONCE_S or period - since < over + _AT_ONCE_S:
                continue
            own = stated[back.ravel() == number]
            new[own], last[own] = 0.0, 0.0
            for curve_number in np.unique(curve[own]).tolist():
                law = laid.curves.curve(int(curve_number)).law
                earlier[own[curve[own] == curve_number]] = held_since(law, period, over, since)
        yield Starts(new, last, earlier, together.share)


def most_new(laid: Laid, parts: Parts) -> Series:
    """How many times its mean rate each part opens in the second in which most are opened, shape (n_parts,)."""
    usual = parts.rate_per_s * laid.curves.mean_profile[parts.curve]
    return max((one.opened for one in starts(laid, parts.rows)), key=lambda factors: float(np.dot(factors, usual)))


def new_in_worst_second(parts: Parts) -> float | None:
    """New connections in the second in which most are opened; None where no job makes it another than the mean one."""
    laid = parts.laid
    if not np.any(laid.traffic.every_s[parts.flow]):
        return None
    group = np.zeros(len(parts), dtype=np.intp)
    return float(shaped(parts, group, 1, parts.rate_per_s * most_new(laid, parts)).max())


def _moments(groups: Series) -> list[float] | None:
    """The ends of all starts of jobs, s, until they come as they came before; None for too many."""
    periods = groups[0]
    whole = bool(np.all(periods == np.floor(periods)))
    span = min(SECONDS_PER_DAY, lcm(*periods.astype(np.int64).tolist())) if whole else SECONDS_PER_DAY
    if float(np.sum(span / periods)) > _MOST:
        return None
    each = (
        begins + over + period * np.arange(max(1, round(span / period))) for period, over, begins in groups.T.tolist()
    )
    found: list[float] = np.unique(np.round(np.concatenate([*each]) % span, 6)).tolist()
    return found
