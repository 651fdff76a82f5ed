"""Simulation of calls on servers: the formulas' witness, and what they do not cover.

The compiled kernels are loaded when the first run begins.
"""

from fenrask.teletraffic.simulation.laws import Drawn, Ending, drawn
from fenrask.teletraffic.simulation.replications import Found, Interrupted, Stop, Watch, interval, replicated
from fenrask.teletraffic.simulation.settings import (
    Blocks,
    Calls,
    Growing,
    Hashed,
    Hosts,
    Job,
    OwnBlocks,
    Pool,
    Run,
    Searched,
    Setting,
    refused_of,
    tries_of,
)

__all__ = [
    "Blocks",
    "Calls",
    "Drawn",
    "Ending",
    "Found",
    "Growing",
    "Hashed",
    "Hosts",
    "Interrupted",
    "Job",
    "OwnBlocks",
    "Pool",
    "Run",
    "Searched",
    "Setting",
    "Stop",
    "Watch",
    "drawn",
    "interval",
    "refused_of",
    "tries_of",
    "replicated",
]
