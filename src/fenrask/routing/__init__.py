"""Tables, the walk, what needs it breaks, and findings about routes."""

from fenrask.routing.needs import NEEDS, BrokenNeed, broken_needs
from fenrask.routing.packets import Hop, Packet, Source, Verdict, Walk
from fenrask.routing.tables import LOCAL, Routes, SubnetTable, TableRoute
from fenrask.routing.walk import Walker
from fenrask.routing.ways import Way, Ways, effective_routes, flow_ways, trace, walks_to

__all__ = [
    "LOCAL",
    "NEEDS",
    "BrokenNeed",
    "Hop",
    "Packet",
    "Routes",
    "Source",
    "SubnetTable",
    "TableRoute",
    "Verdict",
    "Walk",
    "Way",
    "Walker",
    "Ways",
    "broken_needs",
    "effective_routes",
    "flow_ways",
    "trace",
    "walks_to",
]
