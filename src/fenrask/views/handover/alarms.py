"""Alert thresholds as rules (YAML) that monitoring systems load, and as CSV."""

import re
from collections.abc import Iterator, Sequence

import yaml

from fenrask.views.cells import share_text
from fenrask.views.handover.contract import HandoverFile, csv_text
from fenrask.views.quoting import label, visible
from fenrask.what_if import METRICS, Alert, Watch

__all__ = ["alert_files"]


def alert_files(estate: str, found: Sequence[Alert], watched: Sequence[Watch] = ()) -> Iterator[HandoverFile]:
    """Rules over metrics by exit: how full it is, as `fenrask confirm` reads it, and whether all is well."""
    rules = [rule for one in found for rule in _rules(one)]
    groups = [{"name": f"egress of {visible(estate)}", "rules": rules}]
    groups.append({"name": f"health of {visible(estate)}", "rules": [_health(one) for one in watched]})
    whole = {"groups": groups}
    text = yaml.safe_dump(whole, sort_keys=False, allow_unicode=True, width=110)
    head = "# Metrics: connections (gauge) and blocked (counter), each with the label `exit`.\n"
    wanted = {name for one in watched for name in one.expression.split("/") if name in METRICS} - {"connections"}
    head += "".join(f"# Beside them {name}, {METRICS[name]}.\n" for name in METRICS if name in wanted)
    if any(one.toward for one in found):
        head += "# Where a destination sees addresses of its own, also `destination`.\n"
    yield HandoverFile("alerts.yaml", "alert rules for monitoring", (head + text).encode("utf-8"))
    heading: tuple[str, ...] = ("exit", "what", "metric", "planned", "warn_at", "unit", "why")
    health = [
        (
            one.exit, _what(one), one.expression, f"{one.planned:.6g}",
            f"{'below ' if one.is_below else ''}{one.warn_at:.12g}", one.unit, one.why,
        )
        for one in watched
    ]  # fmt: skip
    yield HandoverFile("health.csv", "what to watch beside it, with thresholds of the plan", csv_text(heading, health))
    rows = [
        (
            one.name, _limit(one), f"{one.peak:.6g}", f"{one.warn_at:.6g}", f"{one.full_at:.6g}",
            f"{one.growth_per_month:.4g}", _number(one.months_left), _number(one.months_after_warning),
        )
        for one in found
    ]  # fmt: skip
    heading = (
        "exit", "limit", "peak_connections", "warn_at_connections", "full_at_connections", "growth_per_month",
        "months_left", "months_after_warning",
    )  # fmt: skip
    yield HandoverFile("alerts.csv", "the same thresholds as a table", csv_text(heading, rows))


def _what(one: Watch) -> str:
    return " ".join((one.what, *(value for _, value in one.labels)))


def _health(one: Watch) -> dict[str, object]:
    """A rule for one figure: counters by second, shares as quotients, gauges as they are."""
    chosen = [("exit", one.exit), *one.labels] if one.exit else [*one.labels]
    labels = ",".join(f'{key}="{_label_value(value)}"' for key, value in chosen)
    by = f"{{{labels}}}" if labels else ""
    if one.of:
        others = "|".join(re.escape(_label_value(name)) for name in one.of)
        value = f'sum(connections{by}) / sum(connections{{exit=~"{others}"}})'
    elif "/" in one.expression:
        value = " / ".join(f"rate({name}{by}[15m])" for name in one.expression.split("/"))
    elif one.expression == "time":
        value = "time()"
    elif METRICS[one.expression].startswith("counter"):
        value = f"rate({one.expression}{by}[5m])"
    else:
        value = f"sum({one.expression}{by})" if one.expression == "table_entries" else f"{one.expression}{by}"
    name = "_".join(label(word) for word in ("egress", one.exit, _what(one)) if word)
    return {
        "alert": name,
        "expr": f"{value} {'<' if one.is_below else '>'} {one.warn_at:.12g}",
        "for": "5m" if one.is_critical else "15m",
        "labels": {"severity": "critical" if one.is_critical else "warning"},
        "annotations": {"summary": _plain(f"{one.exit or 'all'}, {_what(one)}: {one.why}.")},
    }


def _limit(one: Alert) -> str:
    return f"{one.limit}, after {one.fault}" if one.fault else one.limit


def _number(value: float | None) -> str:
    return "" if value is None else f"{value:.3g}"


def _rules(one: Alert) -> Iterator[dict[str, object]]:
    toward = f',destination="{_label_value(one.toward)}"' if one.toward else ""
    chosen = f'{{exit="{_label_value(one.exit)}"{toward}}}'
    if one.fault:
        yield from _after_fault(one, chosen)
        return
    if one.months_after_warning is not None:
        left = f"{one.months_after_warning:.2g} months are left at the present growth"
    else:
        left = "no growth is stated: half of the room above today's peak is used"
    full = f"the limit of {one.limit} is reached at {one.full_at:,.0f} connections"
    if one.full_at <= one.peak:
        left = "today's peak is above it already"
    for name, severity, at, minutes, said in (
        ("filling", "warning", one.warn_at, 15, f"{one.name}: {full}; {left}."),
        ("full", "critical", one.full_at, 5, f"{one.name}: {full}; from here on new connections find no free port."),
    ):
        yield {
            "alert": f"egress_{label(one.name)}_{name}",
            "expr": f"connections{chosen} > {at:.0f}",
            "for": f"{minutes}m",
            "labels": {"severity": severity},
            "annotations": {"summary": _plain(said)},
        }
    yield {
        "alert": f"egress_{label(one.name)}_refuses",
        "expr": f"rate(blocked{chosen}[5m]) > 0",
        "for": "5m",
        "labels": {"severity": "critical"},
        "annotations": {
            "summary": _plain(f"{one.name} refuses new connections; the plan accepts {share_text(one.target)}.")
        },
    }


def _after_fault(one: Alert, chosen: str) -> Iterator[dict[str, object]]:
    """A warning at the load from which on a fault that flows are to survive would overload an exit."""
    said = (
        f"{one.name}: from {one.full_at:,.0f} connections on, it does not carry what comes in this case: {one.fault}."
    )
    yield {
        "alert": f"egress_{label(one.name)}_not_after_a_fault",
        "expr": f"connections{chosen} > {one.full_at:.0f}",
        "for": "15m",
        "labels": {"severity": "warning"},
        "annotations": {"summary": _plain(said)},
    }


def _plain(text: str) -> str:
    """Text in which a monitoring system finds no template of its own."""
    return visible(text).replace("{{", "{ {").replace("}}", "} }")


def _label_value(text: str) -> str:
    return visible(text).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
