"""How long flows are expected to be down, from what offers promise: exits in series along a path, units in parallel.

A path works while every exit on it works; an exit of several units (machines in pairs, nodes, routers) while any of
them does, but for the seconds in which one takes over from another. Failures are taken to be independent. Steady-state
availability of series and parallel systems: Barlow & Proschan (1975), "Statistical theory of reliability and life
testing", chapters 1 and 7.
"""

from collections.abc import Mapping

from fenrask.estate import Described
from fenrask.routing import Paths

__all__ = ["availability_of", "down_minutes", "flow_availability"]


def availability_of(described: Described, exit_name: str) -> float:
    """The share of time that an exit works; 1 where its offer says nothing."""
    exit_, offer = described.estate.exits.get(exit_name), described.offer_of(exit_name)
    if exit_ is None or offer is None or offer.availability is None:
        return 1.0
    works = 1.0 - (1.0 - offer.availability) ** exit_.redundant_units
    if exit_.takes_over_s and offer.repair_s:
        # One at work fails (1 - a) / (a repair) times a second: its up time is a / (1 - a) of its down time.
        works -= (1.0 - offer.availability) / (offer.availability * offer.repair_s) * exit_.takes_over_s * works
    return max(0.0, works)


def flow_availability(paths: Paths) -> Mapping[str, float]:
    """The expected share of time that each flow's hosts reach its destination; what never arrives counts as down."""
    known: dict[str, float] = {}
    found: dict[str, float] = {}
    for flow, own in paths.by_flow.items():
        works = 0.0
        for path in own:
            if not path.example.verdict.arrives:
                continue
            whole = float(path.share)
            for name in dict.fromkeys(path.example.exits):
                if name not in known:
                    known[name] = availability_of(paths.described, name)
                whole *= known[name]
            works += whole
        found[flow] = works
    return found


def down_minutes(availability: float, hours_per_month: float) -> float:
    """Minutes a month that something of this availability is expected to be down."""
    return (1.0 - availability) * hours_per_month * 60.0
