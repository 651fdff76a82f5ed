"""Flows and rhythms onto exits: who holds how many connections where, when; and how many bytes."""

from fenrask.demand.explained import explain_demand
from fenrask.demand.holding import Holding, holding, life_law
from fenrask.demand.loads import POINTS_PER_HOUR, Demand, LeftOut, Load, Part, Profile, Series, demand, living, reopened
from fenrask.demand.volumes import Volume, month_volume

__all__ = [
    "POINTS_PER_HOUR",
    "Demand",
    "Holding",
    "LeftOut",
    "Load",
    "Part",
    "Profile",
    "Series",
    "Volume",
    "demand",
    "explain_demand",
    "holding",
    "life_law",
    "living",
    "month_volume",
    "reopened",
]
