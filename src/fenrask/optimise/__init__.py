"""Every flow to an exit at least cost, proven: lanes, their amounts, the programme, the patch."""

from fenrask.optimise.alternatives import alternatives
from fenrask.optimise.choose import Choice, Lost, Mix, by_headroom, choose, frontier
from fenrask.optimise.problem import Wanted

__all__ = ["Choice", "Lost", "Mix", "Wanted", "alternatives", "by_headroom", "choose", "frontier"]
