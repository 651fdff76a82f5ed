"""Flows and rhythms onto exits: who holds how many connections where, when; and how many bytes."""

from fenrask.demand.loads import Demand, LeftOut, Load, Part, demand
from fenrask.demand.volumes import Volume, month_volume

__all__ = ["Demand", "LeftOut", "Load", "Part", "Volume", "demand", "month_volume"]
