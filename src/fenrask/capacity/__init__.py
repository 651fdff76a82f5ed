"""Port assignments, every limit, sizing."""

from fenrask.capacity.assignments import TupleLoad
from fenrask.capacity.sizing import Capacity, ExitCapacity, LimitUse, capacity, tuple_loads

__all__ = ["Capacity", "ExitCapacity", "LimitUse", "TupleLoad", "capacity", "tuple_loads"]
