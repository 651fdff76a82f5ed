"""Port assignments, every limit, sizing."""

from fenrask.capacity.sizing import Capacity, ExitCapacity, LimitUse, capacity, tuple_loads

__all__ = ["Capacity", "ExitCapacity", "LimitUse", "capacity", "tuple_loads"]
