"""Ports shared per destination tuple: one port serves many tuples at once (RFC 4787, address and
port dependent mapping), so that each tuple has all ports of all addresses to itself."""

from collections.abc import Sequence

import numpy as np

from fenrask.capacity.assignments.contract import PortUse, TupleLoad
from fenrask.teletraffic import erlang_b, ports_for
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["SharedPerDestination"]


class SharedPerDestination:
    """Capacity A x P for each tuple; the busiest tuple binds. Refusals by Erlang B at the hour's mean."""

    name = "shared-per-destination"

    def use(self, loads: Sequence[TupleLoad], addresses: int, ports: int) -> PortUse | None:
        if not loads:
            return None
        capacity = addresses * ports
        held = np.stack([load.held_each for load in loads])
        refused = erlang_b(float(capacity), held)
        busiest, hour = divmod(int(np.argmax(held)), held.shape[1])
        new = np.stack([load.new_per_s for load in loads])
        per_day = float(np.sum(new * refused)) * SECONDS_PER_HOUR * 24 / held.shape[1]
        return PortUse(
            binding=loads[busiest].label,
            hour=hour,
            held=float(held[busiest, hour]),
            capacity=capacity,
            refused_share=float(refused[busiest, hour]),
            refused_per_day=per_day,
        )

    def least_addresses(self, loads: Sequence[TupleLoad], ports: int, refused_share: float) -> int:
        if not loads:
            return 0
        busiest = max(float(np.max(load.held_each)) for load in loads)
        return -(-int(ports_for(busiest, refused_share)) // ports)
