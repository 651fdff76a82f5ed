"""Flows and profiles onto exits: who holds how many connections where, when; and how many bytes."""

from fenrask.demand.curves import POINTS_PER_STEP, ConcurrencyCurve, Curves
from fenrask.demand.explained import explain_demand
from fenrask.demand.holding import Ended, Family, duration_law, ended
from fenrask.demand.load import Load, concurrent_by, ended_by, loads_by, shaped
from fenrask.demand.loads import Demand, NotCounted, demand, open_at_peak, reopened
from fenrask.demand.parts import Laid, Part, Parts
from fenrask.demand.starts import Starts, most_new, new_in_worst_second, starts
from fenrask.demand.volumes import Volume, flow_volume, month_volume
from fenrask.estate.traffic import Numbers, Series, Traffic, new_per_s

__all__ = [
    "POINTS_PER_STEP",
    "Demand",
    "Ended",
    "NotCounted",
    "Laid",
    "Load",
    "Numbers",
    "Part",
    "Parts",
    "ConcurrencyCurve",
    "Curves",
    "Family",
    "Series",
    "Starts",
    "Traffic",
    "Volume",
    "concurrent_by",
    "demand",
    "ended",
    "ended_by",
    "explain_demand",
    "loads_by",
    "flow_volume",
    "duration_law",
    "open_at_peak",
    "month_volume",
    "most_new",
    "new_in_worst_second",
    "new_per_s",
    "reopened",
    "shaped",
    "starts",
]
