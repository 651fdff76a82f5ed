"""Connections held, as a page."""

from collections.abc import Iterable
from typing import Any

from fenrask.demand import Demand, Part
from fenrask.units import hour_text
from fenrask.views.page import Column, Page, Table

__all__ = ["demand_page"]

_HELD = (
    Column("busiest_held_connections", "held at busiest", "number"),
    Column("busiest_at", "at"),
    Column("mean_held_connections", "mean held", "number", least_width=100),
    Column("busiest_new_per_s", "new /s", "number", decimals=2),
    Column("held_by_hour_connections", "held through the day", "series", least_width=100),
)
_EXITS = (Column("exit", "exit"), *_HELD)
_DESTINATIONS = (Column("exit", "exit"), Column("destination", "destination"), *_HELD)
_FLOWS = (
    Column("exit", "exit"),
    Column("flow", "flow"),
    Column("life_s", "life s", "number"),
    Column("release_s", "release s", "number"),
    Column("hold_s", "hold s", "number"),
    *_HELD,
)


def demand_page(demand: Demand) -> Page:
    """Connections held by exit, by destination at each exit, and by flow at each exit."""
    estate = demand.ways.described.estate
    exits, destinations, flows = [], [], []
    for name in estate.exits:
        parts = demand.at_exit.get(name)
        if not parts:
            continue
        exits.append((name, *_held(demand, parts)))
        for destination, its_parts in demand.grouped(name, lambda part: part.destination).items():
            destinations.append((name, destination, *_held(demand, its_parts)))
        for flow, its_parts in demand.grouped(name, lambda part: part.flow).items():
            first = its_parts[0]
            flows.append((name, flow, first.life_s, first.release_s, first.hold_s, *_held(demand, its_parts)))
    busiest = max(exits, key=lambda row: row[1], default=None)
    answer = "nothing is held on any exit"
    if busiest:
        answer = f"{busiest[0]} holds most: {busiest[1]:,.0f} connections at {busiest[2]}"
    tables = (
        Table("exits", "By exit", _EXITS, exits),
        Table("destinations", "By exit and destination", _DESTINATIONS, destinations),
        Table("flows", "By exit and flow", _FLOWS, flows),
    )
    left_out = tuple(map(str, demand.left_out))
    return Page("demand", estate.estate, (answer,), tables, {"hours": demand.hours}, left_out)


def _held(demand: Demand, parts: Iterable[Part]) -> tuple[Any, ...]:
    load = demand.load(parts)
    at = "all day" if load.is_level else hour_text(load.busiest_hour)
    return (load.busiest_held, at, load.mean_held, load.busiest_new_per_s, load.held.tolist())
