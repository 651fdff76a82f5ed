"""Rates, tiers, the month's bill, its division to the cent."""

from fenrask.charges.bill import UPKEEP, Bill, bill, hosts_by_rate
from fenrask.charges.explained import explain_bill
from fenrask.charges.lines import Line, Use
from fenrask.charges.meters import Meters, networks_left
from fenrask.charges.rates import Piece, estate_wide, pieces, rates_of
from fenrask.charges.rounding import Divided, to_the_cent

__all__ = [
    "UPKEEP",
    "Meters",
    "Bill",
    "Divided",
    "Line",
    "Piece",
    "Use",
    "bill",
    "estate_wide",
    "explain_bill",
    "hosts_by_rate",
    "networks_left",
    "pieces",
    "rates_of",
    "to_the_cent",
]
