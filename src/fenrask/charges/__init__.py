"""Rates, tiers, the month's bill, its division to the cent."""

from fenrask.charges.bill import Bill, address_month, bill, hosts_by_rate, lasting_month
from fenrask.charges.explained import explain_bill
from fenrask.charges.lines import Line, Use
from fenrask.charges.meters import METERS, Charge, Flowing, Meter, Meters, networks_left
from fenrask.charges.rates import Piece, estate_wide, pieces, rates_of
from fenrask.charges.rounding import Divided, to_the_cent
from fenrask.charges.scaled import ScaledBill, ScaledLine, scaled_bill
from fenrask.charges.standing import (
    LEAST_OF,
    STANDING,
    UPKEEP,
    Standing,
    least_month,
    set_up,
    standing_charges,
    take_down,
    upkeep_hours,
)

__all__ = [
    "LEAST_OF",
    "METERS",
    "STANDING",
    "UPKEEP",
    "Bill",
    "Charge",
    "Divided",
    "Flowing",
    "Line",
    "Meter",
    "Meters",
    "Piece",
    "ScaledBill",
    "ScaledLine",
    "Standing",
    "Use",
    "address_month",
    "bill",
    "estate_wide",
    "explain_bill",
    "hosts_by_rate",
    "lasting_month",
    "least_month",
    "networks_left",
    "pieces",
    "rates_of",
    "scaled_bill",
    "standing_charges",
    "to_the_cent",
    "set_up",
    "take_down",
    "upkeep_hours",
]
