"""Hold laws as the arrays that the compiled kernels draw from."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding import Delayed, Empirical, Exponential, Fixed, HoldingTime, Lognormal, Mixture
from fenrask.teletraffic.variation import overlap

__all__ = ["Drawn", "Ending", "drawn"]

_FOREVER = 1e12
_EXPONENTIAL, _FIXED, _LOGNORMAL, _MEASURED = range(4)


@dataclass(frozen=True)
class Ending:
    """Calls that end in one way: their share, their lives, what follows, s, and whether that may be cut short."""

    share: float
    duration: HoldingTime
    delay_s: float = 0.0
    reusable: bool = False


@dataclass(frozen=True)
class Drawn:
    """Several streams of calls as one: rates in all, and which share of the calls has which hold.

    rates: shape (n_rows,); mixes: cumulated shares, shape (n_rows, n_parts); kinds, scale, spread, delays, reusable:
    shape (n_parts,); table: measured holds. scale, spread: the mean of an exponential or fixed hold, s; mean and
    standard deviation of a lognormal one's logarithm; of measured ones, where they begin in the table and how many.
    """

    rates: Floats
    mixes: Floats
    kinds: NDArray[np.int64]
    scale: Floats
    spread: Floats
    delays: Floats
    reusable: NDArray[np.bool_]
    table: Floats

    @property
    def mean_s(self) -> Floats:
        """Mean hold by row, s, delay included."""
        kind, scale, spread = self.kinds, self.scale, self.spread
        means = np.where(kind == _LOGNORMAL, np.exp(np.where(kind == _LOGNORMAL, scale + spread**2 / 2, 0.0)), scale)
        for i in np.flatnonzero(kind == _MEASURED):
            means[i] = float(np.mean(self.table[int(scale[i]) : int(scale[i] + spread[i])]))
        shares = np.diff(self.mixes, axis=1, prepend=0.0)
        mean: Floats = shares @ (means + self.delays)
        return mean

    @property
    def overlap(self) -> float:
        """The share of two calls of one instant for which both are held, in the row that holds most (see `overlap`)."""
        row = int(np.argmax(self.rates * self.mean_s))
        shares = np.diff(self.mixes[row], prepend=0.0)
        laws = [(float(share), self._law(i)) for i, share in enumerate(shares) if share > 0]
        return overlap(Mixture(tuple((share / sum(s for s, _ in laws), law) for share, law in laws)))

    def _law(self, i: int) -> HoldingTime:
        kind, scale, spread, delay = self.kinds[i], float(self.scale[i]), float(self.spread[i]), float(self.delays[i])
        law: HoldingTime = Fixed(scale)
        if kind == _EXPONENTIAL:
            law = Exponential(scale)
        elif kind == _LOGNORMAL:
            law = Lognormal(math.exp(scale + spread**2 / 2), spread)
        elif kind == _MEASURED:
            law = Empirical(tuple(self.table[int(scale) : int(scale + spread)].tolist()))
        return Delayed(law, delay) if delay else law

    def lives(self, row: int, size: int, dice: np.random.Generator) -> tuple[Floats, Floats]:
        """Lives of so many calls of a row, and the delays after them, s."""
        parts = np.searchsorted(self.mixes[row], dice.random(size), side="right").clip(max=self.kinds.size - 1)
        kind, scale, spread = self.kinds[parts], self.scale[parts], self.spread[parts]
        measured = self.table[np.where(kind == _MEASURED, scale + dice.random(size) * spread, 0.0).astype(np.int64)]
        shapes = [kind == _EXPONENTIAL, kind == _FIXED, kind == _LOGNORMAL]
        lognormal = np.exp(np.where(shapes[2], scale + spread * dice.standard_normal(size), 0.0))
        drawn = [scale * dice.standard_exponential(size), scale, lognormal]
        return np.select(shapes, drawn, measured), self.delays[parts]

    def settled_s(self, rest: float) -> float:
        """The time after which what is still held is at most this share of the mean held, s, whatever the row."""
        shares = np.max(np.diff(self.mixes, axis=1, prepend=0.0), axis=0)
        least = float(np.min(self.mean_s))
        time = max(least, 1e-9)
        while time < _FOREVER and sum(s * self._longer(i, time) for i, s in enumerate(shares) if s) > rest * least:
            time *= 1.3
        return time

    def _longer(self, i: int, time: float) -> float:
        """The mean of what a hold of part i is longer than a time, s."""
        kind, scale, spread, left = (
            self.kinds[i],
            float(self.scale[i]),
            float(self.spread[i]),
            time - float(self.delays[i]),
        )
        if kind == _MEASURED:
            return float(np.mean(np.maximum(self.table[int(scale) : int(scale + spread)] - left, 0.0)))
        if kind == _FIXED or left <= 0:
            mean = math.exp(scale + spread**2 / 2) if kind == _LOGNORMAL else scale
            return max(0.0, mean - left)
        if kind == _EXPONENTIAL:
            return scale * math.exp(-left / scale)
        if not spread:
            return max(0.0, math.exp(scale) - left)
        z = (math.log(left) - scale) / spread
        return math.exp(scale + spread**2 / 2) * _upper(z - spread) - left * _upper(z)


def _upper(z: float) -> float:
    """The standard normal's upper tail."""
    return math.erfc(z / math.sqrt(2)) / 2


def drawn(streams: Sequence[tuple[Floats, Sequence[Ending]]]) -> Drawn:
    """Streams of calls, each with its rates by row, shape (n_rows,), and how its calls end."""
    table: list[float] = []
    rows, kinds, scale, spread, delays, reusable = [], [], [], [], [], []
    for rates, endings in streams:
        for ending in endings:
            for share, kind, first, second, delay in _simple(ending.duration, table):
                rows.append(rates * ending.share * share)
                kinds.append(kind)
                scale.append(first)
                spread.append(second)
                delays.append(delay + ending.delay_s)
                reusable.append(ending.reusable)
    by_part = np.stack(rows, axis=1)
    total = by_part.sum(axis=1)
    even = np.full(by_part.shape, 1 / len(kinds))
    shares = np.divide(by_part, total[:, None], out=even, where=total[:, None] > 0)
    mixes = np.cumsum(shares, axis=1)
    mixes[:, -1] = 1.0
    return Drawn(
        total,
        mixes,
        np.array(kinds, dtype=np.int64),
        np.array(scale, dtype=np.float64),
        np.array(spread, dtype=np.float64),
        np.array(delays, dtype=np.float64),
        np.array(reusable, dtype=np.bool_),
        np.array(table or [0.0]),
    )


_Simple = tuple[float, int, float, float, float]
"""Share, kind, two parameters, delay, s."""


def _simple(law: HoldingTime, table: list[float]) -> Iterator[_Simple]:
    """A law as a mixture of simple ones."""
    if isinstance(law, Mixture):
        for share, part in law.parts:
            for inner, *rest in _simple(part, table):
                yield float(share) * inner, *rest  # type: ignore[misc]
    elif isinstance(law, Delayed):
        for share, kind, first, second, delay in _simple(law.law, table):
            yield share, kind, first, second, delay + float(law.delay_s)
    elif isinstance(law, Exponential):
        yield 1.0, _EXPONENTIAL, float(law.mean_s), 0.0, 0.0
    elif isinstance(law, Fixed):
        yield 1.0, _FIXED, float(law.mean_s), 0.0, 0.0
    elif isinstance(law, Lognormal):
        sigma = float(law.sigma)
        yield 1.0, _LOGNORMAL, float(np.log(law.mean_s)) - sigma**2 / 2, sigma, 0.0
    elif isinstance(law, Empirical):
        yield from _measured(law, table)
    else:
        raise TypeError(f"no numbers are drawn of {type(law).__name__}")


def _measured(law: Empirical, table: list[float]) -> Iterator[_Simple]:
    """Those that are as likely as each other together."""
    together: dict[float, list[float]] = {}
    for hold, share in zip(law.measured_s, law.shares or (1.0,) * len(law.measured_s), strict=True):
        together.setdefault(share, []).append(hold)
    whole = sum(share * len(holds) for share, holds in together.items())
    for share, holds in together.items():
        begins = len(table)
        table.extend(holds)
        yield share * len(holds) / whole, _MEASURED, float(begins), float(len(holds)), 0.0
