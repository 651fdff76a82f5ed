"""Ports in use over the day against capacity, a panel for each exit, with blocking beneath."""

from matplotlib.axes import Axes
from matplotlib.ticker import FuncFormatter, PercentFormatter

from fenrask.capacity import Capacity, ExitCapacity, Stream
from fenrask.estate.suggestions import some
from fenrask.units import SECONDS_PER_HOUR, clock_text, counted, percent
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, Stroke, figure, rendered

__all__ = ["draw_ports"]

_MOST_STREAMS = 3
_SEEN = 0.02
"""Share of the ports below which a pool's curve lies on the axis and is not drawn."""
_MOST_PANELS = 4
_NEARLY_EMPTY = 0.1
"""Share of its ports that an exit wants at its peak, below which it gets no panel of its own."""
_STROKES = (Stroke(BLUE), Stroke(ORANGE, "--"), Stroke(GREY, ":"))


def draw_ports(capacity: Capacity, suffix: str) -> bytes:
    """A panel for each exit with connections: its busiest pools through the day, the ports of one, and blocking.

    Where a pool wants more ports than there are, the excess is hatched; blocking is shaded, by the
    scale on the right.
    """
    busy = sorted(
        (one for one in capacity.exits if one.ports), key=lambda exit_capacity: exit_capacity.port_limit.headroom
    )
    paper = figure()
    name = capacity.demand.paths.described.estate.estate
    paper.suptitle(f"{name}: ports wanted through the day, and the ports there are", fontsize=15)
    if not busy:
        paper.text(0.5, 0.5, "No exit that translates has a connection.", ha="center", fontsize=13)
    full = [one for one in busy if one.port_limit.headroom < 1 - _NEARLY_EMPTY or not one.fits] or busy[:1]
    drawn = full[:_MOST_PANELS]
    for number, exit_capacity in enumerate(drawn, 1):
        _panel(paper.add_subplot(len(drawn), 1, number), capacity, exit_capacity)
    folded = [f"{one.name} {percent(1 - one.port_limit.headroom)}" for one in busy if one not in drawn]
    if folded:
        paper.supxlabel(f"ports wanted, of those that exist, of the others: {some(folded, 6)}", fontsize=11)
    return rendered(paper, suffix)


def _panel(axes: Axes, capacity: Capacity, exit_capacity: ExitCapacity) -> None:
    size = exit_capacity.port_limit.capacity
    hours = capacity.demand.hours
    times = [*(capacity.demand.times_s / SECONDS_PER_HOUR), float(hours)]
    ordered = sorted(exit_capacity.streams, key=lambda stream: -stream.busiest)
    streams = [stream for stream in ordered[:_MOST_STREAMS] if stream is ordered[0] or stream.busiest > _SEEN * size]
    for stream, stroke in zip(streams, _STROKES, strict=False):
        _draw_stream(axes, times, stream, size, stroke)
    if len(ordered) > len(streams):
        axes.plot([], [], linewidth=0, label=f"and {counted(len(ordered) - len(streams), 'smaller pool')}")
    axes.axhline(size, color="black", linewidth=2)
    each = (
        f" ({exit_capacity.addresses} x {exit_capacity.how.per_address:,.0f})"
        if size == exit_capacity.addresses * exit_capacity.how.per_address
        else ""
    )
    axes.annotate(
        f"{size:,.0f} ports{each}",
        (0, size),
        xytext=(4, 4),
        textcoords="offset points",
        fontsize=10,
        weight="bold",
    )
    axes.set_title(_title(exit_capacity), fontsize=12, loc="left", color=RED if not exit_capacity.fits else "black")
    axes.set_ylim(0, 1.22 * max(size, *(stream.busiest for stream in streams)))
    axes.set_xlim(0, hours)
    step = 24 if hours > 24 else 4
    ticks = range(0, hours + 1, step)
    axes.set_xticks(
        ticks, [*(clock_text(hour * SECONDS_PER_HOUR) for hour in ticks[:-1]), "24:00" if hours == 24 else ""]
    )
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.set_ylabel("ports wanted")
    axes.grid(axis="y", color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    if exit_capacity.ports and exit_capacity.blocking > exit_capacity.target:
        _blocking(axes, times, [*exit_capacity.ports.blocked, exit_capacity.ports.blocked[0]])
    axes.legend(loc="upper left", bbox_to_anchor=(1.06, 1.0), fontsize=10, frameon=False)


def _draw_stream(axes: Axes, times: list[float], stream: Stream, size: float, stroke: Stroke) -> None:
    concurrent = [*stream.load.concurrent, stream.load.concurrent[0]]
    axes.plot(times, concurrent, **stroke.style, linewidth=2, label=stream.label)
    over = [max(float(one), size) for one in concurrent]
    if max(over) > size:
        hatch = axes.fill_between(times, over, size, linewidth=0, label="no port left")
        hatch.set(facecolor="none", edgecolor=RED, hatch="////")


def _blocking(axes: Axes, times: list[float], blocked: list[float]) -> None:
    """Blocking through the day, by a scale of its own on the right."""
    scale = axes.twinx()
    scale.fill_between(times, blocked, color=RED, alpha=0.25, linewidth=0)
    scale.set_ylim(0, max(2.5 * max(blocked), 1e-9))
    scale.yaxis.set_major_formatter(PercentFormatter(1.0))
    scale.set_ylabel("no free port (shaded)", color=RED)
    scale.spines[["top"]].set_visible(False)


def _title(exit_capacity: ExitCapacity) -> str:
    """What the panel says, in one line."""
    binding = min((limit for limit in exit_capacity.limits if limit.grows), key=lambda limit: limit.headroom)
    first = f"; {binding.limit} binds first, headroom {percent(binding.headroom)}" if binding.limit != "ports" else ""
    if exit_capacity.exceeded:
        return exit_capacity.verdict
    if exit_capacity.fits:
        return f"{exit_capacity.name}: port headroom {percent(exit_capacity.port_limit.headroom)}{first}"
    blocked = f"{percent(exit_capacity.blocking)} of new connections find no free port at worst"
    if exit_capacity.needed is None:
        return f"{exit_capacity.name}: no number of addresses suffices; {blocked}"
    needs = counted(exit_capacity.needed, "address", "addresses")
    return f"{exit_capacity.name}: needs {needs}, has {exit_capacity.addresses}; {blocked}"
