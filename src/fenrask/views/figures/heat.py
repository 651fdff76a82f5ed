"""Concurrent connections by exit and hour, as a heat map."""

import numpy as np

from fenrask.demand import POINTS_PER_HOUR, Demand
from fenrask.views.figures.canvas import figure, rendered

__all__ = ["draw_heat"]

_MOST_EXITS = 24
_MOST_NUMBERS = 24


def draw_heat(demand: Demand, suffix: str) -> bytes:
    """A row for each exit with connections, a column for each hour: the most in that hour.

    Colours are shares of the exit's own busiest hour, so that small exits show their profile too; the numbers
    say how many.
    """
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
    concurrent = np.stack([demand.load(demand.at_exit[one]).concurrent for one in drawn])
    by_hour = concurrent.reshape(len(drawn), demand.hours, POINTS_PER_HOUR).max(axis=2)
    share = by_hour / np.maximum(by_hour.max(axis=1, keepdims=True), 1e-300)
    image = axes.imshow(share, aspect="auto", cmap="cividis", vmin=0, vmax=1, interpolation="nearest")
    bar = paper.colorbar(image, ax=axes, shrink=0.6)
    bar.set_label("share of the exit's own busiest hour")
    axes.set_yticks(range(len(drawn)), drawn, fontsize=11)
    step = 24 if demand.hours > 24 else 1
    hours = range(0, demand.hours, step)
    axes.set_xticks(hours, [f"day {hour // 24 + 1}" if step > 1 else f"{hour:02d}" for hour in hours])
    axes.set_xlabel("day of the week" if step > 1 else "hour of the day")
    axes.hlines([row + 0.5 for row in range(len(drawn) - 1)], -0.5, demand.hours - 0.5, color="white", linewidth=3)
    if demand.hours <= _MOST_NUMBERS:
        for (row, hour), value in np.ndenumerate(by_hour):
            colour = "white" if share[row, hour] < 0.6 else "black"
            axes.text(hour, row, _short(float(value)), ha="center", va="center", color=colour, fontsize=9)
    if len(exits) > len(drawn):
        paper.supxlabel(f"{len(exits) - len(drawn)} more exits hold fewer than these", fontsize=11)
    return rendered(paper, suffix)


def _short(value: float) -> str:
    """A number in four characters or so: 950, 8.1k, 120k, 3.4M."""
    for size, letter in ((1e6, "M"), (1e3, "k")):
        if value >= size:
            scaled = value / size
            return f"{scaled:.0f}{letter}" if scaled >= 100 else f"{scaled:.3g}{letter}"
    return f"{value:.0f}" if value >= 10 or value == 0 else f"{value:.1f}"
