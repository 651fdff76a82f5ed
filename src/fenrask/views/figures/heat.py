"""Concurrent connections by exit and hour, as a heat map."""

import matplotlib
import numpy as np
from matplotlib.ticker import PercentFormatter

from fenrask.capacity import Capacity
from fenrask.demand import Series
from fenrask.views.figures.canvas import RED, figure, rendered

__all__ = ["draw_heat"]

_MOST_EXITS = 24
_MOST_NUMBERS = 24


def draw_heat(capacity: Capacity, suffix: str) -> bytes:
    """A row for each exit with connections, a column for each hour: the most in that hour.

    The colour is the share of its ports that are wanted, of the pool that binds; grey where no port is taken. The
    numbers say how many connections there are.
    """
    demand = capacity.demand
    exits = sorted(demand.at_exit, key=lambda name: -float(np.max(demand.load(demand.at_exit[name]).concurrent)))
    drawn = exits[:_MOST_EXITS]
    paper = figure()
    axes = paper.add_subplot()
    name = demand.paths.described.estate.estate
    paper.suptitle(f"{name}: concurrent connections by exit, the most in each hour", fontsize=15)
    if not drawn:
        axes.axis("off")
        axes.text(0.5, 0.5, "No exit has a connection.", ha="center", fontsize=13)
        return rendered(paper, suffix)
    by_hour = np.stack([demand.highest_by_hour(demand.load(demand.at_exit[one]).concurrent) for one in drawn])
    share = np.stack([_share(capacity, one) for one in drawn])
    colours = matplotlib.colormaps["cividis"].with_extremes(bad="#e6e6e6", over=RED)
    image = axes.imshow(share, aspect="auto", cmap=colours, vmin=0, vmax=1, interpolation="nearest")
    bar = paper.colorbar(image, ax=axes, shrink=0.6, extend="max", format=PercentFormatter(1.0))
    bar.set_label("ports wanted, of those that exist (red: more than exist; grey: no port is taken)")
    axes.set_yticks(range(len(drawn)), drawn, fontsize=11)
    step = 24 if demand.hours > 24 else 1
    hours = range(0, demand.hours, step)
    axes.set_xticks(hours, [f"day {hour // 24 + 1}" if step > 1 else f"{hour:02d}" for hour in hours])
    axes.set_xlabel("day of the week" if step > 1 else "hour of the day")
    axes.hlines([row + 0.5 for row in range(len(drawn) - 1)], -0.5, demand.hours - 0.5, color="white", linewidth=3)
    if demand.hours <= _MOST_NUMBERS:
        for (row, hour), value in np.ndenumerate(by_hour):
            colour = "white" if share[row, hour] < 0.6 else "black"
            over = share[row, hour] > 1
            axes.text(
                hour, row, _short(float(value)), ha="center", va="center", color=colour, fontsize=9,
                weight="bold" if over else "normal",
            )  # fmt: skip
    if len(exits) > len(drawn):
        paper.supxlabel(f"{len(exits) - len(drawn)} more exits have fewer connections than these", fontsize=11)
    return rendered(paper, suffix)


def _share(capacity: Capacity, exit_name: str) -> Series:
    """The ports wanted of those that exist in each hour, of the pool that binds; not a number where none is taken."""
    demand, exit_capacity = capacity.demand, capacity.of(exit_name)
    stream = (
        next(
            (
                each
                for each in exit_capacity.streams
                if exit_capacity.ports and each.label == exit_capacity.ports.binding
            ),
            None,
        )
        if exit_capacity
        else None
    )
    if exit_capacity is None or stream is None or not exit_capacity.port_limit.capacity:
        return np.full(demand.hours, np.nan)
    # The pool may be one host's, node's or address's part of what is drawn: its peak is known.
    scale = exit_capacity.port_limit.use / max(float(np.max(stream.load.concurrent)), 1e-300)
    return demand.highest_by_hour(stream.load.concurrent) * scale / exit_capacity.port_limit.capacity


def _short(value: float) -> str:
    """A whole number in four characters or so: 950, 8.1k, 120k, 3.4M."""
    for size, letter in ((1e6, "M"), (1e3, "k")):
        if value >= size:
            scaled = value / size
            return f"{scaled:.0f}{letter}" if scaled >= 100 else f"{scaled:.3g}{letter}"
    return f"{value:.0f}" if value >= 0.5 or value == 0 else "<1"
