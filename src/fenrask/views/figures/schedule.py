"""Ports wanted and owned through the months, with the orders; and the bill by month."""

import numpy as np
from matplotlib.axes import Axes
from matplotlib.ticker import FuncFormatter, MaxNLocator
from numpy.typing import NDArray

from fenrask.capacity import ExitCapacity
from fenrask.estate import Described
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered
from fenrask.what_if.schedule import Planned, Schedule
from fenrask.what_if.schedule.needed import Needed

__all__ = ["draw_schedule"]

Floats = NDArray[np.float64]
_MOST = 3
_KINDS = 4
_COLOURS = (BLUE, ORANGE, "#009e73", "#cc79a7", GREY, RED)


def draw_schedule(described: Described, found: Schedule, suffix: str) -> bytes:
    """Above the exits that buy, or else those that want most; below the bill, stacked by its largest items."""
    plan = found.plan
    bought = {one.needed.key for one in plan.due}
    wanted = [one for one in plan.needed if one.key in bought or not bought]
    shown = sorted(wanted, key=lambda needed: -max(needed.addresses[-1] or 0, needed.has))[:_MOST]
    paper = figure()
    paper.suptitle(f"{described.estate.estate}: ports wanted and owned, and the bill, month by month", fontsize=15)
    grid = paper.add_gridspec(2, max(1, len(shown)), height_ratios=(1.3, 1))
    for place, needed in enumerate(shown):
        axes = paper.add_subplot(grid[0, place])
        _draw_ports(axes, plan, needed)
        if not place:
            axes.set_ylabel("ports")
    if shown:
        paper.axes[len(shown) - 1].legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=10, frameon=False)
    bill = paper.add_subplot(grid[1, :])
    _draw_bill(bill, found)
    bill.set_ylabel(f"{described.catalogue.currency} a month")
    for change in found.changes:
        for axes in paper.axes:
            axes.axvline(change.begin - 0.5, color=RED, linewidth=1.5, linestyle="-.")
        bill.annotate(
            " other exits", (change.begin - 0.5, bill.get_ylim()[1]), va="top", color=RED, fontsize=10,
        )  # fmt: skip
    for axes in paper.axes:
        axes.set_xlabel(f"months from {described.estate.first_month or 'now'}")
        axes.grid(axis="y", color="#dddddd")
        axes.set_axisbelow(True)
        axes.spines[["top", "right"]].set_visible(False)
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
        axes.set_ylim(bottom=0)
        axes.set_xlim(-0.6, len(plan.months) - 0.4)
    return rendered(paper, suffix)


def _draw_ports(axes: Axes, plan: Planned, needed: Needed) -> None:
    """What the fullest pool of an exit wants, its band over the samples, what it wants after a fault; and the ports."""
    months = np.arange(needed.key.begin, needed.until)
    first = f"from month {needed.key.begin}" * bool(needed.key.begin)
    last = f"until month {needed.until - 1}" * (needed.until < len(plan.months))
    axes.set_title("\n".join(filter(None, (needed.name, " ".join(filter(None, (first, last)))))), fontsize=12)
    there, sure = needed.sized[needed.key.begin : needed.until], needed.confidence[needed.key.begin : needed.until]
    likely = [_wanted(sized) for sized in there]
    axes.plot(months, likely, color=BLUE, linewidth=2, label="wanted at the peak")
    bands = [one.peaks if one else (peak, peak, peak) for one, peak in zip(sure, likely, strict=True)]
    if any(sure):
        axes.fill_between(
            months, [low for low, *_ in bands], [high for *_, high in bands], color=BLUE, alpha=0.2,
            label="5 to 95 % of samples",
        )  # fmt: skip
    after = [_wanted(sized.after_fault.then) for sized in there if sized is not None and sized.after_fault]
    if len(after) == months.size:
        axes.plot(months, after, color=ORANGE, linewidth=2, linestyle="--", label="after the worst fault")
    each = next(sized.how.per_address for sized in needed.sized if sized is not None)
    owned = np.array([float(needed.has) if sized else 0.0 for sized in there])
    for due in plan.due:
        if due.needed.key == needed.key:
            owned[due.order.month - needed.key.begin :] += due.order.addresses
            axes.axvline(due.order.month, color=GREY, linewidth=1, linestyle=":")
            axes.annotate(
                f"+{due.order.addresses}",
                (due.order.month, due.then * each),
                xytext=(4, 4), textcoords="offset points", fontsize=10,
            )  # fmt: skip
    usable = owned if needed.most is None else np.minimum(owned, needed.most)
    axes.step(months, usable * each, where="post", color="black", linewidth=2, label="owned")


def _wanted(sized: ExitCapacity | None) -> float:
    """Ports that its fullest pool wants at the peak; none where the exit is not there."""
    return max((one.busiest for one in sized.streams), default=0.0) if sized else 0.0


def _draw_bill(axes: Axes, found: Schedule) -> None:
    """A bar for each month, stacked by the largest items; what is paid once on top."""
    plan = found.plan
    months = np.arange(len(plan.months))
    items: dict[str, Floats] = {}
    for month in plan.months:
        for line in month.bill.lines:
            items.setdefault(line.item, np.zeros(months.size))[month.number] += float(line.amount)
    ordered = sorted(items, key=lambda item: -float(items[item].sum()))
    stacks = [(item, items[item]) for item in ordered[:_KINDS]]
    stacks.append(("all other", sum((items[item] for item in ordered[_KINDS:]), np.zeros(months.size))))
    once = {one.begin: float(one.once) for one in found.changes}
    stacks.append(("paid once", np.array([float(one.once) + once.get(one.number, 0.0) for one in plan.months])))
    below = np.zeros(months.size)
    for (name, amounts), colour in zip(stacks, _COLOURS, strict=False):
        if np.any(amounts):
            axes.bar(months, amounts, bottom=below, color=colour, label=name, width=0.85)
            below = below + amounts
    axes.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), fontsize=10, frameon=False)
