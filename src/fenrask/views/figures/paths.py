"""The estate's exits and paths: subnets at the left, exits in the order they are passed, destinations right."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from matplotlib.axes import Axes
from matplotlib.lines import Line2D
from matplotlib.patches import FancyBboxPatch, PathPatch, Rectangle
from matplotlib.path import Path

from fenrask.demand import month_volume
from fenrask.estate import Described, Estate
from fenrask.estate.suggestions import some
from fenrask.evaluation import BrokenNeed
from fenrask.routing import Paths, Trace, Verdict
from fenrask.units import counted
from fenrask.views.figures.canvas import BLUE, GREY, ORANGE, RED, figure, rendered

__all__ = ["draw_paths", "draw_trace"]

_MOST_ROWS = 22
_GREEN, _PURPLE = "#009e73", "#cc79a7"
_NETWORK_COLOURS = (BLUE, ORANGE, _GREEN, _PURPLE, GREY)
_LEFT, _RIGHT = 0.107, 0.9
_WIDEST = 0.15
_SUBNET_WIDTH = 0.15
_COLUMN, _TALLEST = 0.82, 0.034
"""How much of the height a column of boxes takes, and a box at most."""
_LETTER = 0.0048
"""The width of a letter of the smallest size, in parts of the figure."""


@dataclass(frozen=True)
class _Spot:
    """Where a box is: its middle, in parts of the figure."""

    x: float
    y: float


@dataclass(frozen=True)
class _Line:
    """All traffic of one row of subnets that takes the same exits to the same destination."""

    row: str
    """The subnet that names the row."""
    exits: tuple[str, ...]
    destination: str
    verdict: Verdict
    comes_in: bool
    """Whether the destination opens the connections; exits are in the order of what goes out all the same."""
    flows: tuple[str, ...]
    volume: float


def draw_paths(paths: Paths, broken: Sequence[BrokenNeed], suffix: str) -> bytes:
    """Networks as boxes around their subnets, zones as bands in them, paths as lines weighted by volume.

    A path whose connections the other end opens has an arrow at its hosts. One that does not arrive is dashed, and
    ends in a cross where it is lost; needs that arriving flows break are named at their destination. Subnets of one
    zone whose traffic takes the same paths are one row. Of a large estate the rows that send most are drawn, as many
    as can be read.
    """
    rows = _folded(paths)
    lines, not_drawn = _readable(paths.described.estate, _lines_of(paths, rows))
    lines, ends = _with_ends_together(lines)
    content = _Content(lines, rows, ends, broken, not_drawn)
    return _drawn(paths.described.estate, content, "the path of every flow", suffix)


def draw_trace(described: Described, target: str, traces: Sequence[Trace], suffix: str) -> bytes:
    """The path from one subnet to one destination, in all its parts."""
    lines = [_Line(one.subnet, one.exits, target, one.verdict, False, (), 1.0) for one in traces]
    subnet = traces[0].subnet
    return _drawn(described.estate, _Content(lines, {subnet: [subnet]}), f"{subnet} to {target}", suffix)


def _folded(paths: Paths) -> dict[str, list[str]]:
    """The subnets of each row, by its first: those of one network and zone whose traffic takes the same paths."""
    estate = paths.described.estate
    taken: dict[str, set[tuple[str, tuple[str, ...], Verdict]]] = {}
    for path in paths.paths:
        key = (estate.flows[path.flow].other_end, path.example.exits, path.example.verdict)
        taken.setdefault(path.subnet, set()).add(key)
    rows: dict[object, list[str]] = {}
    for name in sorted(taken, key=[*estate.subnets].index):
        subnet = estate.subnets[name]
        rows.setdefault((subnet.network, subnet.zone, frozenset(taken[name])), []).append(name)
    return {names[0]: names for names in rows.values()}


def _lines_of(paths: Paths, rows: Mapping[str, Sequence[str]]) -> list[_Line]:
    first = {name: row for row, names in rows.items() for name in names}
    flows: dict[tuple[str, tuple[str, ...], str, Verdict, bool], dict[str, float]] = {}
    for path in paths.paths:
        to, comes_in = paths.described.estate.flows[path.flow].other_end, path.example.inward is not None
        exits = path.example.exits[::-1] if comes_in else path.example.exits
        found = flows.setdefault((first[path.subnet], exits, to, path.example.verdict, comes_in), {})
        found[path.flow] = found.get(path.flow, 0.0) + float(month_volume(paths.described, path).both_bytes)
    return [_Line(*key, tuple(volumes), sum(volumes.values())) for key, volumes in flows.items()]


def _with_ends_together(lines: list[_Line]) -> tuple[list[_Line], dict[str, list[str]]]:
    """Of too many destinations those that the same paths lead to as one box, by the one that gets most; its members."""
    sent: dict[str, float] = {}
    ways: dict[str, set[object]] = {}
    for line in lines:
        sent[line.destination] = sent.get(line.destination, 0.0) + line.volume
        ways.setdefault(line.destination, set()).add((line.row, line.exits, line.verdict, line.comes_in))
    if len(sent) <= _MOST_ROWS:
        return lines, {}
    alike: dict[object, list[str]] = {}
    for name in sorted(sent, key=lambda name: -sent[name]):
        alike.setdefault(frozenset(ways[name]), []).append(name)
    first = {name: names[0] for names in alike.values() for name in names}
    together: dict[tuple[object, ...], _Line] = {}
    for line in lines:
        key = (line.row, line.exits, first[line.destination], line.verdict, line.comes_in)
        known = together.get(key)
        flows = (*known.flows, *line.flows) if known else line.flows
        volume = line.volume + (known.volume if known else 0.0)
        together[key] = replace(line, destination=first[line.destination], flows=flows, volume=volume)
    return [*together.values()], {names[0]: names for names in alike.values()}


def _readable(estate: Estate, lines: Sequence[_Line]) -> tuple[list[_Line], int]:
    """The lines of the rows that send most, as long as no column has too many boxes; and how many are not."""
    sent: dict[str, float] = {}
    for line in lines:
        sent[line.row] = sent.get(line.row, 0.0) + line.volume
    kept: set[str] = set()
    for row in sorted(sent, key=lambda name: -sent[name]):
        some = [line for line in lines if line.row in kept | {row}]
        depth = Counter(_depths(some).values())
        networks = {estate.subnets[name].network for name in kept | {row}}
        ends = {line.destination for line in _with_ends_together(some)[0]}
        boxes = (len(kept) + len(networks), len(ends), *depth.values())
        if not kept or max(boxes) <= _MOST_ROWS:
            kept.add(row)
    return [line for line in lines if line.row in kept], len(sent) - len(kept)


@dataclass(frozen=True)
class _Content:
    """What is drawn: lines; by the first of each row its subnets; destinations together; and how many rows are not."""

    lines: Sequence[_Line]
    rows: Mapping[str, Sequence[str]]
    ends: Mapping[str, Sequence[str]] = field(default_factory=dict)
    broken: Sequence[BrokenNeed] = ()
    not_drawn: int = 0


def _drawn(estate: Estate, content: _Content, title: str, suffix: str) -> bytes:
    lines, rows, ends = content.lines, content.rows, content.ends
    paper = figure(constrained=False)
    axes = paper.add_axes((0, 0, 1, 1))
    axes.set_axis_off()
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1)
    axes.text(0.01, 0.972, f"{estate.estate}: {title}", fontsize=15, weight="bold")
    spots, width = _placed(estate, lines)
    networks = {name: _NETWORK_COLOURS[n % len(_NETWORK_COLOURS)] for n, name in enumerate(estate.networks)}
    _draw_networks(axes, estate, spots, networks)
    most = max((line.volume for line in lines), default=0.0) or 1.0
    sheet = _Sheet(axes, estate, spots, width)
    crosses: dict[_Spot, list[str]] = {}
    for line in sorted(lines, key=lambda line: line.verdict.arrives, reverse=True):
        weight = (line.volume / most) ** 0.5
        lost_at = sheet.draw_line(line, networks[estate.subnets[line.row].network], weight)
        words = ": ".join(filter(None, (some(line.flows, 2), line.verdict.value)))
        if lost_at is not None and words not in crosses.setdefault(lost_at, []):
            sheet.draw_cross(line, lost_at, words, len(crosses[lost_at]))
            crosses[lost_at].append(words)
    crowd = Counter(spot.x for spot in spots.values())
    for (group, name), spot in spots.items():
        members = rows[name] if group == "subnet" else ends.get(name, ()) if group == "destination" else ()
        sheet.draw_box(group, name, min(_TALLEST, 0.7 * _COLUMN / crowd[spot.x]), max(0, len(members) - 1))
    first = {member: name for name, some in ends.items() for member in some}
    _draw_unmet(axes, estate, content.broken, spots, first)
    _draw_legend(axes, content.not_drawn, any(line.comes_in for line in lines))
    return rendered(paper, suffix)


def _depths(lines: Sequence[_Line]) -> dict[str, int]:
    """In which column each exit is: as far right as any path passes it."""
    depth: dict[str, int] = {}
    for line in lines:
        for number, name in enumerate(line.exits):
            depth[name] = max(depth.get(name, 0), number)
    return depth


def _placed(estate: Estate, lines: Sequence[_Line]) -> tuple[dict[tuple[str, str], _Spot], float]:
    """A spot for each subnet, exit and destination, in columns by their place along the paths; how wide boxes are."""
    depth = _depths(lines)
    columns = 1 + max(depth.values(), default=-1)
    step = (_RIGHT - _LEFT) / (columns + 1)
    spots: dict[tuple[str, str], _Spot] = {}
    order = list(estate.subnets)

    def option(name: str) -> tuple[str, str, int]:
        return (estate.subnets[name].network, estate.subnets[name].zone or "", order.index(name))

    rows = list[str]()
    for row in sorted({line.row for line in lines}, key=option):
        if rows and estate.subnets[rows[-1]].network != estate.subnets[row].network:
            rows.append("")  # Room for the next network's name
        rows.append(row)
    _column(spots, "subnet", rows, _LEFT)
    for number in range(columns):
        names = [name for name, at in depth.items() if at == number]
        _column(spots, "exit", _by_neighbours(names, lines, spots), _LEFT + step * (number + 1))
    reached = dict.fromkeys(line.destination for line in lines)
    _column(spots, "destination", _by_neighbours(reached, lines, spots, last=True), _RIGHT)
    return spots, min(_WIDEST, 0.68 * step)


def _by_neighbours(
    names: Iterable[str], lines: Sequence[_Line], spots: Mapping[tuple[str, str], _Spot], last: bool = False
) -> list[str]:
    """Names in the order of the mean height of what comes before them, so that lines cross little."""
    heights: dict[str, list[float]] = {name: [] for name in names}
    for line in lines:
        chain = line.exits
        for number, name in enumerate((line.destination,) if last else chain):
            before = (chain[-1] if chain else "") if last else (chain[number - 1] if number else "")
            spot = spots.get(("exit", before)) or spots["subnet", line.row]
            if name in heights:
                heights[name].append(spot.y)
    return sorted(heights, key=lambda name: -sum(heights[name]) / max(1, len(heights[name])))


def _column(spots: dict[tuple[str, str], _Spot], group: str, names: Sequence[str], x: float) -> None:
    for number, name in enumerate(names):
        if name:
            spots[group, name] = _Spot(x, 0.91 - _COLUMN * (number + 0.5) / max(1, len(names)))


def _draw_networks(
    axes: Axes, estate: Estate, spots: Mapping[tuple[str, str], _Spot], colours: Mapping[str, str]
) -> None:
    for network, colour in colours.items():
        rows = [s.y for (g, name), s in spots.items() if g == "subnet" and estate.subnets[name].network == network]
        if not rows:
            continue
        low, high = min(rows) - 0.025, max(rows) + 0.026
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
        low, high = min(rows) - 0.022, max(rows) + 0.022
        if number % 2 == 0:
            axes.add_patch(Rectangle((0.013, low), 0.174, high - low, facecolor="#eeeeee", zorder=1))
        axes.text(0.019, (low + high) / 2, zone, fontsize=10, va="center", ha="center", zorder=4, color="#555555")


def _draw_unmet(
    axes: Axes,
    estate: Estate,
    broken: Sequence[BrokenNeed],
    spots: Mapping[tuple[str, str], _Spot],
    first: Mapping[str, str],
) -> None:
    """Under each destination, or those together, the needs that flows to it break though they arrive."""
    unmet: dict[str, dict[str, list[str]]] = {}
    for unmet_need in broken:
        if unmet_need.need != "arrives":
            end = estate.flows[unmet_need.flow].other_end
            unmet.setdefault(first.get(end, end), {}).setdefault(unmet_need.need, []).append(unmet_need.flow)
    for destination, needs in unmet.items():
        spot = spots.get(("destination", destination))
        if spot is not None:
            text = "; ".join(f"not {need}: {', '.join(flows)}" for need, flows in needs.items())
            text = text if len(text) <= 42 else f"{text[:41]}…"
            axes.text(spot.x, spot.y - 0.031, text, fontsize=8, color=RED, ha="center", weight="bold", zorder=5)


@dataclass(frozen=True)
class _Sheet:
    """Where things are drawn: boxes at their spots, those of exits so wide, and lines between them."""

    axes: Axes
    estate: Estate
    spots: Mapping[tuple[str, str], _Spot]
    width: float

    def draw_box(self, group: str, name: str, height: float, more: int) -> None:
        """The box of an exit, of a row of subnets or of a destination, and of so many more."""
        spot, width = self.spots[group, name], self._width_of(group)
        missing = group == "exit" and name not in self.estate.exits
        corner = (spot.x - width / 2, spot.y - height / 2)
        box = FancyBboxPatch(corner, width, height, boxstyle="round,pad=0.002", facecolor="#f7f7f7", zorder=3)
        box.set(edgecolor=RED if missing else "#333333", linestyle="--" if missing else "-", linewidth=1)
        self.axes.add_patch(box)
        note = "does not exist" if missing else ""
        if group == "exit" and not missing:
            note = self.estate.exits[name].kind
        if more:
            note = f"and {counted(more, f'more {group}')}"
        most = int(width / _LETTER)
        words = [word if len(word) <= most else f"{word[: most - 1]}…" for word in (name, note) if word]
        lines, letter = ("\n", 8.0) if height > 0.9 * _TALLEST else (", ", max(6.0, min(8.0, 300 * height)))
        text = self.axes.text(spot.x, spot.y, lines.join(words), ha="center", va="center", zorder=4)
        text.set(fontsize=letter, linespacing=1.0)

    def draw_line(self, line: _Line, colour: str, weight: float) -> _Spot | None:
        """Draws a line; the last box that it gets to, where it is lost."""
        arrives = line.verdict.arrives
        stops = [("exit", name) for name in line.exits]
        if arrives or not line.comes_in:
            stops.insert(0, ("subnet", line.row))
        if arrives or line.comes_in:
            stops.append(("destination", line.destination))
        for stop, other in zip(stops, stops[1:], strict=False):
            begin, end = self.spots[stop], self.spots[other]
            halves = [self._width_of(group) / 2 for group, _ in (stop, other)]
            path = _curve(begin, end, _gaps(begin, end, self.spots), halves, self.width / 2)
            patch = PathPatch(path, fill=False, edgecolor=colour if arrives else RED, alpha=0.75)
            patch.set(linewidth=1 + 6 * weight, linestyle="-" if arrives else (0, (4, 2)), capstyle="butt")
            self.axes.add_patch(patch)
        if arrives and line.comes_in:
            hosts = self.spots[stops[0]]
            at = [hosts.x + _SUBNET_WIDTH / 2 + 0.006], [hosts.y]
            self.axes.plot(*at, "<", color=colour, markersize=9, zorder=5)
        return None if arrives else self.spots[stops[0 if line.comes_in else -1]]

    def draw_cross(self, line: _Line, last: _Spot, words: str, above: int) -> None:
        """Where a path is lost: past the last box that it gets to, seen from where it comes; under words of others."""
        half, way = self._width_of("exit" if line.exits else "subnet") / 2, -1 if line.comes_in else 1
        at = [last.x + way * (half + 0.012)], [last.y]
        self.axes.plot(*at, "x", color=RED, markersize=11, markeredgewidth=3, zorder=5)
        side = "right" if line.comes_in else "left"
        beside = (last.x + way * (half + 0.024), last.y - 0.006 - 0.024 * above)
        self.axes.text(*beside, words, fontsize=9, color=RED, weight="bold", zorder=5, ha=side)

    def _width_of(self, group: str) -> float:
        return self.width if group == "exit" else _SUBNET_WIDTH


def _gaps(from_spot: _Spot, to_spot: _Spot, spots: Mapping[tuple[str, str], _Spot]) -> list[_Spot]:
    """Where a line from one spot to another passes the columns between: in the gap nearest to the straight line."""
    columns: dict[float, list[float]] = {}
    for spot in spots.values():
        if from_spot.x < spot.x < to_spot.x:
            columns.setdefault(spot.x, []).append(spot.y)
    found = []
    for x, heights in sorted(columns.items()):
        straight = from_spot.y + (to_spot.y - from_spot.y) * (x - from_spot.x) / (to_spot.x - from_spot.x)
        edges = sorted([max(heights) + 0.07, *heights, min(heights) - 0.07])
        middles = [(low + high) / 2 for low, high in zip(edges, edges[1:], strict=False)]
        found.append(_Spot(x, min(middles, key=lambda y: abs(y - straight))))
    return found


def _curve(from_spot: _Spot, to_spot: _Spot, between: Sequence[_Spot], halves: Sequence[float], gap: float) -> Path:
    """A line from the right edge of one box to the left edge of another, level where it passes a column.

    halves: half the width of each of the two boxes; gap: of those that it passes.
    """
    first, last = halves
    at = (from_spot.x + first, from_spot.y) if from_spot.x + first < to_spot.x - last else (from_spot.x, from_spot.y)
    points, codes = [at], [Path.MOVETO]
    for spot in (*between, to_spot):
        half = last if spot is to_spot else gap
        end = (spot.x - half, spot.y) if at[0] < spot.x - half else (spot.x, spot.y)
        middle = (at[0] + end[0]) / 2
        points += [(middle, at[1]), (middle, end[1]), end]
        codes += [Path.CURVE4] * 3
        if spot is not to_spot:
            at = (spot.x + half, spot.y)
            points.append(at)
            codes.append(Path.LINETO)
    return Path(points, codes)


def _draw_legend(axes: Axes, not_drawn: int, comes_in: bool) -> None:
    handles = [
        Line2D([], [], color="#333333", linewidth=5, label="arrives; width: square root of volume; colour: network"),
        Line2D([], [], color=RED, linewidth=2, linestyle="--", label="lost, at the cross"),
        Line2D([], [], color="#eeeeee", linewidth=9, label="a zone"),
    ]
    if comes_in:
        arrow = Line2D([], [], color="#333333", marker="<", markersize=9, linestyle="", label="opened by the other end")
        handles.insert(1, arrow)
    axes.legend(handles=handles, loc="lower left", bbox_to_anchor=(0.005, 0.0), ncols=4, frameon=False, fontsize=10)
    if not_drawn:
        text = f"{counted(not_drawn, 'more group of subnets sends', 'more groups of subnets send')} less than these"
        axes.text(0.99, 0.02, text, ha="right", fontsize=10)
