"""How evenly connections fall on nodes and equal routes: few that carry much do not, by chance."""

from dataclasses import dataclass

import numpy as np

from fenrask.demand import Demand, Laid, Parts, Series
from fenrask.teletraffic.spreading import busiest_part
from fenrask.units import counted, figure

__all__ = ["Uneven", "open_in_the_mean", "unevenness"]

_COUNTED_S = 300.0
"""Over which bits and packets are counted: connections that come one after another within it share its load."""
_TOLD = 1.05


@dataclass(frozen=True)
class Uneven:
    """What the busiest node or path carries in the mean, as a factor of an even part."""

    factor: float
    connections: float = 0.0
    places: int = 1
    what: str = "nodes"

    def __str__(self) -> str:
        if self.factor < _TOLD:
            return ""
        number = counted(round(self.connections), "connection")
        return f"{figure(round(self.factor, 2))} times an even part ({number} on {self.places} {self.what})"


def open_in_the_mean(laid: Laid, parts: Parts) -> Series:
    """Connections of each part that are open in the mean of the day, mapping timeouts not counted, shape (n_parts,)."""
    curves = laid.curves
    connected = np.array([one.connected for one in curves.families])[curves.family]
    lives = (connected * curves.duration_s)[parts.curve]
    found: Series = parts.persistent + parts.rate_per_s * curves.mean_profile[parts.curve] * lives
    return found


def unevenness(demand: Demand, parts: Parts, nodes: int) -> Uneven:
    """Of parts whose connections fall on one of several nodes each, or on one of several equal routes.

    So many equal connections are as uneven as those that are there: (sum of bits)^2 / sum of squares.
    """
    laid = demand.laid
    bits = laid.wire_bytes_per_s[parts.rows]
    chance = laid.chance[parts.rows] / nodes
    by_chance = (chance < 1) & (bits > 0)
    if not np.any(by_chance):
        return Uneven(1.0)
    # Of all connections that chance divides, whichever part of them is here.
    whole = laid.chance[parts.rows]
    opened = parts.rate_per_s * laid.curves.mean_profile[parts.curve] * _COUNTED_S
    number = np.maximum((open_in_the_mean(laid, parts) + opened) / whole, 1.0)
    amount = bits / whole
    some, total = by_chance, float(np.sum(amount[by_chance]))
    connections = total * total / float(np.sum(amount[some] ** 2 / number[some]))
    mean = float(np.dot(chance[some], amount[some])) / total
    places = max(2, round(1 / mean))
    factor = busiest_part(connections, places)
    divided = float(np.sum(bits[some])) / float(np.sum(bits))
    what = "nodes" if nodes > 1 else "equal paths"
    return Uneven(1 + divided * (factor - 1), connections, places, what)
