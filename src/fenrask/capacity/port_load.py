"""The load on one set of translated ports, and what a number of addresses does for it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

from fenrask.capacity.assignments import PortAssignment, PortUse, Stream
from fenrask.capacity.assignments.pools import hardest, least
from fenrask.capacity.limits import LimitUse
from fenrask.estate import Ports
from fenrask.units import clock_text

__all__ = ["MANY", "PortLoad"]

MANY = 65_536
"""As many addresses as anyone might give an exit without a limit."""
_HARDLY = 1.01
_ANY_LOAD = 1e5
"""More times the load than anyone plans for."""


@dataclass(frozen=True)
class PortLoad:
    """Streams of new connections, and how ports are given out to them.

    target: the largest share of new connections that may find no port.
    """

    streams: Sequence[Stream]
    assignment: PortAssignment
    ports: Ports
    target: float

    def use(self, addresses: int) -> PortUse | None:
        """What becomes of the ports of this many addresses; None without load."""
        return self.assignment.use(self.streams, addresses, self.ports, self.target)

    def scaled(self, times: float) -> "PortLoad":
        """The same with a multiple of the load."""
        return replace(self, streams=[one.scaled(times) for one in self.streams])

    def least_addresses(self) -> int | None:
        """The fewest addresses that meet the target; None where no number suffices."""
        return self.assignment.least_addresses(self.streams, self.ports, self.target)

    def as_good_as_any(self, most: int | None) -> int:
        """Where no number of addresses suffices: the fewest whose blocking is hardly above that of the most."""
        use = self.use(most or MANY)
        near = (use.blocking if use else 0.0) * _HARDLY
        if near >= 1:
            return 1
        return least(replace(self, target=near).carries) or most or 1

    def carries(self, addresses: int, times: float = 1.0) -> bool:
        """Whether this many addresses carry this multiple of the load."""
        return self.assignment.carries(self.streams, addresses, self.ports, self.target, times)

    def growth_until(self, addresses: int) -> float | None:
        """The share that the load may grow by before this many addresses no longer do.

        By Erlang's inverse where it alone tells what is refused, else by halving. None for no load, or where hosts'
        own limits keep it from growing so far.
        """
        busy = [one for one in self.streams if one.busiest > 0]
        if not busy:
            return None
        if self.assignment.adds_up(busy, self.ports):
            top = max(busy, key=lambda stream: stream.busiest)
            return self.assignment.room(addresses, self.ports, self.target) / top.load.peak.concurrent - 1

        hard = hardest(busy, self.ports.hashes_hosts) if self.assignment.view != "hosts" else busy
        asked = replace(self, streams=hard)
        low, high = 0.0, 1.0
        while asked.carries(addresses, high):
            if high > _ANY_LOAD:
                return None
            low, high = high, 2 * high
        for _ in range(20):
            middle = (low + high) / 2
            low, high = (middle, high) if asked.carries(addresses, middle) else (low, middle)
        return low - 1

    def limit(self, addresses: int, use: PortUse | None) -> LimitUse:
        """The ports of this many addresses as a limit: of the pool that binds."""
        if use is None:
            return LimitUse("ports", "ports", 0.0, addresses * self.ports.per_address, "no load")
        when = "" if use.level else f" at {clock_text(use.time_s)}"
        detail = "; ".join(filter(None, (f"{use.binding}{when}", use.varies)))
        grow = partial(self.growth_until, addresses)
        return LimitUse("ports", use.pool, use.concurrent, use.capacity, detail, grow=grow)
