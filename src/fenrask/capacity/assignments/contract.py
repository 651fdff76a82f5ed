"""What a port assignment answers: how many ports whom, what is refused, how many addresses suffice."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

__all__ = ["PortAssignment", "PortUse", "TupleLoad"]

Hourly = NDArray[np.float64]


@dataclass(frozen=True)
class TupleLoad:
    """The load toward one destination, port and protocol, whose distinct addresses share it evenly.

    Arrays have shape (n_hours,): connections held toward each address, and new ones to all together.
    """

    destination: str
    port: int | None
    protocol: str
    held_each: Hourly
    new_per_s: Hourly

    @property
    def label(self) -> str:
        """`name:port/protocol`, the port left out where it is not stated."""
        port = "" if self.port is None else f":{self.port}"
        return f"{self.destination}{port}/{self.protocol}"


@dataclass(frozen=True)
class PortUse:
    """The busiest use of ports: who is short first, when, and what it costs in refusals."""

    binding: str
    hour: int
    held: float
    capacity: int
    refused_share: float
    refused_per_day: float

    @property
    def headroom(self) -> float:
        return (self.capacity - self.held) / self.capacity if self.capacity else 0.0


class PortAssignment(Protocol):
    """One way of handing out ports. `ports` is what one address offers per transport protocol."""

    name: str

    def use(self, loads: Sequence[TupleLoad], addresses: int, ports: int) -> PortUse | None:
        """The busiest use with so many addresses; None where nothing is held."""
        ...

    def least_addresses(self, loads: Sequence[TupleLoad], ports: int, refused_share: float) -> int:
        """The fewest addresses that refuse at most this share at every moment; 0 for no load."""
        ...
