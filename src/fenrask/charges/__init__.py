"""Rates, tiers, the month's bill."""

from fenrask.charges.bill import Bill, bill
from fenrask.charges.lines import Line, Use
from fenrask.charges.rates import Piece, pieces

__all__ = ["Bill", "Line", "Piece", "Use", "bill", "pieces"]
