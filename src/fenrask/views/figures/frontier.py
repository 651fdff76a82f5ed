"""The least month's cost against the number of public addresses."""

from collections.abc import Sequence

from matplotlib.ticker import FuncFormatter, MaxNLocator

from fenrask.optimise import Mix
from fenrask.views.figures.canvas import BLUE, figure, rendered

__all__ = ["draw_frontier"]


def draw_frontier(estate: str, currency: str, mixes: Sequence[Mix], suffix: str) -> bytes:
    """A point for each number of addresses that some mix can do with, and the step between them."""
    points = [(float(mix.addresses), mix.month) for mix in mixes][::-1]
    return _steps(
        f"{estate}: least cost by number of public addresses", "public addresses paid for", points, currency, suffix
    )


def draw_headrooms(estate: str, currency: str, found: Sequence[tuple[float | None, Mix]], suffix: str) -> bytes:
    """A point for each share of ports left free when any one zone is lost."""
    points = [(100 * headroom, mix.month) for headroom, mix in found if headroom is not None]
    about = "% of ports left free when any one zone is lost"
    return _steps(f"{estate}: least cost by headroom after a zone's loss", about, points, currency, suffix)


def _steps(title: str, about: str, points: list[tuple[float, float]], currency: str, suffix: str) -> bytes:
    paper = figure()
    axes = paper.add_subplot()
    paper.suptitle(title, fontsize=15)
    numbers, costs = [number for number, _ in points], [cost for _, cost in points]
    axes.step(numbers, costs, where="post", color=BLUE, linewidth=2)
    axes.plot(numbers, costs, "o", color=BLUE, markersize=8)
    for number, cost in zip(numbers, costs, strict=True):
        axes.annotate(f"{cost:,.2f}", (number, cost), xytext=(6, 8), textcoords="offset points", fontsize=11)
    axes.set_xlabel(about)
    axes.set_ylabel(f"{currency} a month")
    axes.margins(x=0.12, y=0.15)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    axes.grid(color="#dddddd")
    axes.spines[["top", "right"]].set_visible(False)
    return rendered(paper, suffix)
