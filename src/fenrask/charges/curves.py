"""Cost against volume as straight pieces, and where two such curves change places; exactly."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cache
from typing import Literal

from fenrask.estate import Rate, Tiers

__all__ = ["Crossing", "Curve", "crossings"]

Zero = Fraction(0)
_FINE, _STRETCHES = 1_000_000, 50


@dataclass(frozen=True)
class Curve:
    """A cost that begins at `start` and rises by straight pieces: (volume from which, slope), the first from 0."""

    start: Fraction
    pieces: tuple[tuple[Fraction, Fraction], ...]

    @classmethod
    def of_rate(cls, rate: Rate, share: Fraction = Fraction(1)) -> "Curve":
        """What a flat or graduated rate costs for a share of the volume."""
        if isinstance(rate, Decimal) or not share:
            return cls(Zero, ((Zero, Fraction(rate) * share if isinstance(rate, Decimal) else Zero),))
        assert isinstance(rate, Tiers)
        pieces, begins = [], Zero
        for tier in rate.tiers:
            pieces.append((begins / share, Fraction(tier.rate) * share))
            begins = Fraction(tier.up_to_gb or 0)
        return cls(Zero, tuple(pieces))

    @classmethod
    def traced(cls, cost: Callable[[Fraction], Fraction], end: Fraction) -> "Curve":
        """A cost that is straight piece by piece, found by asking for it; beyond `end` it goes on as it came.

        Where the straight lines at both ends of a stretch are not one, it bends where they cross, or the stretch is
        halved. Exact, since all are fractions, where no two bends lie within a fiftieth of `end`; what rises and falls
        back to the same line within less than that may not be seen.
        """
        cost, step = cache(cost), end / _FINE
        pieces: list[tuple[Fraction, Fraction]] = []
        marks = [end * number / _STRETCHES for number in range(_STRETCHES + 1)]
        pending = [*reversed([*zip(marks, marks[1:], strict=False)])]
        while pending:
            low, high = pending.pop()
            at_low, at_high = cost(low), cost(high)
            rise = (cost(low + step) - at_low) / step
            fall = (at_high - cost(high - step)) / step
            if at_low + rise * (high - low) == at_high and rise == fall:
                middle = (low + high) / 2
                if high - low <= 4 * step or cost(middle) == at_low + rise * (middle - low):
                    pieces.append((low, rise))
                    continue
                bend = middle
            elif rise == fall:
                bend = (low + high) / 2
            else:
                bend = (at_high - at_low - fall * high + rise * low) / (rise - fall)
                if not low < bend < high:
                    bend = (low + high) / 2
            if high - low <= 4 * step:
                pieces.append((low, (at_high - at_low) / (high - low)))
                continue
            pending += [(bend, high), (low, bend)]
        kept = [one for number, one in enumerate(pieces) if not number or one[1] != pieces[number - 1][1]]
        return cls(cost(Zero), tuple(kept))

    def at(self, volume: Fraction) -> Fraction:
        """The cost of a volume; a boundary belongs to the lower piece, which costs the same."""
        total = self.start
        for (begins, slope), (ends, _) in zip(self.pieces, [*self.pieces[1:], (volume, Zero)], strict=True):
            if volume > begins:
                total += (min(volume, max(ends, begins)) - begins) * slope
        return total

    def slope_after(self, volume: Fraction) -> Fraction:
        """How steep it is just above a volume."""
        return next(slope for begins, slope in reversed(self.pieces) if begins <= volume)

    def __add__(self, other: "Curve") -> "Curve":
        edges = sorted({begins for begins, _ in (*self.pieces, *other.pieces)})
        return Curve(
            self.start + other.start,
            tuple((edge, self.slope_after(edge) + other.slope_after(edge)) for edge in edges),
        )


@dataclass(frozen=True)
class Crossing:
    """Where two curves meet: they cross there, touch, or are one from there up to `until` (None: for good)."""

    volume: Fraction
    kind: Literal["cross", "touch", "coincide"]
    until: Fraction | None = None


def crossings(curve: Curve, other: Curve) -> list[Crossing]:
    """Every volume above 0, or stretch, at which two curves cost the same, in rising order.

    Solved on each straight piece of their difference; nothing is searched by eye.
    """
    edges = sorted({begins for begins, _ in (*curve.pieces, *other.pieces)})
    found: list[Crossing] = []
    before = Zero
    """The sign of the difference before the point that is looked at; 0 at the very beginning."""
    for number, edge in enumerate(edges):
        end = edges[number + 1] if number + 1 < len(edges) else None
        gap = curve.at(edge) - other.at(edge)
        slope = curve.slope_after(edge) - other.slope_after(edge)
        if gap == 0:
            found += _at_edge(edge, slope, before, end)
            before = slope or before
        elif slope and gap * slope < 0:
            volume = edge - gap / slope
            if end is None or volume < end:
                found.append(Crossing(volume, "cross"))
                before = slope
            else:
                before = gap
        else:
            before = gap
    return _joined(found)


def _at_edge(edge: Fraction, slope: Fraction, before: Fraction, end: Fraction | None) -> Iterable[Crossing]:
    if slope == 0:
        yield Crossing(edge, "coincide", end)
    elif edge > 0 and before:
        yield Crossing(edge, "cross" if before * slope < 0 else "touch")


def _joined(found: list[Crossing]) -> list[Crossing]:
    """Stretches that follow each other are one; a point at the end of a stretch belongs to it."""
    result: list[Crossing] = []
    for crossing in found:
        last = result[-1] if result else None
        if last and last.kind == "coincide" and last.until == crossing.volume:
            if crossing.kind == "coincide":
                result[-1] = Crossing(last.volume, "coincide", crossing.until)
            continue
        result.append(crossing)
    return result
