"""Alert thresholds as rules (YAML) that monitoring systems load, and as CSV."""

from collections.abc import Iterator, Sequence

import yaml

from fenrask.views.cells import share_text
from fenrask.views.handover.contract import HandoverFile, csv_text
from fenrask.views.quoting import label, visible
from fenrask.what_if import Alert

__all__ = ["alert_files"]


def alert_files(estate: str, found: Sequence[Alert]) -> Iterator[HandoverFile]:
    """Rules over the metrics `connections` and `blocked` by exit, as `fenrask confirm` reads them."""
    rules = [rule for one in found for rule in _rules(one)]
    whole = {"groups": [{"name": f"egress of {visible(estate)}", "rules": rules}]}
    text = yaml.safe_dump(whole, sort_keys=False, allow_unicode=True, width=110)
    head = "# Metrics: connections (gauge) and blocked (counter), each with the label `exit`.\n"
    if any(one.toward for one in found):
        head += "# Where a destination sees addresses of its own, also `destination`.\n"
    yield HandoverFile("alerts.yaml", "alert rules for monitoring", (head + text).encode("utf-8"))
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
        ("full", "critical", one.full_at, 5, f"{one.name}: {full}; new connections are refused from here on."),
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
