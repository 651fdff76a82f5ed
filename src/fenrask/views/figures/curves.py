"""Cost against volume of every offer that could carry a flow, or of whole designs."""

from fractions import Fraction

from matplotlib.ticker import FuncFormatter

from fenrask.designs import BreakEven
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered

__all__ = ["draw_curves"]

_COLOURS = (BLUE, ORANGE, GREY, "#009e73", "#cc79a7", "#56b4e9")
_DASHES = ("-", "--", ":", "-.")


def draw_curves(estate: str, found: BreakEven, suffix: str) -> bytes:
    """A line for each up to twice the flow's volume, or the last break-even near it; crossings are dotted."""
    paper = figure()
    axes = paper.add_subplot()
    paper.suptitle(f"{estate}: a month by the volume of {found.flow}", fontsize=15)
    crossed = [one.at.volume for one in found.meetings if one.at.kind == "cross"]
    near = [volume for volume in crossed if volume <= 4 * found.volume]
    end = max([2 * found.volume, *(volume * Fraction(5, 4) for volume in near), Fraction(1)])
    for number, (name, curve) in enumerate(found.curves.items()):
        colour, line = _COLOURS[number % len(_COLOURS)], _DASHES[(number + number // len(_COLOURS)) % len(_DASHES)]
        edges = sorted({Fraction(0), end, *(begins for begins, _ in curve.pieces if begins < end)})
        costs = [float(curve.at(edge)) for edge in edges]
        axes.plot([float(edge) for edge in edges], costs, color=colour, linestyle=line, linewidth=2, label=name)
    for meeting in found.meetings:
        if meeting.at.kind == "cross" and meeting.at.volume <= end:
            volume = meeting.at.volume
            cost = float(found.curves[meeting.first].at(volume))
            axes.plot([float(volume)], [cost], marker="o", color="black", markersize=6)
            axes.annotate(f"{float(volume):,.0f}", (float(volume), cost), xytext=(6, -12), textcoords="offset points")
    axes.axvline(float(found.volume), color=RED, linewidth=1.5)
    axes.annotate(
        f"{found.flow} now",
        (float(found.volume), axes.get_ylim()[1]),
        xytext=(5, -14),
        textcoords="offset points",
        color=RED,
        weight="bold",
    )
    axes.set_xlim(0, float(end))
    axes.set_ylim(bottom=-0.02 * axes.get_ylim()[1])
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.set_xlabel(f"{found.unit} a month, both ways")
    axes.set_ylabel(f"{found.currency} a month")
    axes.grid(color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    if len(found.curves) > len(_COLOURS):
        axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=10)
    else:
        axes.legend(loc="upper left", fontsize=11)
    return rendered(paper, suffix)
