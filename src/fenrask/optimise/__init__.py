"""Every flow to an exit at least cost, proven: options, their amounts, the programme, the patch."""

from fenrask.optimise.alternatives import alternatives
from fenrask.optimise.choose import Choice, Lost, Mix, by_headroom, choose, frontier
from fenrask.optimise.problem import Unit, Wanted

__all__ = ["Choice", "Lost", "Mix", "Unit", "Wanted", "alternatives", "by_headroom", "choose", "frontier"]
