"""Cost and use month by month; and what each input does."""

from collections.abc import Sequence

from matplotlib.ticker import FuncFormatter

from fenrask.estate import Described
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered
from fenrask.what_if import Effect, Growth

__all__ = ["draw_growth", "draw_sensitivity"]

_STYLES = ((BLUE, "-"), (ORANGE, "--"), (GREY, ":"), ("#009e73", "-."))
_MOST_BARS = 14


def draw_growth(described: Described, growth: Growth, suffix: str) -> bytes:
    """Above the month's cost, below how much of the limit that load fills first each exit uses, to 100 %."""
    paper = figure()
    paper.suptitle(f"{described.estate.estate}: growth month by month", fontsize=15)
    numbers = [month.number for month in growth.months]
    cost = paper.add_subplot(2, 1, 1)
    cost.plot(numbers, [float(month.amount) for month in growth.months], color=BLUE, marker="o", linewidth=2)
    cost.set_ylabel(f"{described.catalogue.currency} a month")
    cost.set_ylim(bottom=0)
    cost.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    use = paper.add_subplot(2, 1, 2)
    names = sorted(growth.months[-1].used, key=lambda name: -growth.months[-1].used[name])[: len(_STYLES)]
    for name, (colour, line) in zip(names, _STYLES, strict=False):
        values = [100 * month.used.get(name, 0.0) for month in growth.months]
        use.plot(numbers, values, color=colour, linestyle=line, linewidth=2, label=name)
    use.axhline(100, color=RED, linewidth=2)
    use.annotate("the limit", (numbers[0], 100), xytext=(4, 4), textcoords="offset points", color=RED, weight="bold")
    for number, crossing in enumerate([one for one in growth.crossings if one.month]):
        use.axvline(crossing.month, color="#bbbbbb", linewidth=1)
        where = (crossing.month, 4 + 12 * (number % 4))
        use.annotate(
            ", ".join(filter(None, (crossing.limit, crossing.about))),
            where,
            xytext=(3, 0),
            textcoords="offset points",
            fontsize=9,
        )
    use.set_ylabel("fullest limit, % used")
    use.set_xlabel(f"months from {described.estate.first_month or 'now'}")
    use.set_ylim(bottom=0)
    for axes in (cost, use):
        axes.grid(axis="y", color="#dddddd")
        axes.spines[["top", "right"]].set_visible(False)
    if names:
        use.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=10, frameon=False)
    return rendered(paper, suffix)


def draw_sensitivity(estate: str, currency: str, effects: Sequence[Effect], suffix: str) -> bytes:
    """A bar for each input: what a tenth more of it does to the month's cost, the greatest on top."""
    paper = figure()
    axes = paper.add_subplot()
    drawn = [one for one in effects if one.month_change][:_MOST_BARS]
    paper.suptitle(f"{estate}: what a tenth more of each input does to the month's cost", fontsize=15)
    values = [float(one.month_change) for one in drawn]
    axes.barh(range(len(drawn)), values, color=[BLUE if value > 0 else ORANGE for value in values])
    axes.set_yticks(range(len(drawn)), [one.about for one in drawn], fontsize=11)
    axes.invert_yaxis()
    for place, value in enumerate(values):
        axes.annotate(f"{value:+,.2f}", (value, place), xytext=(4, 0), textcoords="offset points", va="center")
    axes.margins(x=0.15)
    axes.set_xlabel(f"{currency} a month")
    axes.spines[["top", "right"]].set_visible(False)
    return rendered(paper, suffix)
