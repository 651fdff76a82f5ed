"""Flows and rhythms onto exits: who holds how many connections where, when; and how many bytes."""

from fenrask.demand.explained import explain_demand
from fenrask.demand.holding import Ended, Holding, ended, holding, life_law
from fenrask.demand.loads import Demand, LeftOut, demand, living, new_per_s, reopened
from fenrask.demand.parts import POINTS_PER_HOUR, Load, Part, Profile, Series
from fenrask.demand.volumes import Volume, flow_volume, month_volume

__all__ = [
    "POINTS_PER_HOUR",
    "Demand",
    "Ended",
    "Holding",
    "LeftOut",
    "Load",
    "Part",
    "Profile",
    "Series",
    "Volume",
    "demand",
    "ended",
    "explain_demand",
    "flow_volume",
    "holding",
    "life_law",
    "living",
    "month_volume",
    "new_per_s",
    "reopened",
]
