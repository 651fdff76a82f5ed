"""Blocking against the number of addresses, exit by exit, with the target."""

from matplotlib.axes import Axes
from matplotlib.ticker import MaxNLocator

from fenrask.capacity import Capacity, ExitCapacity
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, Stroke, figure, rendered

__all__ = ["draw_blocking"]

_MOST = 6
_STROKES = (
    Stroke(BLUE, "-", "o"),
    Stroke(ORANGE, "--", "s"),
    Stroke(GREY, ":", "^"),
    Stroke(RED, "-.", "D"),
    Stroke("#009e73", "-", "v"),
    Stroke("#cc79a7", "--", "P"),
)
_FLOOR = 1e-12
_MOST_ADDRESSES = 64


def draw_blocking(capacity: Capacity, suffix: str) -> bytes:
    """A line for each exit: blocking at the peak with 1, 2, ... addresses; a ring at the number that it has.

    Shares below 1e-12 are drawn at the floor.
    """
    busy = sorted(
        (one for one in capacity.exits if one.ports), key=lambda exit_capacity: exit_capacity.port_limit.headroom
    )
    paper = figure()
    axes = paper.add_subplot()
    estate = capacity.demand.paths.described.estate
    paper.suptitle(f"{estate.estate}: blocking at the peak, by number of addresses", fontsize=15)
    if not busy:
        axes.axis("off")
        axes.text(0.5, 0.5, "No exit that translates holds any connection.", ha="center", fontsize=13)
        return rendered(paper, suffix)
    drawn = busy[:_MOST]
    reach = max(max(one.addresses, one.needed or one.addresses) for one in drawn)
    last = min(reach + 2, _MOST_ADDRESSES)
    for exit_capacity, stroke in zip(drawn, _STROKES, strict=False):
        _draw(axes, exit_capacity, last, stroke)
    target = estate.targets.blocking
    axes.axhline(target, color="black", linewidth=1.5)
    axes.annotate(
        f"target {target:g}", (last, target), xytext=(0, 4), textcoords="offset points", ha="right", weight="bold"
    )
    axes.set_yscale("log")
    axes.set_ylim(_FLOOR / 3, 3)
    axes.set_xlim(0.5, last + 0.5)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("public addresses (ringed: as many as the exit has)")
    axes.set_ylabel("share of new connections that find no free port (1e-12 or less at the bottom)")
    axes.grid(color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(loc="upper right", fontsize=11)
    if len(busy) > len(drawn):
        paper.supxlabel(f"{len(busy) - len(drawn)} more exits have more headroom than these", fontsize=11)
    return rendered(paper, suffix)


def _draw(axes: Axes, exit_capacity: ExitCapacity, last: int, stroke: Stroke) -> None:
    numbers = list(range(1, last + 1))
    blocked = [max(exit_capacity.blocking_with(number), _FLOOR) for number in numbers]
    needs = "no number suffices" if exit_capacity.needed is None else f"needs {exit_capacity.needed}"
    label = f"{exit_capacity.name}: {needs}, {'has' if exit_capacity.stated else 'is given'} {exit_capacity.addresses}"
    axes.plot(numbers, blocked, **stroke.style, linewidth=2, markersize=6, label=label)
    if 1 <= exit_capacity.addresses <= last:
        axes.plot(
            [exit_capacity.addresses],
            [blocked[exit_capacity.addresses - 1]],
            marker="o",
            markersize=17,
            markerfacecolor="none",
            markeredgecolor=stroke.colour,
            markeredgewidth=2,
            linestyle="none",
        )
