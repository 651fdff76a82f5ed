"""The JSON of every command as a JSON Schema: what it holds, of which type, and what it says."""

from functools import cache
from importlib.resources import files
from typing import Any

import yaml

from fenrask.views.formats.json_text import VERSION

__all__ = ["ALWAYS", "TODAY", "declared_results", "results_schema"]

_TYPES: dict[str, dict[str, Any]] = {
    "string": {"type": "string"},
    "strings": {"type": "array", "items": {"type": "string"}},
    "number": {"type": "number"},
    "numbers": {"type": "array", "items": {"type": "number"}},
    "integer": {"type": "integer"},
    "boolean": {"type": "boolean"},
    "object": {"type": "object"},
}
TODAY = {
    "errors_today": "integer: errors of `check` that the estate does not accept",
    "lost_flows": "strings: flows that do not arrive, in part or whole",
    "flows_with_broken_needs": "strings: flows that arrive and break a need",
    "overloaded_exits": "strings: exits that do not carry their load",
    "load_covered": "number: share of the load that arrives, and that figures are of",
}
ALWAYS = {
    "estate": "string: the estate's name",
    "summary": "strings: the answer, in sentences",
    "not_counted": "strings: what could not be counted in, and why",
}
_PROMISE = (
    "What every command of Fenrask prints with --format json. While `version` stays, a key that is here stays, keeps "
    "its type and what it says; new ones may come. Amounts are in the currency of the catalogue, without rounding."
)


@cache
def declared_results() -> dict[str, dict[str, Any]]:
    """Each result by its name: which command it is `from`, its `facts`, and its `tables` with their keys."""
    text = (files("fenrask.views") / "results.yaml").read_text(encoding="utf-8")
    found: dict[str, dict[str, Any]] = yaml.safe_load(text)
    return found


def results_schema() -> dict[str, Any]:
    """One JSON Schema (2020-12) for the JSON of all commands; `schema` in it says which of its parts is meant."""
    results = declared_results()
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Fenrask results",
        "description": _PROMISE,
        "oneOf": [{"$ref": f"#/$defs/{name}"} for name in results],
        "$defs": {"today": _record(TODAY), **{name: _result(name, one) for name, one in results.items()}},
    }


def _result(name: str, result: dict[str, Any]) -> dict[str, Any]:
    whole = _record({**ALWAYS, **result.get("facts", {})})
    head = {"schema": {"const": f"fenrask.{name}"}, "version": {"const": VERSION}}
    tables = {table: {"type": "array", "items": _record(keys)} for table, keys in result.get("tables", {}).items()}
    whole["description"] = f"fenrask {result['from']}"
    whole["required"] = [*head, *whole["required"]]
    whole["properties"] = head | whole["properties"] | {key: one for key, one in tables.items() if key[:4] != "hops"}
    if numbered := {f"^{key[:4]}(_[0-9]+)?{key[4:]}$": one for key, one in tables.items() if key[:4] == "hops"}:
        whole["patternProperties"] = numbered
    return whole


def _record(keys: dict[str, str]) -> dict[str, Any]:
    """An object with such keys, of which those with ~ may be missing."""
    told = {key: tuple(one.split(": ", 1)) for key, one in keys.items()}
    return {
        "type": "object",
        "properties": {key: {**_type(kind), "description": about} for key, (kind, about) in told.items()},
        "required": [key for key, (kind, _) in told.items() if not kind.startswith("~")],
    }


def _type(kind: str) -> dict[str, Any]:
    plain = kind.strip("~?")
    if plain == "today":
        return {"$ref": "#/$defs/today"}
    type_ = _TYPES[plain]
    return {**type_, "type": [type_["type"], "null"]} if kind.endswith("?") else type_
