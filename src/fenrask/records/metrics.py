"""Gateway metrics against the modelled load: CSV (time, exit, metric, value) and OpenMetrics text.

OpenMetrics: "The OpenMetrics project", version 1.0 (CNCF; IETF draft-richih-opsawg-openmetrics). `connections` is a
gauge; `blocked`, `bytes` and `packets` are counters.
"""

import csv
import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from math import isfinite

import numpy as np

from fenrask.demand import Demand, Part, Parts, ended_by
from fenrask.errors import Place, Problem
from fenrask.estate import LOADS, Described
from fenrask.estate.suggestions import nearest
from fenrask.evaluation import Evaluation
from fenrask.records.compared import AS_PLANNED, DIFFERENT, NOT_SEEN, Compared
from fenrask.records.tables import TABLES

__all__ = ["METRICS", "Sample", "compare_metrics", "corrected_loads", "knows_metrics", "read_metrics"]

METRICS = ("connections", "blocked", "bytes", "packets")
_NEAR = 0.2
"""How far a measured load may be from the modelled one before it counts as different."""
_SAMPLE = re.compile(
    r"(?P<name>[a-zA-Z_:][\w:]*)(?:\{(?P<labels>[^}]*)\})?\s+(?P<value>\S+)(?:\s+(?P<time>\S+))?\s*(?:#.*)?$"
)
_LABEL = re.compile(r'(\w+)="((?:[^"\\]|\\.)*)"')


@dataclass(frozen=True)
class Sample:
    """One value of a metric of an exit; time in seconds since 1970 (UTC)."""

    exit: str
    metric: str
    time_s: float
    value: float


def knows_metrics(first: str) -> bool:
    """Whether a file's first line is that of metrics."""
    return TABLES["metrics"].knows(first) or bool(
        first.startswith(("# HELP", "# TYPE", "# UNIT")) or (_SAMPLE.match(first) and 'exit="' in first)
    )


def read_metrics(text: str, file: str, described: Described, problems: list[Problem]) -> list[Sample]:
    """The samples of one file; rows that cannot be read go to the problems, the rest stays."""
    exits, found = described.estate.exits, []
    for number, exit_name, metric, time, value in _rows(text):
        place = Place(file, number, 1)
        if exit_name not in exits:
            problems.append(Problem(place, repr(exit_name), "an exit", nearest(exit_name, exits)))
            continue
        if metric not in METRICS:
            problems.append(Problem(place, repr(metric), f"one of {', '.join(METRICS)}", nearest(metric, METRICS)))
            continue
        try:
            figure, when = float(value), _time(time)
            if not isfinite(figure) or figure < 0:
                raise ValueError
        except ValueError:
            problems.append(Problem(place, f"{time} {value}", "a time (ISO 8601, or seconds since 1970) and a number"))
            continue
        found.append(Sample(exit_name, metric, when, figure))
    return found


def _rows(text: str) -> Iterator[tuple[int, str, str, str, str]]:
    first = next((line for line in text.splitlines() if line.strip()), "")
    if "," in first and "exit" in first.split(","):
        rows = csv.DictReader(io.StringIO(text, newline=""))
        for row in rows:
            said = {key: (row.get(key) or "").strip() for key in ("exit", "metric", "time", "value")}
            yield rows.line_num, said["exit"], said["metric"], said["time"], said["value"]
        return
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        match = _SAMPLE.match(line)
        if match is None:
            yield number, "", "", "", line[:60]
            continue
        labels = dict(_LABEL.findall(match["labels"] or ""))
        metric = next((one for one in METRICS if re.search(rf"(^|_){one}(_total)?$", match["name"])), match["name"])
        yield number, labels.get("exit", ""), metric, match["time"] or "0", match["value"]


def _time(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        when = datetime.fromisoformat(text)
        return (when if when.tzinfo else when.replace(tzinfo=UTC)).timestamp()


def compare_metrics(evaluation: Evaluation, samples: Sequence[Sample]) -> Iterator[Compared]:
    """Each metric of each exit against the model: peak connections, blocked ones, volume and packets by the second."""
    grouped: dict[tuple[str, str], list[Sample]] = {}
    for sample in samples:
        grouped.setdefault((sample.exit, sample.metric), []).append(sample)
    for exit_name in dict.fromkeys(one.exit for one in samples):
        for metric in METRICS:
            own = sorted(grouped.get((exit_name, metric), []), key=lambda sample: sample.time_s)
            planned = _planned(evaluation, exit_name, metric)
            if planned is None:
                continue
            seen = _seen(own, metric)
            if not own:
                continue
            if seen is None:
                why = "one sample of a counter says no rate"
                yield Compared("metric", exit_name, _unit(metric), _text(planned), "", NOT_SEEN, why)
                continue
            yield _judged(evaluation, exit_name, metric, planned, seen)


def _unit(metric: str) -> str:
    return {"connections": "peak connections", "blocked": "no free port"}.get(metric, f"{metric} a second")


def _planned(evaluation: Evaluation, exit_name: str, metric: str) -> float | None:
    demand = evaluation.demand
    parts = demand.at_exit.get(exit_name, ())
    if metric == "connections":
        return _entries(demand, parts) if parts else 0.0
    if metric == "blocked":
        used = [one.ports for one in evaluation.capacity.exits if one.exit == exit_name and one.ports is not None]
        return sum(one.blocked_per_day for one in used) if used else None
    # What a device counts is on the wire.
    laid, rows = demand.laid, [part.row for part in parts]
    return float(np.sum((laid.wire_bytes_per_s if metric == "bytes" else laid.packets_per_s)[rows]))


def _entries(demand: Demand, parts: Sequence[Part]) -> float:
    """The most entries of a translator's table, those of ended connections whose ports are others' by then included."""
    some = Parts.of(parts)
    ended, load = ended_by(some, np.zeros(len(some), dtype=np.intp), 1)[0], demand.load(parts)
    return float(max(load.peak.concurrent, (load.concurrent + ended).max()))


def _seen(samples: Sequence[Sample], metric: str) -> float | None:
    """A gauge's highest value; a counter's growth by the second (by the day, of blocked ones), resets left aside."""
    if not samples:
        return None
    if metric == "connections":
        return max(one.value for one in samples)
    span = samples[-1].time_s - samples[0].time_s
    if span <= 0:
        return None
    grown = sum(
        after.value - before.value if after.value >= before.value else after.value
        for before, after in zip(samples, samples[1:], strict=False)
    )
    return grown / span * (86_400 if metric == "blocked" else 1)


def _judged(evaluation: Evaluation, exit_name: str, metric: str, planned: float, seen: float) -> Compared:
    unit = "connections blocked a day" if metric == "blocked" else _unit(metric)
    near = abs(seen - planned) <= _NEAR * max(planned, 1e-12) or max(seen, planned) < 1
    texts = (_text(planned), _text(seen))
    if metric == "connections" and _is_full(evaluation, exit_name, planned, seen):
        return Compared("metric", exit_name, unit, *texts, f"{AS_PLANNED}: all ports are taken")
    if near:
        return Compared("metric", exit_name, unit, *texts, AS_PLANNED)
    flows = sorted(
        {part.flow: part for part in evaluation.demand.at_exit.get(exit_name, ())}.values(),
        key=lambda part: -part.rate_per_s,
    )
    more = "more" if seen > planned else "less"
    largest = f" ({flows[0].flow} is its largest flow)" if flows else ""
    cause = f"{more} load than the flows say{largest}, or another duration, or traffic that is not described"
    if metric == "blocked":
        cause = (
            "ports run out where the model says they do not" if seen > planned else "fewer ports run out than modelled"
        )
    ratio = f", {seen / planned:.2f} times" if planned else ""
    return Compared("metric", exit_name, unit, *texts, DIFFERENT, cause + ratio, f"fenrask demand --exit {exit_name}")


def _text(figure: float) -> str:
    return f"{figure:,.0f}" if figure >= 100 else f"{figure:,.3g}"


def _is_full(evaluation: Evaluation, exit_name: str, planned: float, seen: float) -> bool:
    """Whether what is measured is all the ports there are, of a load that wants more: it says no more of the load."""
    used = [one for one in evaluation.capacity.exits if one.exit == exit_name and one.ports is not None]
    if not used or any(one.blocking <= one.target for one in used):
        return False
    return planned > seen >= (1 - _FULL) * sum(one.ports.capacity for one in used if one.ports)


_FULL = 0.02


def corrected_loads(evaluation: Evaluation, samples: Sequence[Sample]) -> dict[str, dict[str, dict[str, float]]]:
    """The patch that scales each exit's flows so that the modelled peak is the measured one; empty without a peak."""
    estate, changed = evaluation.described.estate, dict[str, dict[str, float]]()
    for exit_name in dict.fromkeys(one.exit for one in samples if one.metric == "connections"):
        seen = _seen([one for one in samples if one.exit == exit_name and one.metric == "connections"], "connections")
        planned = _planned(evaluation, exit_name, "connections")
        if not seen or not planned or abs(seen - planned) <= _NEAR * planned:
            continue
        if _is_full(evaluation, exit_name, planned, seen):
            continue
        for flow in dict.fromkeys(part.flow for part in evaluation.demand.at_exit[exit_name]):
            stated = estate.flows[flow]
            for key in LOADS:
                if (value := getattr(stated, key)) is not None:
                    changed.setdefault(flow, {})[key] = round(value * seen / planned, 6)
    return {"flows": changed} if changed else {}
