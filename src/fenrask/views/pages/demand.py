"""Concurrent connections, as a page."""

from collections.abc import Iterable
from typing import Any

from fenrask.demand import Demand, Part
from fenrask.units import clock_text, span_text
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["demand_page"]

_LOAD = (
    Column("peak_concurrent_connections", "concurrent connections", "count"),
    Column("peak_at", "peak"),
    Column("peak_at_s", "peak s", "number", least_width=MACHINES),
    Column("lag_s", "lag, min", "minutes", least_width=110),
    Column("mean_concurrent_connections", "mean", "count", least_width=110),
    Column("peak_new_per_s", "new connections/s", "figure"),
    Column("concurrent_by_quarter_hour_connections", "through the day", "series", least_width=100),
)
_EXITS = (Column("exit", "exit"), *_LOAD)
_DESTINATIONS = (Column("destination", "destination"), *_LOAD)
_FLOWS = (
    Column("exit", "exit"),
    Column("flow", "flow"),
    Column("duration_s", "duration, s", "figure"),
    Column("mapping_timeout_s", "mapping timeout, s", "figure"),
    Column("holding_s", "holding time, s", "figure"),
    *_LOAD,
)


def demand_page(demand: Demand) -> Page:
    """Concurrent connections by exit, by destination over all exits, and by flow at each exit; the largest first."""
    estate = demand.paths.described.estate
    exits, flows = [], []
    for name in estate.exits:
        parts = demand.at_exit.get(name)
        if not parts:
            continue
        exits.append((name, *_concurrent(demand, parts)))
        for flow, its_parts in demand.grouped(name, lambda part: part.flow).items():
            first = its_parts[0]
            times = (first.duration_s, first.mapping_timeout_s, first.holding_s)
            flows.append((name, flow, *times, *_concurrent(demand, its_parts)))
    destinations = [(name, *_concurrent(demand, parts)) for name, parts in demand.by_destination.items() if parts]
    tables = (
        Table("exits", "By exit", _EXITS, _largest(exits, 1), empty="no exit has any load", shown=8),
        Table("destinations", "By destination", _DESTINATIONS, _largest(destinations, 1), shown=8),
        Table("flows", "By flow at each exit", _FLOWS, _largest(flows, 5), shown=10),
    )
    not_counted = tuple(map(str, demand.not_counted))
    return Page("demand", estate.estate, _summary(demand, exits), tables, {"hours": demand.hours}, not_counted)


def _largest(rows: list[tuple[Any, ...]], column: int) -> list[tuple[Any, ...]]:
    return sorted(rows, key=lambda row: -float(row[column]))


def _summary(demand: Demand, exits: list[tuple[Any, ...]]) -> tuple[str, ...]:
    if not exits:
        return ("No exit has any load.",)
    most = max(float(row[1]) for row in exits)
    top = [row[0] for row in exits if float(row[1]) >= most * (1 - 1e-9)]
    load = demand.load(demand.at_exit[top[0]])
    when = "all day" if load.is_level else f"at {clock_text(load.peak.time_s)}"
    lag = "" if load.is_level else f" ({span_text(load.peak.lag_s)} into the busiest hour)"
    each = " each" if len(top) > 1 else ""
    on = " and on ".join(top[:3]) + (f" and {len(top) - 3} more" if len(top) > 3 else "")
    rate = f"up to {load.busiest_new_per_s:,.4g} new connections/s{each}"
    return (f"Peak: {load.peak.concurrent:,.0f} concurrent connections{each} on {on}, {when}{lag}; {rate}.",)


def _concurrent(demand: Demand, parts: Iterable[Part]) -> tuple[Any, ...]:
    load = demand.load(parts)
    peak = load.peak
    at = "all day" if load.is_level else clock_text(peak.time_s)
    lag = None if load.is_level else peak.lag_s
    return (
        round(peak.concurrent),
        at,
        peak.time_s,
        lag,
        round(load.mean_concurrent),
        load.busiest_new_per_s,
        load.concurrent.tolist(),
    )
