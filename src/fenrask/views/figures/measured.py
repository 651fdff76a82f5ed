"""What records show: new and concurrent connections over the time looked at, and how long they last."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.ticker import FuncFormatter, PercentFormatter

from fenrask.records.measuring import Loads, Measured, open_by_minute
from fenrask.teletraffic.holding import SHAPES, law_of
from fenrask.units import percent
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, Stroke, figure, rendered

__all__ = ["draw_measured"]

_STROKES = (Stroke(BLUE), Stroke(ORANGE, "--"), Stroke(GREY, "-."))


def draw_measured(estate: str, loads: Loads, suffix: str) -> bytes:
    """The three pairs with the most connections: rates by hour beside what is stated, concurrency, durations."""
    found = loads.found
    paper = figure()
    shown = list(zip(found, _STROKES, strict=False))
    names = {one.subnet + one.destination: f"{one.subnet} to {one.destination}" for one, _ in shown}
    more = f" (the {len(shown)} busiest of {len(found):,} pairs)" if len(found) > len(shown) else ""
    paper.suptitle(f"{estate}: load as records show it{more}", fontsize=15)
    if not shown:
        paper.text(0.5, 0.5, "No record belongs to a subnet and a destination.", ha="center", fontsize=13)
        return rendered(paper, suffix)
    grid = paper.add_gridspec(2, 2, width_ratios=[3, 2])
    rates, open_, lasts = (paper.add_subplot(place) for place in (grid[0, 0], grid[1, 0], grid[:, 1]))
    for measured, stroke in shown:
        name = names[measured.subnet + measured.destination]
        _rates(rates, measured, name, stroke)
        if (planned := loads.stated.get((measured.subnet, measured.destination))) is not None:
            rates.axhline(planned, color=stroke.colour, linewidth=0.9, linestyle=stroke.line)
        times, mean = open_by_minute(loads.summary, loads.pairs, measured)
        open_.plot(
            (times - times[0]) / 3600, mean, color=stroke.colour, linestyle=stroke.line, linewidth=1.2, label=name
        )
        _durations(lasts, measured, name, stroke)
    hours = len(found[0].days.by_hour)
    _dress(rates, "new connections/s", "hour of the week (Monday first)" if hours > 24 else "hour of the day, UTC")
    rates.set_title(
        "New connections by hour; a thin line: as the flow states, in the mean of a day", fontsize=11, loc="left"
    )
    _dress(open_, "connections open", "hours since the first record")
    open_.set_title("Concurrent connections, minute by minute (no mapping timeout added)", fontsize=11, loc="left")
    _dress(lasts, "connections that last longer", "seconds")
    lasts.set_title("Durations; a thin line: the fitted law", fontsize=11, loc="left")
    lasts.yaxis.set_major_formatter(PercentFormatter(1.0))
    lasts.set_xscale("log")
    lasts.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    # Room for what the lines are, above the longest of them.
    lasts.set_ylim(0, 1.04 + 0.075 * len(lasts.get_legend_handles_labels()[1]))
    lasts.set_yticks([0.2 * step for step in range(6)])
    lasts.legend(loc="upper right", fontsize=10, frameon=False)
    return rendered(paper, suffix)


def _rates(axes: Axes, measured: Measured, name: str, stroke: Stroke) -> None:
    hours = len(measured.days.by_hour)
    axes.step(
        [*range(hours + 1)],
        [*measured.days.by_hour, measured.days.by_hour[-1]],
        where="post",
        **stroke.style,
        lw=2,
    )
    axes.annotate(
        name,
        (hours, measured.days.by_hour[-1]),
        xytext=(-4, 5),
        textcoords="offset points",
        ha="right",
        color=stroke.colour,
    )
    axes.set_xlim(0, hours)
    axes.set_xticks(range(0, hours + 1, 24 if hours > 24 else 4))


def _durations(axes: Axes, measured: Measured, name: str, stroke: Stroke) -> None:
    values, shares = np.array(measured.law.values), np.array(measured.law.shares)
    left = 1 - (np.cumsum(shares) - shares / 2)
    axes.plot(
        np.maximum(values, 1e-3),
        left,
        **stroke.style,
        linewidth=2.2,
        label=_named(measured, name),
    )
    law = measured.fit.law
    times = np.geomspace(max(1e-3, float(values[0]) / 2), max(float(values[-1]), 2e-3) * 2, 200)
    if law["shape"] in SHAPES:
        figure = law.get(SHAPES[law["shape"]].figure)
        axes.plot(times, law_of(law["shape"], law["mean"], figure).survival(times), color=stroke.colour, linewidth=0.9)


def _named(measured: Measured, name: str) -> str:
    shape = measured.fit.law["shape"]
    fit = "no law fits" if shape == "measured" else f"{shape}, off by at most {percent(measured.fit.distance)}"
    return f"{name}\n  mean {measured.duration_s:.3g} s; {fit}"


def _dress(axes: Axes, what: str, along: str) -> None:
    axes.set_ylabel(what)
    axes.set_xlabel(along)
    axes.set_ylim(bottom=0)
    axes.grid(axis="y", color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
