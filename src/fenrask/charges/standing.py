"""What an exit costs for existing, whatever it carries: one function a charge, one registry."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from math import ceil

from fenrask.charges.rates import rates_of
from fenrask.estate import Described
from fenrask.units import counted, exact

__all__ = [
    "LEAST_OF",
    "STANDING",
    "UPKEEP",
    "Standing",
    "least_month",
    "set_up",
    "standing_charges",
    "take_down",
    "upkeep_hours",
]

UPKEEP = "upkeep"
"""The item of work on machines of one's own, which no provider charges."""


LEAST_OF = ("hours", "processed")
"""The items of the bill that count toward the least that an exit costs a month."""


@dataclass(frozen=True)
class Standing:
    """A quantity at a rate, with the reason; of one exit in a month."""

    quantity: Fraction
    unit: str
    rate: Decimal
    reason: str

    @property
    def amount(self) -> Fraction:
        return self.quantity * Fraction(self.rate)


def _hours(described: Described, name: str) -> Standing | None:
    """By the hour, rounded up to whole hours."""
    rates, exit_ = rates_of(described, name), described.estate.exits[name]
    if rates is None or not rates.hour:
        return None
    hours = Fraction(described.catalogue.hours_per_month)
    if exit_.running_hours is not None:
        hours = min(hours, Fraction(ceil(exact(exit_.running_hours))))
    reason = f"{hours} hours" if exit_.units == 1 else f"{exit_.units} x {hours} hours"
    return Standing(exit_.units * hours, "h", rates.hour, reason)


def _upkeep(described: Described, name: str) -> Standing | None:
    """The work that self-run machines take."""
    hours, wage = upkeep_hours(described, name), described.estate.wage_per_hour
    if not hours or not wage:
        return None
    units = described.estate.exits[name].units
    return Standing(hours, "h", wage, f"{counted(units, 'machine')}, {float(hours / units):g} hours of work each")


STANDING: dict[str, Callable[[Described, str], Standing | None]] = {"hours": _hours, UPKEEP: _upkeep}
"""By item of the bill: what an exit costs for it, None for nothing. Each reads the exit by its name."""


def standing_charges(described: Described, name: str) -> Mapping[str, Standing]:
    """What one exit costs for existing, by item of the bill."""
    each = ((item, charge(described, name)) for item, charge in STANDING.items())
    return {item: one for item, one in each if one is not None}


def upkeep_hours(described: Described, name: str) -> Fraction:
    """Hours of work a month on the machines of one exit."""
    offer = described.offer_of(name)
    return described.estate.exits[name].units * exact(offer.upkeep_hours) if offer is not None else Fraction(0)


def set_up(described: Described, name: str) -> Fraction:
    """What it costs once to put up an exit: what its offer charges for that, and the work."""
    rates, offer, units = rates_of(described, name), described.offer_of(name), described.estate.exits[name].units
    charged = units * Fraction(rates.once) if rates else Fraction(0)
    return charged + (_work(described, units, offer.set_up_hours) if offer else 0)


def take_down(described: Described, name: str) -> Fraction:
    """What it costs once to take down an exit: the work."""
    offer, units = described.offer_of(name), described.estate.exits[name].units
    return _work(described, units, offer.take_down_hours) if offer else Fraction(0)


def _work(described: Described, units: int, hours: float) -> Fraction:
    return units * exact(hours) * Fraction(described.estate.wage_per_hour)


def least_month(described: Described, name: str) -> Fraction:
    """The least that an exit costs a month, what `LEAST_OF` names together."""
    rates = rates_of(described, name)
    return described.estate.exits[name].units * Fraction(rates.month_minimum) if rates else Fraction(0)
