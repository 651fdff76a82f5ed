"""Port assignments. A new one is one file and one line in `ASSIGNMENTS`."""

from fenrask.capacity.assignments.contract import PortAssignment, PortUse, TupleLoad
from fenrask.capacity.assignments.shared_per_destination import SharedPerDestination

__all__ = ["ASSIGNMENTS", "PortAssignment", "PortUse", "TupleLoad"]

ASSIGNMENTS: dict[str, PortAssignment] = {one.name: one for one in (SharedPerDestination(),)}
