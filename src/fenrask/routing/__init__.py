"""Tables, the walk, what needs it breaks, and findings about routes."""

from fenrask.routing.packets import Hop, Packet, Source, Trace, Verdict
from fenrask.routing.paths import FlowPath, Paths, effective_routes, flow_paths, trace_from, traces_to
from fenrask.routing.tables import LOCAL, Routes, SubnetTable, TableRoute
from fenrask.routing.tracing import Tracer

__all__ = [
    "LOCAL",
    "Hop",
    "Packet",
    "Routes",
    "Source",
    "SubnetTable",
    "TableRoute",
    "Verdict",
    "Trace",
    "FlowPath",
    "Tracer",
    "Paths",
    "effective_routes",
    "flow_paths",
    "trace_from",
    "traces_to",
]
