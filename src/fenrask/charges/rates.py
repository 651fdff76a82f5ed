"""Flat and graduated rates, exactly."""

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from fenrask.estate import Described, Rate, Rates, Tiers

__all__ = ["Piece", "estate_wide", "pieces", "rates_of"]


@dataclass(frozen=True)
class Piece:
    """The part of a volume that one rate covers; `above` and `up_to` are the edges of its step."""

    quantity: Fraction
    rate: Decimal
    above: Decimal = Decimal(0)
    up_to: Decimal | None = None

    @property
    def amount(self) -> Fraction:
        return self.quantity * Fraction(self.rate)


def pieces(rate: Decimal | Tiers, volume: Fraction, every_step: bool = False) -> Iterator[Piece]:
    """A volume cut at the steps of its rate; graduated, so that each step's rate covers that step only.

    A volume at a boundary belongs to the lower step. every_step: steps that it does not reach come, too, with nothing.

    >>> steps = Tiers(tiers=[{"up_to_gb": 10, "rate": 0}, {"rate": 2}])
    >>> [(int(piece.quantity), int(piece.amount)) for piece in pieces(steps, Fraction(13))]
    [(10, 0), (3, 6)]
    """
    if isinstance(rate, Decimal):
        yield Piece(volume, rate)
        return
    above = Decimal(0)
    for tier in rate.tiers:
        end = volume if tier.up_to_gb is None else min(volume, Fraction(tier.up_to_gb))
        if end > Fraction(above) or every_step:
            yield Piece(max(Fraction(0), end - Fraction(above)), tier.rate, above, tier.up_to_gb)
        above = tier.up_to_gb or above


def estate_wide(rate: Rate) -> bool:
    """Whether a rate is graduated over the volume of the whole estate."""
    return isinstance(rate, Tiers) and rate.sum_over == "estate"


def rates_of(described: Described, exit_name: str) -> Rates | None:
    """What an exit's offer costs where the exit lies; None for an exit without an offer."""
    offer = described.offer_of(exit_name)
    return None if offer is None else offer.rates_in(described.estate.region_of(described.estate.exits[exit_name]))
