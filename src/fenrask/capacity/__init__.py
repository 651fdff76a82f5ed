"""Port assignments, every limit, sizing, splitting over gateways."""

from fenrask.capacity.assignments import ASSIGNMENTS, PortUse, Stream
from fenrask.capacity.entries import table_entries
from fenrask.capacity.explained import explain_capacity
from fenrask.capacity.limits import LIMITS, Each, Groups, Limit, LimitUse, Present, Use, uses
from fenrask.capacity.rooms import HostsAsked, own_blocks, ports_asked, room_of
from fenrask.capacity.sizing import AfterFault, Capacity, ExitCapacity, ExitLimits, capacity, given
from fenrask.capacity.splitting import Split
from fenrask.capacity.streams import host_label, parts_toward, streams
from fenrask.capacity.translators import Forwarded, OwnSource, Translator, translators
from fenrask.capacity.validity import beyond_range

__all__ = [
    "given",
    "ASSIGNMENTS",
    "AfterFault",
    "Capacity",
    "Each",
    "ExitCapacity",
    "ExitLimits",
    "Groups",
    "HostsAsked",
    "LIMITS",
    "Limit",
    "LimitUse",
    "OwnSource",
    "PortUse",
    "Present",
    "Split",
    "Stream",
    "Forwarded",
    "Translator",
    "Use",
    "beyond_range",
    "capacity",
    "explain_capacity",
    "host_label",
    "own_blocks",
    "parts_toward",
    "ports_asked",
    "room_of",
    "streams",
    "table_entries",
    "translators",
    "uses",
]
