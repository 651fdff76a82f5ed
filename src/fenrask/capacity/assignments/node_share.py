"""Ports of nodes behind a hash: each node has its own ports on every address, for its random share."""

from collections.abc import Sequence

from fenrask.capacity.assignments.contract import Division, InKernel, PortUse, Replay, Stream, Streams, View
from fenrask.capacity.assignments.pools import busiest_use, greatest_load, least_for, suffices
from fenrask.capacity.assignments.shared import TYING, tied_text
from fenrask.capacity.assignments.simulating import pooled
from fenrask.estate import NodeShare as Model
from fenrask.estate import Ports
from fenrask.prefixes import Prefix
from fenrask.teletraffic.simulation import Calls

__all__ = ["NODE_SHARE"]


class NodeShare:
    """Capacity p x addresses for each node.

    By connection the share is even: random parts of a Poisson stream are Poisson. By host it is as uneven as
    a hash of hosts.
    """

    name = "node-share"
    view: View = "whole"

    def use(self, streams: Streams, addresses: int, ports: Ports, target: float) -> PortUse | None:
        def divide(stream: Stream) -> Division:
            return self.division(stream, addresses, ports)

        return busiest_use(streams, divide, ports.tries, target, _words)

    def least_addresses(self, streams: Streams, ports: Ports, target: float) -> int | None:
        def divide(stream: Stream, addresses: int) -> Division:
            return self.division(stream, addresses, ports)

        return least_for(streams, divide, ports.tries, target)

    def room(self, addresses: int, ports: Ports, target: float) -> float:
        nodes = _nodes(ports)
        return nodes * greatest_load(addresses * _each(ports), target)

    def own_blocks(self, ports: Ports, target: float) -> Sequence[tuple[int, float]]:
        return ()

    def division(self, stream: Stream, addresses: int, ports: Ports) -> Division:
        nodes, each = _nodes(ports), _each(ports)
        tied = addresses if addresses > 1 and (stream.tied or ports.address_choice in TYING) else 1
        size = each if tied > 1 else each * addresses
        assert isinstance(ports, Model)
        if ports.spread == "host":
            return Division(size, tied_cells=tied * nodes)
        return Division(size, tied_cells=tied, even_cells=nodes)

    def replay(self, stream: Stream, calls: Calls, addresses: int, ports: Ports, among: Streams) -> Replay:
        return pooled(stream, calls, self.division(stream, addresses, ports), ports)

    def carries(self, streams: Streams, addresses: int, ports: Ports, target: float, factor: float) -> bool:
        def divide(stream: Stream) -> Division:
            return self.division(stream, addresses, ports)

        return suffices(streams, divide, ports.tries, target, factor)

    def adds_up(self, streams: Streams, ports: Ports) -> bool:
        tied = ports.hashes_hosts
        return ports.tries is None and not tied and all(one.is_plain for one in streams)

    def is_linear(self, streams: Streams, ports: Ports) -> bool:
        return self.adds_up(streams, ports)

    def in_kernel(self, ports: Ports, sources: Sequence[Prefix], addresses: int) -> InKernel:
        return InKernel.for_itself(self.name)

    def not_replayed(self) -> tuple[str, ...]:
        return ()


def _nodes(ports: Ports) -> int:
    return ports.stated_nodes or 1


def _each(ports: Ports) -> int:
    """Ports of one node on one address."""
    assert isinstance(ports, Model)
    return ports.of_a_node


def _words(stream: Stream, division: Division) -> tuple[str, str, str]:
    suffers = "new connections that the hash sends to a full node"
    cells = "nodes" if division.even_cells == 1 else "addresses of each node"
    detail = tied_text(stream, division.tied_cells, cells) if division.tied_cells > 1 else ""
    return "ports of all nodes", suffers, detail


NODE_SHARE = NodeShare()
