"""The estate's exits and paths: subnets at the left, exits in the order they are passed, destinations right."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from matplotlib.axes import Axes
from matplotlib.lines import Line2D
from matplotlib.patches import FancyBboxPatch, PathPatch, Rectangle
from matplotlib.path import Path

from fenrask.demand import month_volume
from fenrask.estate import Estate
from fenrask.evaluation import BrokenNeed
from fenrask.routing import FlowPath, Paths
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered

__all__ = ["draw_paths"]

_MOST_ROWS = 26
_GREEN, _PURPLE = "#009e73", "#cc79a7"
_NETWORK_COLOURS = (BLUE, ORANGE, _GREEN, _PURPLE, GREY)
_BOX_WIDTH = 0.15


@dataclass(frozen=True)
class _Spot:
    """Where a box stands: its middle, in parts of the figure."""

    x: float
    y: float


def draw_paths(paths: Paths, broken: Sequence[BrokenNeed], suffix: str) -> bytes:
    """Networks as boxes around their subnets, zones as bands in them, paths as lines weighted by volume.

    A path that does not arrive is dashed, and ends in a cross where it is lost; needs that arriving flows
    break are named at their destination. Of a large estate the subnets that send most are drawn.
    """
    estate = paths.described.estate
    volumes = {id(path): month_volume(paths.described, path).both_bytes for path in paths.paths}
    drawn, not_counted = _chosen(paths.paths, volumes)
    paper = figure(constrained=False)
    axes = paper.add_axes((0, 0, 1, 1))
    axes.set_axis_off()
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1)
    axes.text(0.01, 0.972, f"{estate.estate}: the path of every flow", fontsize=15, weight="bold")
    spots = _placed(estate, drawn)
    networks = {name: _NETWORK_COLOURS[n % len(_NETWORK_COLOURS)] for n, name in enumerate(estate.networks)}
    _draw_networks(axes, estate, spots, networks)
    most = max((float(volumes[id(path)]) for path in drawn), default=0.0) or 1.0
    for path in sorted(drawn, key=lambda path: path.trace.verdict.arrives, reverse=True):
        weight = (float(volumes[id(path)]) / most) ** 0.5
        _draw_path(axes, estate, path, spots, networks[estate.subnets[path.subnet].network], weight)
    for (group, name), spot in spots.items():
        _draw_box(axes, estate, group, name, spot)
    _draw_unmet(axes, estate, broken, spots)
    _draw_legend(axes, not_counted)
    return rendered(paper, suffix)


def _chosen(paths: Sequence[FlowPath], volumes: Mapping[int, Fraction]) -> tuple[list[FlowPath], int]:
    """The paths of the subnets that send most, and the number of subnets not drawn."""
    sent: dict[str, Fraction] = {}
    for path in paths:
        sent[path.subnet] = sent.get(path.subnet, Fraction(0)) + volumes[id(path)]
    kept = set(sorted(sent, key=lambda name: -sent[name])[:_MOST_ROWS])
    return [path for path in paths if path.subnet in kept], len(sent) - len(kept)


def _placed(estate: Estate, paths: Sequence[FlowPath]) -> dict[tuple[str, str], _Spot]:
    """A spot for each subnet, exit and destination: columns by their place along the paths."""
    depth: dict[str, int] = {}
    for path in paths:
        for number, name in enumerate(path.trace.exits):
            depth[name] = max(depth.get(name, 0), number)
    columns = 1 + max(depth.values(), default=0)
    spots: dict[tuple[str, str], _Spot] = {}
    order = list(estate.subnets)

    def option(name: str) -> tuple[str, str, int]:
        return (estate.subnets[name].network, estate.subnets[name].zone or "", order.index(name))

    subnets = sorted({path.subnet for path in paths}, key=option)
    _column(spots, "subnet", subnets, 0.107)
    for number in range(columns):
        names = [name for name, at in depth.items() if at == number]
        _column(spots, "exit", _by_neighbours(names, paths, spots), 0.37 + 0.26 * (number / max(1, columns - 1)))
    reached = dict.fromkeys(estate.flows[path.flow].to for path in paths)
    _column(spots, "destination", _by_neighbours(reached, paths, spots, estate), 0.9)
    return spots


def _by_neighbours(
    names: Iterable[str],
    paths: Sequence[FlowPath],
    spots: Mapping[tuple[str, str], _Spot],
    estate: Estate | None = None,
) -> list[str]:
    """Names in the order of the mean height of what comes before them, so that lines cross little."""
    heights: dict[str, list[float]] = {name: [] for name in names}
    for path in paths:
        chain = path.trace.exits
        for number, name in enumerate(chain if estate is None else (estate.flows[path.flow].to,)):
            before = chain[number - 1] if estate is None and number else (chain[-1] if estate and chain else "")
            spot = spots.get(("exit", before)) or spots[("subnet", path.subnet)]
            if name in heights:
                heights[name].append(spot.y)
    return sorted(heights, key=lambda name: -sum(heights[name]) / max(1, len(heights[name])))


def _column(spots: dict[tuple[str, str], _Spot], group: str, names: Sequence[str], x: float) -> None:
    for number, name in enumerate(names):
        spots[group, name] = _Spot(x, 0.91 - 0.82 * (number + 0.5) / max(1, len(names)))


def _draw_networks(
    axes: Axes, estate: Estate, spots: Mapping[tuple[str, str], _Spot], colours: Mapping[str, str]
) -> None:
    for network, colour in colours.items():
        rows = [s.y for (g, name), s in spots.items() if g == "subnet" and estate.subnets[name].network == network]
        if not rows:
            continue
        low, high = min(rows) - 0.031, max(rows) + 0.038
        box = FancyBboxPatch((0.012, low), 0.176, high - low, boxstyle="round,pad=0.003", facecolor="white")
        box.set(edgecolor=colour, linewidth=2)
        axes.add_patch(box)
        axes.text(0.018, high + 0.006, network, fontsize=10, weight="bold", color=colour)
        _draw_zones(axes, estate, network, spots)


def _draw_zones(axes: Axes, estate: Estate, network: str, spots: Mapping[tuple[str, str], _Spot]) -> None:
    """A band for each zone of a network, every other one shaded, its name at the left."""
    zones: dict[str, list[float]] = {}
    for (group, name), spot in spots.items():
        if group == "subnet" and estate.subnets[name].network == network:
            zones.setdefault(estate.subnets[name].zone or "", []).append(spot.y)
    for number, (zone, rows) in enumerate(zones.items()):
        low, high = min(rows) - 0.03, max(rows) + 0.03
        if number % 2 == 0:
            axes.add_patch(Rectangle((0.013, low), 0.174, high - low, facecolor="#eeeeee", zorder=1))
        axes.text(0.019, (low + high) / 2, zone, fontsize=10, va="center", ha="center", zorder=4, color="#555555")


def _draw_unmet(
    axes: Axes, estate: Estate, broken: Sequence[BrokenNeed], spots: Mapping[tuple[str, str], _Spot]
) -> None:
    """Under each destination the needs that flows to it break though they arrive."""
    unmet: dict[str, dict[str, list[str]]] = {}
    for one in broken:
        if one.need != "arrives":
            unmet.setdefault(estate.flows[one.flow].to, {}).setdefault(one.need, []).append(one.flow)
    for destination, needs in unmet.items():
        spot = spots.get(("destination", destination))
        if spot is not None:
            text = "; ".join(f"not {need}: {', '.join(flows)}" for need, flows in needs.items())
            axes.text(spot.x, spot.y - 0.03, text[:44], fontsize=8, color=RED, ha="center", weight="bold", zorder=5)


def _draw_box(axes: Axes, estate: Estate, group: str, name: str, spot: _Spot) -> None:
    missing = group == "exit" and name not in estate.exits
    height = 0.034
    corner = (spot.x - _BOX_WIDTH / 2, spot.y - height / 2)
    box = FancyBboxPatch(corner, _BOX_WIDTH, height, boxstyle="round,pad=0.002", facecolor="#f7f7f7", zorder=3)
    box.set(edgecolor=RED if missing else "#333333", linestyle="--" if missing else "-", linewidth=1)
    axes.add_patch(box)
    note = "does not exist" if missing else ""
    if group == "exit" and not missing:
        note = estate.exits[name].kind
    text = f"{name}\n{note}" if note else name
    axes.text(spot.x, spot.y, text, ha="center", va="center", fontsize=8, zorder=4, linespacing=1.0)


def _draw_path(
    axes: Axes, estate: Estate, path: FlowPath, spots: Mapping[tuple[str, str], _Spot], colour: str, weight: float
) -> None:
    stops = [spots["subnet", path.subnet], *(spots["exit", name] for name in path.trace.exits)]
    arrives = path.trace.verdict.arrives
    if arrives:
        stops.append(spots["destination", estate.flows[path.flow].to])
    for one, other in zip(stops, stops[1:], strict=False):
        line = PathPatch(
            _curve(one, other, _gaps(one, other, spots)), fill=False, edgecolor=colour if arrives else RED, alpha=0.75
        )
        line.set(linewidth=1 + 6 * weight, linestyle="-" if arrives else (0, (4, 2)), capstyle="butt")
        axes.add_patch(line)
    if not arrives:
        last = stops[-1]
        axes.plot(
            [last.x + _BOX_WIDTH / 2 + 0.012], [last.y], "x", color=RED, markersize=11, markeredgewidth=3, zorder=5
        )
        words = f"{path.flow}: {path.trace.verdict.value}"
        axes.text(
            last.x + _BOX_WIDTH / 2 + 0.024, last.y - 0.006, words, fontsize=9, color=RED, weight="bold", zorder=5
        )


def _gaps(one: _Spot, other: _Spot, spots: Mapping[tuple[str, str], _Spot]) -> list[_Spot]:
    """Where a line from one spot to another passes the columns between: in the gap nearest to the straight line."""
    columns: dict[float, list[float]] = {}
    for spot in spots.values():
        if one.x < spot.x < other.x:
            columns.setdefault(spot.x, []).append(spot.y)
    found = []
    for x, heights in sorted(columns.items()):
        straight = one.y + (other.y - one.y) * (x - one.x) / (other.x - one.x)
        edges = sorted([max(heights) + 0.07, *heights, min(heights) - 0.07])
        middles = [(low + high) / 2 for low, high in zip(edges, edges[1:], strict=False)]
        found.append(_Spot(x, min(middles, key=lambda y: abs(y - straight))))
    return found


def _curve(one: _Spot, other: _Spot, between: Sequence[_Spot]) -> Path:
    """A line from the right edge of one box to the left edge of another, level where it passes a column."""
    half = _BOX_WIDTH / 2
    at = (one.x + half, one.y) if one.x + half < other.x - half else (one.x, one.y)
    points, codes = [at], [Path.MOVETO]
    for spot in (*between, other):
        end = (spot.x - half, spot.y) if at[0] < spot.x - half else (spot.x, spot.y)
        middle = (at[0] + end[0]) / 2
        points += [(middle, at[1]), (middle, end[1]), end]
        codes += [Path.CURVE4] * 3
        if spot is not other:
            at = (spot.x + half, spot.y)
            points.append(at)
            codes.append(Path.LINETO)
    return Path(points, codes)


def _draw_legend(axes: Axes, not_counted: int) -> None:
    handles = [
        Line2D([], [], color="#333333", linewidth=5, label="arrives; width by volume, colour by network"),
        Line2D([], [], color=RED, linewidth=2, linestyle="--", label="lost, at the cross"),
        Line2D([], [], color="#eeeeee", linewidth=9, label="a zone"),
    ]
    axes.legend(handles=handles, loc="lower left", bbox_to_anchor=(0.005, 0.0), ncols=3, frameon=False, fontsize=10)
    if not_counted:
        axes.text(0.99, 0.02, f"{not_counted} more subnets send less than these", ha="right", fontsize=10)
