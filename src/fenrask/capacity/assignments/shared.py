"""Ports shared by all hosts of an exit: per destination tuple, or once for everything.

`shared-per-destination`: one port serves many tuples at once (RFC 4787: address and port dependent mapping),
so that each tuple has all ports of all addresses to itself. `shared-once`: a port is used once, whatever
the destination, so that all of a transport protocol compete for the same ports.
"""

from collections.abc import Sequence

from fenrask.capacity.assignments.contract import Division, InKernel, PortUse, Replay, Stream, Streams, View
from fenrask.capacity.assignments.pools import busiest_use, greatest_load, least_for, suffices
from fenrask.capacity.assignments.simulating import pooled
from fenrask.estate import Ports
from fenrask.prefixes import Prefix
from fenrask.teletraffic.simulation import Calls

__all__ = ["SHARED_ONCE", "SHARED_PER_DESTINATION", "Shared", "tied_text"]

TYING = ("by-host", "by-host-and-destination")


class Shared:
    """Capacity addresses x ports for each pool; a hash that ties hosts to addresses splits it."""

    def __init__(self, name: str, view: View) -> None:
        self.name = name
        self.view = view

    def use(self, streams: Streams, addresses: int, ports: Ports, target: float) -> PortUse | None:
        def divide(stream: Stream) -> Division:
            return self.division(stream, addresses, ports)

        return busiest_use(streams, divide, ports.tries, target, self._words)

    def least_addresses(self, streams: Streams, ports: Ports, target: float) -> int | None:
        def divide(stream: Stream, addresses: int) -> Division:
            return self.division(stream, addresses, ports)

        return least_for(streams, divide, ports.tries, target)

    def room(self, addresses: int, ports: Ports, target: float) -> float:
        return greatest_load(addresses * ports.per_address, target)

    def own_blocks(self, ports: Ports, target: float) -> Sequence[tuple[int, float]]:
        return ()

    def division(self, stream: Stream, addresses: int, ports: Ports) -> Division:
        if addresses > 1 and (stream.tied or ports.address_choice in TYING):
            return Division(ports.per_address, tied_cells=addresses)
        return Division(addresses * ports.per_address)

    def replay(self, stream: Stream, calls: Calls, addresses: int, ports: Ports, among: Streams) -> Replay:
        return pooled(stream, calls, self.division(stream, addresses, ports), ports)

    def carries(self, streams: Streams, addresses: int, ports: Ports, target: float, factor: float) -> bool:
        def divide(stream: Stream) -> Division:
            return self.division(stream, addresses, ports)

        return suffices(streams, divide, ports.tries, target, factor)

    def adds_up(self, streams: Streams, ports: Ports) -> bool:
        return ports.tries is None and ports.address_choice not in TYING and all(one.is_plain for one in streams)

    def is_linear(self, streams: Streams, ports: Ports) -> bool:
        return self.adds_up(streams, ports)

    def in_kernel(self, ports: Ports, sources: Sequence[Prefix], addresses: int) -> InKernel:
        return InKernel() if self.view == "tuples" else InKernel.for_itself(self.name)

    def not_replayed(self) -> tuple[str, ...]:
        return ()

    def _words(self, stream: Stream, division: Division) -> tuple[str, str, str]:
        if self.view == "tuples":
            pool, suffers = "ports toward one destination address", f"every new connection to {stream.label}"
        else:
            pool, suffers = "ports in all", f"every new {stream.protocol.upper()} connection, whatever its destination"
        if division.tied_cells == 1:
            return pool, suffers, ""
        return (
            pool,
            f"hosts tied to a full address, toward {stream.label}",
            tied_text(stream, division.tied_cells, "addresses"),
        )


def tied_text(stream: Stream, cells: int, kind: str) -> str:
    """What a hash does, in words."""
    return f"{max(1, round(stream.hosts))} hosts hashed to {cells} {kind}"


SHARED_PER_DESTINATION = Shared("shared-per-destination", "tuples")
SHARED_ONCE = Shared("shared-once", "whole")
