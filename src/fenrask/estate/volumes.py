"""Bytes that flows carry in a month, exactly, from the numbers as they were written: whole numbers over a denominator.

Numbers of any size, in columns of Python integers: they add up exactly, and far quicker than fractions.
"""

from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from math import lcm
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fenrask.units import KIB, SECONDS_PER_HOUR, exact

if TYPE_CHECKING:
    from fenrask.estate.traffic import Series, Traffic

__all__ = ["MonthVolumes", "Whole", "as_written"]

_GIB = 2**30
_MOST_DECIMALS = 22
"""Powers of ten up to here are floats without rounding (IEEE 754)."""
_CERTAIN = 1e15
"""Whole numbers below, of at most 15 digits, are each the only ones so short that their floats are read back from."""

Whole = NDArray[Any]
"""A column of Python integers, shape (n,)."""


def as_written(values: "Series") -> tuple[Whole, int]:
    """Numbers as they were written, as whole numbers over a power of ten; values: finite, shape (n,).

    The shortest decimal that is read as the same float is taken (Steele & White 1990).
    """
    decimals = np.full(values.size, -1)
    found = np.zeros(values.size)
    small = np.abs(values) < _CERTAIN
    for places in range(_MOST_DECIMALS):
        left = np.flatnonzero(small & (decimals < 0))
        if not left.size:
            break
        whole = np.rint(values[left] * 10.0**places)
        fits = (whole / 10.0**places == values[left]) & (np.abs(whole) < _CERTAIN)
        found[left[fits]], decimals[left[fits]] = whole[fits], places
    others = {row: Decimal(repr(float(values[row]))) for row in np.flatnonzero(decimals < 0).tolist()}
    most = max([int(decimals.max(initial=0)), *(-int(one.as_tuple().exponent) for one in others.values())])
    powers = np.array([10**number for number in range(most + 1)], dtype=object)
    whole = found.astype(np.int64).astype(object) * powers[most - np.maximum(decimals, 0)]
    for row, value in others.items():
        whole[row] = int(value.scaleb(most))
    return whole, 10**most


@dataclass(frozen=True, eq=False)
class MonthVolumes:
    """What whole flows carry in the catalogue's month, were all of them to arrive: bytes times `denominator`.

    sent, received: shape (n_flows,).
    """

    sent: Whole
    received: Whole
    denominator: int

    @classmethod
    def of(cls, traffic: "Traffic") -> "MonthVolumes":
        """The volumes of all flows of an estate; those on the wire, to the byte, where the bill counts these."""
        if traffic.meters_wire:
            month_s = float(traffic.hours_per_month) * SECONDS_PER_HOUR
            ways = (traffic.on_wire.out_per_s, traffic.on_wire.in_per_s)
            sent, received = (np.array([round(one * month_s) for one in way.tolist()], dtype=object) for way in ways)
            return cls(sent, received, 1)
        connections, below = _connections(traffic)
        parts = []
        for way in ("out", "in"):
            each, of_each = as_written(traffic.stated(f"{way}_kib_per_connection", 0.0))
            month = traffic.stated(f"{way}_gib_per_month", np.nan)
            stated = ~np.isnan(month)
            whole, of_whole = as_written(np.where(stated, month, 0.0))
            common = lcm(below * of_each, of_whole)
            by_connection = connections * each * (KIB * (common // (below * of_each)))
            parts.append((np.where(stated, whole * (_GIB * (common // of_whole)), by_connection), common))
        (sent, of_sent), (received, of_received) = parts
        common = lcm(of_sent, of_received)
        return cls(sent * (common // of_sent), received * (common // of_received), common)

    @property
    def both(self) -> Whole:
        """Sent and received."""
        both: Whole = self.sent + self.received
        return both


def _connections(traffic: "Traffic") -> tuple[Whole, int]:
    """Connections in a month, or requests where these are stated, over a denominator."""
    estate = traffic.estate
    month_s = traffic.hours_per_month * SECONDS_PER_HOUR
    asked = [one for one in traffic.profiles if one and one not in traffic.of_pools]
    means = [sum(map(exact, estate.profiles[one]), Fraction(0)) / len(estate.profiles[one]) for one in asked]
    by_profile = [month_s * mean for mean in (Fraction(1), *means)]
    of_profiles = lcm(*(one.denominator for one in by_profile))
    seconds = np.array([int(one * of_profiles) for one in by_profile], dtype=object)[traffic.asked_profile]
    each = traffic.stated("per_host_per_s", 0.0)
    if traffic.pooled:
        each = each + traffic.stated("requests_per_host_per_s", 0.0)
    rates, of_rates = as_written(each)
    rates = rates * traffic.hosts.astype(np.int64).astype(object)
    users = np.flatnonzero(~np.isnan(traffic.stated("users", np.nan)))
    if users.size:
        columns = [as_written(traffic.stated(key, 0.0)[users]) for key in ("users", "connections_per_user")]
        lives, of_lives = as_written(traffic.duration_s[users])
        (people, of_people), (each, of_each) = columns
        own = [
            Fraction(above * of_lives, of_people * of_each * below)
            for above, below in zip((people * each).tolist(), lives.tolist(), strict=True)
        ]
        common = lcm(of_rates, *(one.denominator for one in own))
        rates = rates * (common // of_rates)
        rates[users] = [int(one * common) for one in own]
        of_rates = common
    return rates * seconds, of_rates * of_profiles
