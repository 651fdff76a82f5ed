"""The month's cost of each design, stacked by what is paid for."""

from matplotlib.ticker import FuncFormatter

from fenrask.designs import Comparison
from fenrask.units import cents
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered

__all__ = ["draw_designs"]

_STYLES = (
    (BLUE, ""),
    (ORANGE, "//"),
    (GREY, ".."),
    ("#009e73", "xx"),
    ("#56b4e9", "--"),
    ("#cc79a7", "++"),
    ("#f0e442", "oo"),
)


def draw_designs(comparison: Comparison, suffix: str, chosen: float | None = None) -> bytes:
    """A bar for each design, the best first; where a need is not met, or a load not carried, its name says so.

    chosen: what the cheapest mix costs a month, as a line across all of them.
    """
    paper = figure()
    axes = paper.add_subplot()
    ranked = comparison.ranked
    first = ranked[0].evaluation
    estate, currency = first.described.estate.estate, first.bill.currency
    paper.suptitle(f"{estate}: the month's cost of each design", fontsize=15)
    items = list(dict.fromkeys(line.item for one in ranked for line in one.evaluation.bill.lines))
    sums = [
        {item: sum(float(line.amount) for line in one.evaluation.bill.lines if line.item == item) for item in items}
        for one in ranked
    ]
    items.sort(key=lambda item: -sum(each[item] for each in sums))
    starts = [0.0] * len(ranked)
    for number, item in enumerate(items):
        colour, hatch = _STYLES[number % len(_STYLES)]
        values = [each[item] for each in sums]
        axes.barh(range(len(ranked)), values, left=starts, color=colour, hatch=hatch, edgecolor="white", label=item)
        starts = [start + value for start, value in zip(starts, values, strict=True)]
    for place, candidate in enumerate(ranked):
        verdict = f"not met: {', '.join(candidate.fails)}" if candidate.fails else "meets every need"
        axes.annotate(
            f"{cents(candidate.evaluation.bill.total):,}   {verdict}",
            (starts[place], place),
            xytext=(5, 0),
            textcoords="offset points",
            va="center",
            fontsize=10,
            weight="bold" if candidate.passes else "normal",
            color="black" if candidate.passes else RED,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5},
        )
    names = [one.design.name if one.passes else f"\u2717 {one.design.name}" for one in ranked]
    axes.set_yticks(range(len(ranked)), names, fontsize=11)
    for label, candidate in zip(axes.get_yticklabels(), ranked, strict=True):
        label.set_color("black" if candidate.passes else RED)
        label.set_fontweight("bold" if candidate.passes else "normal")
    axes.invert_yaxis()
    axes.set_xlim(0, 1.5 * max([*starts, 1.0]))
    axes.set_xlabel(f"{currency} a month (\u2717: some need is not met)")
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.spines[["top", "right"]].set_visible(False)
    if chosen is not None:
        told = f"{chosen:,.2f}: the cheapest mix that meets every need (choose)"
        axes.axvline(chosen, color="black", linewidth=2, linestyle=":", label=told)
    # Above all bars and words.
    axes.legend(loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=4, fontsize=10, frameon=False)
    return rendered(paper, suffix)
