"""Port assignments, every limit, sizing, splitting over gateways."""

from fenrask.capacity.assignments import ASSIGNMENTS, PortUse, Stream
from fenrask.capacity.entries import table_entries
from fenrask.capacity.explained import explain_capacity
from fenrask.capacity.limits import LimitUse
from fenrask.capacity.sizing import AfterFault, Capacity, ExitCapacity, ExitLimits, capacity, given, growth_until
from fenrask.capacity.splitting import Split
from fenrask.capacity.streams import streams
from fenrask.capacity.translators import Forwarded, OwnSource, Translator, translators
from fenrask.capacity.validity import beyond_range

__all__ = [
    "given",
    "growth_until",
    "ASSIGNMENTS",
    "AfterFault",
    "Capacity",
    "ExitCapacity",
    "ExitLimits",
    "LimitUse",
    "OwnSource",
    "PortUse",
    "Split",
    "Stream",
    "Forwarded",
    "Translator",
    "beyond_range",
    "capacity",
    "explain_capacity",
    "streams",
    "table_entries",
    "translators",
]
