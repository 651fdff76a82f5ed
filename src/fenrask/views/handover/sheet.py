"""The build sheet: every entry of the estate that is built, a table for each section, a row for each entry.

Cells are YAML, as the estate is. What is planned of an exit, and follows from the rest, is in a table of its own.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import yaml

from fenrask.evaluation import Evaluation
from fenrask.views.handover.contract import HandoverFile, csv_text

__all__ = ["sheet_files"]

_SECTIONS = ("networks", "subnets", "exits", "public_addresses", "destinations", "workloads")


def sheet_files(evaluation: Evaluation) -> Iterator[HandoverFile]:
    """A CSV for each section that has entries, one of the routes as written, and one of what each exit gets."""
    data = evaluation.described.data
    for section in _SECTIONS:
        entries: Mapping[str, Mapping[str, Any]] = {
            name: stated if isinstance(stated, Mapping) else {} for name, stated in (data.get(section) or {}).items()
        }
        if entries:
            keys = list(dict.fromkeys(key for stated in entries.values() for key in stated))
            rows = [
                (name, *(_cell(stated[key]) if key in stated else "" for key in keys))
                for name, stated in entries.items()
            ]
            yield _file(section, ("name", *keys), rows)
    routes = [
        (table, key, _cell(value))
        for table, stated in (data.get("route_tables") or {}).items()
        for key, value in (stated or {}).items()
    ]
    if routes:
        yield _file("route_tables", ("table", "to", "exit"), routes)
    yield _file("planned", ("exit", "kind", "network", "zones", "addresses", "to_order"), [*_planned(evaluation)])


def _file(name: str, heading: tuple[str, ...], rows: Sequence[Sequence[object]]) -> HandoverFile:
    return HandoverFile(f"sheet/{name}.csv", "the build sheet: a table for each section", csv_text(heading, rows))


def _cell(value: Any) -> str:
    """A value as text that YAML reads as the same."""
    if isinstance(value, str):
        return value if _reads_as_itself(value) else json.dumps(value)
    if isinstance(value, list | dict):
        return str(yaml.safe_dump(value, default_flow_style=True, sort_keys=False, width=10**9)).strip()
    return json.dumps(value, default=str)


def _reads_as_itself(text: str) -> bool:
    try:
        return bool(yaml.safe_load(text) == text)
    except yaml.YAMLError:
        return False


def _planned(evaluation: Evaluation) -> Iterator[tuple[object, ...]]:
    """Where each exit stands, how many public addresses it gets, and what of these is to be ordered."""
    estate, bought = evaluation.described.estate, {one.exit: one for one in evaluation.plan.exits if not one.toward}
    for name, exit_ in estate.exits.items():
        own = bought.get(name)
        zones = " ".join(estate.zones_at_work(exit_))
        to_order = " ".join(own.blocks) if own is not None and own.purchase else ""
        number = own.in_use if own is not None else ""
        yield name, exit_.kind, estate.network_of(exit_) or "", zones, number, to_order
