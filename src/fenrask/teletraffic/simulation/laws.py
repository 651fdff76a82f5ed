"""Hold laws as the arrays that the compiled kernels draw from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.holding import Delayed, Draw, HoldingTime, Mixture
from fenrask.teletraffic.variation import overlap

__all__ = ["Drawn", "Ending", "drawn"]

_FOREVER = 1e12


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
    shape (n_parts,); table: values that are drawn from. scale, spread: see `Simple`; of values, where they begin in the
    table, and how many. laws: of the parts, without their delays.
    """

    rates: Floats
    mixes: Floats
    kinds: NDArray[np.int64]
    scale: Floats
    spread: Floats
    delays: Floats
    reusable: NDArray[np.bool_]
    table: Floats
    laws: tuple[HoldingTime, ...]

    @property
    def mean_s(self) -> Floats:
        """Mean hold by row, s, delay included."""
        shares = np.diff(self.mixes, axis=1, prepend=0.0)
        mean: Floats = shares @ (np.array([float(law.mean_s) for law in self.laws]) + self.delays)
        return mean

    @property
    def overlap(self) -> float:
        """The share of two calls of one instant for which both are held, in the row that holds most (see `overlap`)."""
        row = int(np.argmax(self.rates * self.mean_s))
        shares = np.diff(self.mixes[row], prepend=0.0)
        held = (Delayed(law, float(delay)) if delay else law for law, delay in zip(self.laws, self.delays, strict=True))
        laws = [(float(share), law) for share, law in zip(shares, held, strict=True) if share > 0]
        return overlap(Mixture(tuple((share / sum(s for s, _ in laws), law) for share, law in laws)))

    def lives(self, row: int, size: int, dice: np.random.Generator) -> tuple[Floats, Floats]:
        """Lives of so many calls of a row, and the delays after them, s."""
        parts = np.searchsorted(self.mixes[row], dice.random(size), side="right").clip(max=self.kinds.size - 1)
        kind, scale, spread = self.kinds[parts], self.scale[parts], self.spread[parts]
        of_table = np.where(kind == Draw.VALUES, scale + dice.random(size) * spread, 0.0).astype(np.int64)
        shapes = [kind == Draw.EXPONENTIAL, kind == Draw.FIXED, kind == Draw.LOGNORMAL]
        lognormal = np.exp(np.where(shapes[2], scale + spread * dice.standard_normal(size), 0.0))
        drawn = [scale * dice.standard_exponential(size), scale, lognormal]
        return np.select(shapes, drawn, self.table[of_table]), self.delays[parts]

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
        law, left = self.laws[i], time - float(self.delays[i])
        mean = float(law.mean_s)
        return mean - left if left <= 0 else mean - float(law.integrated_survival(np.array(left)))


def drawn(streams: Sequence[tuple[Floats, Sequence[Ending]]]) -> Drawn:
    """Streams of calls, each with its rates by row, shape (n_rows,), and how its calls end."""
    table: list[float] = []
    rows, parts, scale, spread, delays, reusable = [], [], [], [], [], []
    for rates, endings in streams:
        for ending in endings:
            for part in ending.duration.simple():
                begins = len(table)
                table.extend(part.values)
                rows.append(rates * ending.share * part.share)
                parts.append(part)
                scale.append(float(begins) if part.values else part.scale)
                spread.append(float(len(part.values)) if part.values else part.spread)
                delays.append(part.delay_s + ending.delay_s)
                reusable.append(ending.reusable)
    by_part = np.stack(rows, axis=1)
    total = by_part.sum(axis=1)
    even = np.full(by_part.shape, 1 / len(parts))
    shares = np.divide(by_part, total[:, None], out=even, where=total[:, None] > 0)
    mixes = np.cumsum(shares, axis=1)
    mixes[:, -1] = 1.0
    return Drawn(
        total,
        mixes,
        np.array([part.draw for part in parts], dtype=np.int64),
        np.array(scale, dtype=np.float64),
        np.array(spread, dtype=np.float64),
        np.array(delays, dtype=np.float64),
        np.array(reusable, dtype=np.bool_),
        np.array(table or [0.0]),
        tuple(part.law for part in parts),
    )
