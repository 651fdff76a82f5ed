"""Concurrent connections, as a page."""

from collections.abc import Callable, Hashable, Sequence
from functools import cache
from typing import Any, TypeVar

import numpy as np

from fenrask.demand import Demand, Load, Part, Parts, Series, new_in_worst_second
from fenrask.units import clock_text, rough
from fenrask.views.page import MACHINES, Column, MadeRows, Page, Table

__all__ = ["demand_page"]

Key = TypeVar("Key", bound=Hashable)

_LOAD = (
    Column("peak_concurrent_connections", "concurrent connections", "count", is_answer=True),
    Column("peak_at", "peak", is_answer=True),
    Column("peak_at_s", "peak s", "number", least_width=MACHINES),
    Column("lag_s", "lag, min", "minutes", least_width=110),
    Column("mean_concurrent_connections", "mean", "count", least_width=110),
    Column("peak_new_per_s", "new connections/s", "rough", is_answer=True),
    Column("worst_second_new_per_s", "in the worst second", "rough", sparse=True),
    Column("concurrent_by_quarter_hour_connections", "through the day", "series", least_width=100),
)
_EXITS = (Column("exit", "exit", is_answer=True), *_LOAD)
_DESTINATIONS = (Column("destination", "destination", is_answer=True), *_LOAD)
_FLOWS = (
    Column("exit", "exit", is_answer=True),
    Column("flow", "flow", is_answer=True),
    Column("duration_s", "duration, s", "rough"),
    Column("mapping_timeout_s", "mapping timeout, s", "rough"),
    Column("holding_s", "holding time, s", "rough"),
    *_LOAD,
)


_SHOWN_DESTINATIONS, _SHOWN_FLOWS = 8, 10


def demand_page(demand: Demand) -> Page:
    """Concurrent connections by exit, by destination over all exits, and by flow at each exit; the largest first."""
    estate = demand.paths.described.estate
    exits = [(name, *_concurrent(demand, parts)) for name in estate.exits if (parts := demand.at_exit.get(name))]
    to = {name: demand.load(parts) for name, parts in demand.by_destination.items() if parts}
    laid = demand.laid
    order = np.lexsort((laid.flow, laid.exit))
    keys, first = np.unique((laid.exit * len(laid.traffic.names) + laid.flow)[order], return_index=True)
    # What one flow puts on one exit has one profile and one law: its busiest is the sum of its parts'.
    tops = np.add.reduceat(laid.busiest[order], first) if keys.size else laid.busiest
    ends = [*first.tolist(), order.size]

    @cache
    def of_flow(place: int) -> Load:
        return demand.load(Parts(laid, order[ends[place] : ends[place + 1]]))

    def flow_row(place: int) -> tuple[Any, ...]:
        part = Part(laid, int(order[ends[place]]))
        times = (part.duration_s, part.mapping_timeout_s, part.holding_s)
        parts = Parts(laid, order[ends[place] : ends[place + 1]])
        return (part.exit, part.flow, *times, *_concurrent(demand, parts, of_flow(place)))

    of_all = {name: float(np.max(load.concurrent)) for name, load in to.items()}
    names = _largest(list(of_all), np.array([*of_all.values()]), lambda name: to[name], _SHOWN_DESTINATIONS)
    destinations = MadeRows(names, lambda name: (name, *_concurrent(demand, demand.by_destination[name], to[name])))
    flows = MadeRows(_largest(range(keys.size), tops, of_flow, _SHOWN_FLOWS), flow_row)
    exits.sort(key=lambda row: -float(row[1]))
    tables = (
        Table("exits", "By exit", _EXITS, exits, empty="no exit has any load", shown=8),
        Table("destinations", "By destination", _DESTINATIONS, destinations, shown=_SHOWN_DESTINATIONS),
        Table("flows", "By flow at each exit", _FLOWS, flows, shown=_SHOWN_FLOWS),
    )
    not_counted = tuple(map(str, demand.not_counted))
    return Page("demand", estate.estate, _summary(demand, exits), tables, {"hours": demand.hours}, not_counted)


def _largest(names: Sequence[Key], busiest: Series, load: Callable[[Key], Load], shown: int) -> list[Key]:
    """The names of the largest first, by quarter of an hour; of those near the top, by their very peak.

    busiest: of each name, shape (n_names,).
    """
    ordered = [names[place] for place in np.argsort(-busiest, kind="stable").tolist()]
    return [*sorted(ordered[: 2 * shown], key=lambda name: -load(name).peak.concurrent), *ordered[2 * shown :]]


def _summary(demand: Demand, exits: list[tuple[Any, ...]]) -> tuple[str, ...]:
    if not exits:
        return ("No exit has any load.",)
    most = max(float(row[1]) for row in exits)
    top = [row[0] for row in exits if float(row[1]) >= most * (1 - 1e-9)]
    load = demand.load(demand.at_exit[top[0]])
    when = "all day" if load.is_level else f"at {clock_text(load.peak.time_s)}"
    each = " each" if len(top) > 1 else ""
    on = " and on ".join(top[:3]) + (f" and {len(top) - 3} more" if len(top) > 3 else "")
    rate = f"up to {rough(load.busiest_new_per_s)} new connections/s{each}"
    return (f"Peak: {load.peak.concurrent:,.0f} concurrent connections{each} on {on}, {when}; {rate}.",)


def _concurrent(demand: Demand, parts: Sequence[Part], known: Load | None = None) -> tuple[Any, ...]:
    load = demand.load(parts) if known is None else known
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
        new_in_worst_second(Parts.of(parts)),
        load.by_quarter_hour.tolist(),
    )
