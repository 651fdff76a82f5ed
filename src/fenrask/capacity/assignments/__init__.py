"""Port assignments. A new one is one file and one line in `ASSIGNMENTS`."""

from fenrask.capacity.assignments.contract import PortAssignment, PortUse, Stream, Streams, View
from fenrask.capacity.assignments.host_block import GROWING_BLOCK, HOST_BLOCK
from fenrask.capacity.assignments.node_share import NODE_SHARE
from fenrask.capacity.assignments.shared import SHARED_ONCE, SHARED_PER_DESTINATION

__all__ = ["ASSIGNMENTS", "PortAssignment", "PortUse", "Stream", "Streams", "View"]

_ALL: tuple[PortAssignment, ...] = (SHARED_PER_DESTINATION, SHARED_ONCE, HOST_BLOCK, GROWING_BLOCK, NODE_SHARE)
ASSIGNMENTS: dict[str, PortAssignment] = {one.name: one for one in _ALL}
