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


def _what(watch: Watch) -> str:
    return " ".join((watch.what, *(value for _, value in watch.labels)))


def _health(watch: Watch) -> dict[str, object]:
    """A rule for one figure: counters by second, shares as quotients, gauges as they are."""
    chosen = [("exit", watch.exit), *watch.labels] if watch.exit else [*watch.labels]
    labels = ",".join(f'{key}="{_label_value(value)}"' for key, value in chosen)
    by = f"{{{labels}}}" if labels else ""
    if watch.of:
        others = "|".join(re.escape(_label_value(name)) for name in watch.of)
        value = f'sum(connections{by}) / sum(connections{{exit=~"{others}"}})'
    elif "/" in watch.expression:
        value = " / ".join(f"rate({name}{by}[15m])" for name in watch.expression.split("/"))
    elif watch.expression == "time":
        value = "time()"
    elif METRICS[watch.expression].startswith("counter"):
        value = f"rate({watch.expression}{by}[5m])"
    else:
        value = f"sum({watch.expression}{by})" if watch.expression == "table_entries" else f"{watch.expression}{by}"
    name = "_".join(label(word) for word in ("egress", watch.exit, _what(watch)) if word)
    return {
        "alert": name,
        "expr": f"{value} {'<' if watch.is_below else '>'} {watch.warn_at:.12g}",
        "for": "5m" if watch.is_critical else "15m",
        "labels": {"severity": "critical" if watch.is_critical else "warning"},
        "annotations": {"summary": _plain(f"{watch.exit or 'all'}, {_what(watch)}: {watch.why}.")},
    }


def _limit(alert: Alert) -> str:
    return f"{alert.limit}, after {alert.fault}" if alert.fault else alert.limit


def _number(value: float | None) -> str:
    return "" if value is None else f"{value:.3g}"


def _rules(alert: Alert) -> Iterator[dict[str, object]]:
    toward = f',destination="{_label_value(alert.toward)}"' if alert.toward else ""
    chosen = f'{{exit="{_label_value(alert.exit)}"{toward}}}'
    if alert.fault:
        yield from _after_fault(alert, chosen)
        return
    if alert.months_after_warning is not None:
        left = f"{alert.months_after_warning:.2g} months are left at the present growth"
    else:
        left = "no growth is stated: half of the room above today's peak is used"
    full = f"the limit of {alert.limit} is reached at {alert.full_at:,.0f} connections"
    if alert.full_at <= alert.peak:
        left = "today's peak is above it already"
    for name, severity, at, minutes, said in (
        ("filling", "warning", alert.warn_at, 15, f"{alert.name}: {full}; {left}."),
        (
            "full",
            "critical",
            alert.full_at,
            5,
            f"{alert.name}: {full}; from here on new connections find no free port.",
        ),
    ):
        yield {
            "alert": f"egress_{label(alert.name)}_{name}",
            "expr": f"connections{chosen} > {at:.0f}",
            "for": f"{minutes}m",
            "labels": {"severity": severity},
            "annotations": {"summary": _plain(said)},
        }
    yield {
        "alert": f"egress_{label(alert.name)}_refuses",
        "expr": f"rate(blocked{chosen}[5m]) > 0",
        "for": "5m",
        "labels": {"severity": "critical"},
        "annotations": {
            "summary": _plain(f"{alert.name} refuses new connections; the plan accepts {share_text(alert.target)}.")
        },
    }


def _after_fault(alert: Alert, chosen: str) -> Iterator[dict[str, object]]:
    """A warning at the load from which on a fault that flows are to survive would overload an exit."""
    begins = f"from {alert.full_at:,.0f} connections on"
    said = f"{alert.name}: {begins}, it does not carry what comes in this case: {alert.fault}."
    yield {
        "alert": f"egress_{label(alert.name)}_not_after_a_fault",
        "expr": f"connections{chosen} > {alert.full_at:.0f}",
        "for": "15m",
        "labels": {"severity": "warning"},
        "annotations": {"summary": _plain(said)},
    }


def _plain(text: str) -> str:
    """Text in which a monitoring system finds no template of its own."""
    return visible(text).replace("{{", "{ {").replace("}}", "} }")


def _label_value(text: str) -> str:
    return visible(text).replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
