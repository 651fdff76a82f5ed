"""Jobs that all hosts start at one time, found in counts by second: how often, and over how long they open connections.

The time between two starts is the first lag at which counts are like themselves again (their autocorrelation, by a fast
Fourier transform: Wiener 1930, Khinchin 1934); counts folded over it tell the rest.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["LEAST_CONNECTIONS", "Job", "job"]

Floats = NDArray[np.float64]
Counts = NDArray[np.int64]
_DAY = 86_400
_MOST_S = 14 * _DAY
LEAST_CONNECTIONS, _LEAST_STARTS = 50, 5
_WIDTHS = (3, 15, 61)
_UNLIKE, _LIKE, _NEAR = 0.3, 0.5, 0.85
_WHOLE, _PART, _LONGEST_S = 0.95, 0.25, 900.0
_LEAST_SHARE, _LITTLE = 0.25, 0.02
_LEAST_CV = 0.01


@dataclass(frozen=True)
class Job:
    """every_s: between two starts; spread_s: over which the connections of one are opened, 0 within a second.

    share: the part of all connections that come with the starts, where others come at any time. cv: coefficient of
    variation of the connections of a start about those of the starts beside it; 0 where hosts open the same each time.
    """

    every_s: float
    spread_s: float
    cv: float
    share: float = 1.0


def job(seconds: Counts, starts: Counts) -> Job | None:
    """The job that counts by second show; None where less than a quarter come in short bursts at equal times.

    seconds, starts: since 1970, rising, and the connections that began in each, of one length.
    """
    if int(starts.sum()) < LEAST_CONNECTIONS:
        return None
    kept = seconds < seconds[0] + _MOST_S
    seconds, starts = seconds[kept] - seconds[0], starts[kept]
    most = min(_DAY, (int(seconds[-1]) + 1) // 3)
    if most < 4:
        return None
    apart = _apart(seconds, starts, most + _WIDTHS[-1])
    folds = (fold for width in _WIDTHS for fold in [_fold(seconds, starts, apart, width)] if fold is not None)
    if (found := next(folds, None)) is None:
        return None
    every, begin, length = found
    here = (seconds - begin) % every < length
    total, with_starts = float(starts.sum()), float(starts[here].sum())
    beside = (total - with_starts) / max(1, every - length) * length
    share = (with_starts - beside) / total
    if share < _LEAST_SHARE:
        return None
    numbers: Floats = np.bincount((seconds[here] - begin) // every + 1, weights=starts[here]).astype(np.float64)
    numbers = numbers[np.flatnonzero(numbers)[0] : np.flatnonzero(numbers)[-1] + 1]
    if np.count_nonzero(numbers) < _LEAST_STARTS:
        return None
    folded = _folded(seconds, starts, every)[(begin + np.arange(length)) % every]
    # Of a spread over n seconds (sum)^2 / (sum of squares) is n, were there no chance in the counts.
    width = float(folded.sum()) ** 2 / max(float(np.sum(folded**2) - folded.sum()), 1.0)
    return Job(float(every), width if length > 1 else 0.0, _cv(numbers), 1.0 if share > _WHOLE else share)


def _fold(seconds: Counts, starts: Counts, apart: Floats, width: int) -> tuple[int, int, int] | None:
    """The time between two starts, where in it a start begins, and how long it takes, s; None for no short one.

    What is counted together tells the lag to about its width: of those near it, that with the sharpest starts is it.
    """
    lag = _lag(seconds, starts, apart, width)
    if lag is None:
        return None
    near = range(max(2, lag - width // 2), lag + width // 2 + 1)
    every = max(near, key=lambda period: float(np.sum(_folded(seconds, starts, period) ** 2)) * period)
    begin, length = _window(_folded(seconds, starts, every))
    return (every, begin, length) if length <= min(_PART * every, _LONGEST_S) else None


def _folded(seconds: Counts, starts: Counts, every: int) -> Floats:
    """Connections by second of the time between two starts."""
    folded: Floats = np.bincount(seconds % every, weights=starts, minlength=every).astype(np.float64)
    return folded


def _apart(seconds: Counts, starts: Counts, most: int) -> Floats:
    """The number of pairs of connections that begin 0 to `most` seconds apart; shape (most + 1,)."""
    from fenrask.records.kernels.repeats import pairs_apart

    span = int(seconds[-1]) + 1
    if seconds.size**2 * min(1.0, most / span) < _FEW_PAIRS:
        few: Floats = pairs_apart(seconds, starts, most)
        return few
    from scipy.fft import irfft, next_fast_len, rfft

    counts = np.bincount(seconds, weights=starts, minlength=span)
    size = next_fast_len(span + most, real=True)
    found: Floats = irfft(np.abs(rfft(counts, size)) ** 2, size)[: most + 1]
    return found


_FEW_PAIRS = 3e6
"""Up to which it is quicker to go through them."""


def _lag(seconds: Counts, starts: Counts, apart: Floats, width: int) -> int | None:
    """The first lag, s, at which counts are like themselves again; None for none within a third of what was seen.

    width: seconds that are counted together, so that few connections of a long start are seen as one.
    """
    from fenrask.records.kernels.repeats import likeness

    most = apart.size - 1 - _WIDTHS[-1]
    alike = likeness(apart, seconds, starts, int(seconds[-1]) + 1, width, most + 1)
    unlike = np.flatnonzero(alike[: most + 1] < _UNLIKE)
    if not unlike.size:
        return None
    first = int(unlike[0])
    after = alike[first : most + 1]
    top = float(after.max(initial=0.0))
    if top < _LIKE:
        return None
    near = first + int(np.flatnonzero(after >= _NEAR * top)[0])
    # Up the slope to its highest point.
    return near + int(np.argmax(alike[near : near + max(width, near // 8)]))


def _window(folded: Floats) -> tuple[int, int]:
    """Where the stretch of a fold begins that is most above what comes at any time, and its length, s.

    The stretch with the largest sum (Bentley 1984) of what is above the median and its chance.
    """
    usual = float(np.median(folded))
    above = folded - usual - np.sqrt(usual) - _LITTLE * float(folded.max())
    # Begun in the middle of the quietest half, so that no start is cut.
    half = max(1, folded.size // 2)
    sums = np.concatenate([[0.0], np.cumsum(np.tile(folded, 2))])
    first = (int(np.argmin(sums[half : half + folded.size] - sums[: folded.size])) + half // 2) % folded.size
    upto = np.concatenate([[0.0], np.cumsum(np.roll(above, -first))])
    end = int(np.argmax(upto - np.minimum.accumulate(upto)))
    begin = int(np.argmin(upto[: end + 1]))
    return (begin + first) % folded.size, max(1, end - begin)


def _cv(numbers: Floats) -> float:
    """Of the numbers of one start after the other, about a line through their neighbours: a day's shape is none."""
    found = float(np.sqrt(np.mean(np.diff(numbers, 2) ** 2) / 6) / numbers.mean())
    return found if found >= _LEAST_CV else 0.0
