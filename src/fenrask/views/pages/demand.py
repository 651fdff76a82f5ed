"""Connections held, as a page."""

from collections.abc import Iterable
from typing import Any

from fenrask.demand import Demand, Part
from fenrask.units import clock_text, span_text
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["demand_page"]

_CONCURRENT = (
    Column("busiest_held_connections", "held at busiest", "number"),
    Column("busiest_at", "at"),
    Column("busiest_at_s", "at s", "number", least_width=MACHINES),
    Column("lag_s", "lag min", "minutes", least_width=110),
    Column("mean_held_connections", "mean held", "number", least_width=110),
    Column("busiest_new_per_s", "new /s", "number", decimals=2),
    Column("held_by_quarter_hour_connections", "held through the day", "series", least_width=100),
)
_EXITS = (Column("exit", "exit"), *_CONCURRENT)
_EVERYWHERE = (Column("destination", "destination"), *_CONCURRENT)
_DESTINATIONS = (Column("exit", "exit"), Column("destination", "destination"), *_CONCURRENT)
_FLOWS = (
    Column("exit", "exit"),
    Column("flow", "flow"),
    Column("duration_s", "life s", "number"),
    Column("mapping_timeout_s", "release s", "number"),
    Column("hold_s", "hold s", "number"),
    *_CONCURRENT,
)


def demand_page(demand: Demand) -> Page:
    """Connections held by exit, by destination at each exit and everywhere, and by flow at each exit."""
    estate = demand.paths.described.estate
    exits, destinations, flows = [], [], []
    everywhere: dict[str, list[Part]] = {name: [] for name in estate.destinations}
    for name in estate.exits:
        parts = demand.at_exit.get(name)
        if not parts:
            continue
        exits.append((name, *_concurrent(demand, parts)))
        for destination, its_parts in demand.grouped(name, lambda part: part.destination).items():
            destinations.append((name, destination, *_concurrent(demand, its_parts)))
            everywhere[destination] += its_parts
        for flow, its_parts in demand.grouped(name, lambda part: part.flow).items():
            first = its_parts[0]
            flows.append(
                (
                    name,
                    flow,
                    first.duration_s,
                    first.mapping_timeout_s,
                    first.holding_s,
                    *_concurrent(demand, its_parts),
                )
            )
    tables = (
        Table("exits", "By exit", _EXITS, exits),
        Table("destinations", "By exit and destination", _DESTINATIONS, destinations),
        Table("flows", "By exit and flow", _FLOWS, flows),
        Table(
            "everywhere",
            "By destination, over all exits",
            _EVERYWHERE,
            [(name, *_concurrent(demand, parts)) for name, parts in everywhere.items() if parts],
        ),
    )
    not_counted = tuple(map(str, demand.not_counted))
    return Page("demand", estate.estate, _summary(demand, exits), tables, {"hours": demand.hours}, not_counted)


def _summary(demand: Demand, exits: list[tuple[Any, ...]]) -> tuple[str, ...]:
    busiest = max(exits, key=lambda row: float(row[1]), default=None)
    if busiest is None:
        return ("nothing is held on any exit",)
    load = demand.load(demand.at_exit[busiest[0]])
    when = "all day" if load.is_level else f"at {clock_text(load.peak.time_s)}"
    lag = "" if load.is_level else f", {span_text(load.peak.lag_s)} after its busiest hour begins"
    summary = f"{busiest[0]} holds most: {load.peak.concurrent:,.0f} connections {when}{lag}"
    rate = f"{load.busiest_new_per_s:,.6g} new connections per s"
    return (f"{summary}, with {rate} at most",)


def _concurrent(demand: Demand, parts: Iterable[Part]) -> tuple[Any, ...]:
    load = demand.load(parts)
    peak = load.peak
    at = "all day" if load.is_level else clock_text(peak.time_s)
    lag = None if load.is_level else peak.lag_s
    return (
        peak.concurrent,
        at,
        peak.time_s,
        lag,
        load.mean_concurrent,
        load.busiest_new_per_s,
        load.concurrent.tolist(),
    )
