"""Ports in use over time as simulated, with blocking: a panel for each pool."""

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.ticker import FuncFormatter, PercentFormatter

from fenrask.teletraffic.simulation import Found
from fenrask.units import SECONDS_PER_HOUR, clock_text
from fenrask.views.cells import share_text
from fenrask.views.figures.canvas import BLUE, RED, figure, rendered
from fenrask.what_if import Simulated

__all__ = ["draw_simulated"]

_MOST_PANELS = 4


def draw_simulated(estate: str, results: Sequence[tuple[Simulated, Found]], suffix: str) -> bytes:
    """The mean and the 5th to 95th percentile of ports in use, the ports there are, and blocking."""
    paper = figure()
    paper.suptitle(f"{estate}: ports in use and blocking, as simulated", fontsize=15)
    if not results:
        paper.text(0.5, 0.5, "No exit that translates holds any connection.", ha="center", fontsize=13)
    fullest = sorted(results, key=lambda pair: (pair[1].share, pair[0].busiest / max(1, pair[0].ports)), reverse=True)
    drawn = fullest[:_MOST_PANELS]
    for number, (simulated, found) in enumerate(drawn, 1):
        _panel(paper.add_subplot(len(drawn), 1, number), simulated, found)
    if len(results) > len(drawn):
        paper.supxlabel(f"{len(results) - len(drawn)} more pools block less than these", fontsize=11)
    return rendered(paper, suffix)


def _panel(axes: Axes, simulated: Simulated, found: Found) -> None:
    hours = (np.arange(1, found.held_mean.size + 1) * simulated.step_s + simulated.begins_s) / SECONDS_PER_HOUR
    axes.fill_between(hours, found.held_low, found.held_high, color=BLUE, alpha=0.3, linewidth=0, label="5 to 95 %")
    axes.plot(hours, found.held_mean, color=BLUE, linewidth=1.5, label="mean in use")
    axes.axhline(simulated.ports, color="black", linewidth=2, label=f"{simulated.ports:,} ports")
    axes.set_xlim(hours[0] - simulated.step_s / SECONDS_PER_HOUR, hours[-1])
    axes.set_ylim(0, 1.2 * max(simulated.ports, float(np.max(found.held_high))))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: clock_text(value * SECONDS_PER_HOUR)))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.set_ylabel("ports in use")
    axes.grid(axis="y", color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    words = f"{share_text(found.share)} find no free port" if found.blocked else "every connection finds a port"
    title = f"{simulated.exit}, {simulated.pool}: {words} in {found.runs} runs"
    axes.set_title(title, fontsize=12, loc="left", color=RED if found.blocked else "black")
    if found.blocked:
        scale = axes.twinx()
        scale.fill_between(hours, found.by_step, color=RED, alpha=0.25, linewidth=0, step="pre")
        scale.set_ylim(0, max(2.5 * float(np.max(found.by_step)), 1e-9))
        scale.yaxis.set_major_formatter(PercentFormatter(1.0))
        scale.set_ylabel("no free port (shaded)", color=RED)
        scale.spines[["top"]].set_visible(False)
    axes.legend(loc="upper left", bbox_to_anchor=(1.06, 1.0), fontsize=10, frameon=False)
