"""Tables, the trace there and back, filters, who could come in, what third parties announce."""

from fenrask.routing.captured import capturing_hop
from fenrask.routing.decided import behaviour_step, decided
from fenrask.routing.filters import Filters, Judged
from fenrask.routing.inward import INTERNET, Opening, Openings
from fenrask.routing.lines import Exchanged, exchanged
from fenrask.routing.packets import Hop, Packet, Portion, Source, Trace, Verdict
from fenrask.routing.pairs import repeated
from fenrask.routing.paths import FlowPath, Paths, SubnetPath, effective_routes, flow_paths, trace_from
from fenrask.routing.portions import Sending, traces_to
from fenrask.routing.tables import LOCAL, Routes, SubnetTable, TableRoute
from fenrask.routing.tracing import Tracer

__all__ = [
    "INTERNET",
    "LOCAL",
    "Exchanged",
    "Filters",
    "Judged",
    "behaviour_step",
    "capturing_hop",
    "decided",
    "Opening",
    "Openings",
    "exchanged",
    "Hop",
    "Packet",
    "Portion",
    "Routes",
    "Source",
    "SubnetPath",
    "SubnetTable",
    "TableRoute",
    "Verdict",
    "Trace",
    "FlowPath",
    "Tracer",
    "Paths",
    "effective_routes",
    "flow_paths",
    "repeated",
    "trace_from",
    "Sending",
    "traces_to",
]
