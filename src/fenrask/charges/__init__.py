"""Rates, tiers, the month's bill, its division to the cent."""

from fenrask.charges.bill import Bill, Owner, bill, rates_of
from fenrask.charges.lines import Line, Use
from fenrask.charges.rates import Piece, pieces
from fenrask.charges.rounding import to_the_cent

__all__ = ["Bill", "Line", "Owner", "Piece", "Use", "bill", "pieces", "rates_of", "to_the_cent"]
