"""Ports in use over the day against capacity, a panel for each exit."""

from matplotlib.axes import Axes
from matplotlib.ticker import FuncFormatter

from fenrask.capacity import Capacity, ExitCapacity, TupleLoad, tuple_loads
from fenrask.units import counted, hour_text
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered

__all__ = ["draw_ports"]

_MOST_TUPLES = 3
_MOST_PANELS = 5
_STYLES = ((BLUE, "-"), (ORANGE, "--"), (GREY, ":"))


def draw_ports(capacity: Capacity, suffix: str) -> bytes:
    """A panel for each exit that holds connections: its busiest tuples by hour, and what one tuple can have.

    Where a tuple wants more ports than there are, the excess is hatched.
    """
    busy = sorted((one for one in capacity.exits if one.ports), key=lambda one: one.port_limit.headroom)
    paper = figure()
    name = capacity.demand.ways.described.estate.estate
    paper.suptitle(f"{name}: ports in use toward one destination tuple, and ports there are", fontsize=15)
    if not busy:
        paper.text(0.5, 0.5, "No exit that translates holds any connection.", ha="center", fontsize=13)
    drawn = busy[:_MOST_PANELS]
    for number, one in enumerate(drawn, 1):
        _panel(paper.add_subplot(len(drawn), 1, number), capacity, one)
    if len(busy) > len(drawn):
        paper.supxlabel(f"{len(busy) - len(drawn)} more exits have more headroom than these", fontsize=11)
    return rendered(paper, suffix)


def _panel(axes: Axes, capacity: Capacity, one: ExitCapacity) -> None:
    size = one.port_limit.capacity
    loads = tuple_loads(capacity.demand, one.exit)
    loads = tuple(sorted(loads, key=lambda load: -max(load.held_each)))[:_MOST_TUPLES]
    for load, (colour, style) in zip(loads, _STYLES, strict=False):
        _draw_load(axes, load, size, colour, style)
    axes.axhline(size, color="black", linewidth=2)
    axes.annotate(
        f"{size:,.0f} ports ({one.addresses} x {size / max(one.addresses, 1):,.0f})",
        (0, size),
        xytext=(4, 4),
        textcoords="offset points",
        fontsize=10,
        weight="bold",
    )
    axes.set_title(_title(one), fontsize=12, loc="left", color=RED if not one.fits else "black")
    axes.set_ylim(0, 1.18 * max(size, *(float(max(load.held_each)) for load in loads)))
    hours = capacity.demand.hours
    axes.set_xlim(0, hours)
    step = 24 if hours > 24 else 4
    axes.set_xticks(range(0, hours + 1, step), [hour_text(hour) for hour in range(0, hours, step)] + [""])
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.set_ylabel("connections held")
    axes.grid(axis="y", color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=10, frameon=False)


def _draw_load(axes: Axes, load: TupleLoad, size: float, colour: str, style: str) -> None:
    edges = range(len(load.held_each) + 1)
    axes.stairs(load.held_each, edges, baseline=None, color=colour, linestyle=style, linewidth=2, label=load.label)
    over = [max(float(held), size) for held in load.held_each]
    if max(over) > size:
        hatch = axes.stairs(over, edges, baseline=size, fill=True, linewidth=0, label="no port left")
        hatch.set(facecolor="none", edgecolor=RED, hatch="////")


def _title(one: ExitCapacity) -> str:
    """What the panel says, in one line."""
    if one.fits:
        return f"{one.exit}: headroom {one.port_limit.headroom:.0%}"
    refused = f"{one.refused_share:.0%} refused at worst"
    return f"{one.exit}: needs {counted(one.needed, 'address', 'addresses')}, has {one.addresses}; {refused}"
