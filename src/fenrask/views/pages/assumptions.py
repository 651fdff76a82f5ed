"""What a plan rests on: where prices and loads come from and how old they are, and what nobody stated."""

from collections.abc import Iterator
from datetime import date

from fenrask.estate import Described
from fenrask.units import counted
from fenrask.views.cells import share_text
from fenrask.views.page import Column, Page, Table

__all__ = ["assumptions_page"]

_COLUMNS = (
    Column("what", "what"),
    Column("value", "value"),
    Column("source", "source"),
    Column("days", "days old", "count", sparse=True),
)
_FLOWS = (Column("flow", "flow"), Column("load", "load"), Column("source", "source"))


def assumptions_page(described: Described, today: date) -> Page:
    """Prices with their day, targets, and for each flow whether its load was measured, is a range, or is stated."""
    catalogue = described.catalogue
    days = (today - catalogue.read_on).days
    flows = list(_flows(described))
    measured = sum(source.startswith("measured") for _, _, source in flows)
    ranges = sum("range" in load for _, load, _ in flows)
    lines = (
        f"Prices and limits of {catalogue.catalogue} were read on {catalogue.read_on}: "
        f"{counted(max(0, days), 'day')} ago.",
        f"Loads: {measured} of {counted(len(flows), 'flow')} measured, {ranges} stated as a range, the rest as one "
        "number.",
    )
    tables = (
        Table("assumptions", "Prices, limits and targets", _COLUMNS, list(_rows(described, days))),
        Table("loads", "Where each load comes from", _FLOWS, flows, empty="no flow", shown=20),
    )
    return Page("assumptions", described.estate.estate, lines, tables)


def _rows(described: Described, days: int) -> Iterator[tuple[str, str, str, int | None]]:
    catalogue, targets = described.catalogue, described.estate.targets
    yield "prices and limits", catalogue.catalogue, catalogue.source or "not said", days
    yield "hours billed for a month", f"{catalogue.hours_per_month}", "catalogue", None
    yield "volume unit", catalogue.volume_unit, "catalogue", None
    stated = described.data.get("targets") or {}
    for key, value in targets.model_dump(exclude_none=True).items():
        text = share_text(value) if key == "blocking" else str(value)
        yield f"target: {key.replace('_', ' ')}", text, "stated" if key in stated else "default", None


def _flows(described: Described) -> Iterator[tuple[str, str, str]]:
    data = described.data.get("flows") or {}
    for name, flow in described.estate.flows.items():
        stated = data.get(name) or {}
        ranged = sorted(key for key, value in stated.items() if isinstance(value, dict) and "likely" in value)
        source = "measured" if str(flow.profile or "").startswith("measured-") else "stated"
        yield name, f"a range: {', '.join(ranged)}" if ranged else "one number", source
