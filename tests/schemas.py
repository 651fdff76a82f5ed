"""Values against JSON Schemas, by the few keywords that ours use."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Any

from fenrask.views.results import results_schema

__all__ = ["faults", "result_faults"]


@cache
def _closed() -> dict[str, Any]:
    """The schema of results, in which a key that is not declared is a fault."""
    schema = results_schema()
    for one in schema["$defs"].values():
        one["additionalProperties"] = False
        for inside in [*one["properties"].values(), *one.get("patternProperties", {}).values()]:
            if "items" in inside and inside["items"].get("type") == "object":
                inside["items"]["additionalProperties"] = False
    return schema


def result_faults(result: dict[str, Any]) -> list[str]:
    """What the JSON of a command has that is not promised, or promises and does not have."""
    name = str(result["schema"]).removeprefix("fenrask.")
    one = _closed()["$defs"].get(name)
    return faults(result, one, _closed(), name) if one else [f"{name} is not declared"]


def faults(value: Any, schema: dict[str, Any], whole: dict[str, Any], path: str = "") -> list[str]:
    """What of a value a schema forbids: the few keywords that ours use, by the meaning of JSON Schema 2020-12."""
    if "$ref" in schema:
        return faults(value, whole["$defs"][schema["$ref"].rsplit("/", 1)[-1]], whole, path)
    for choice in ("anyOf", "oneOf"):
        if choice in schema and "type" not in schema:
            found = [faults(value, one, whole, path) for one in schema[choice]]
            return [] if any(not one for one in found) else min(found, key=len)
    expected = schema.get("type", [])
    kinds = [expected] if isinstance(expected, str) else expected
    if kinds and not any(isinstance(value, KINDS_OF_VALUE[one]) and _is_true_kind(value, one) for one in kinds):
        return [f"{path}: {value!r} is no {' or '.join(kinds)}"]
    return [*_of_scalar(value, schema, path), *_of_entries(value, schema, whole, path)]


KINDS_OF_VALUE: dict[str, Any] = {
    "object": dict,
    "array": list,
    "string": str,
    "integer": int,
    "number": (int, float),
    "boolean": bool,
    "null": type(None),
}


def _is_true_kind(value: Any, kind: str) -> bool:
    """Whether it is not a truth value that Python takes for a number."""
    return isinstance(value, bool) == (kind == "boolean")


def _of_scalar(value: Any, schema: dict[str, Any], path: str) -> Iterator[str]:
    if "const" in schema and value != schema["const"]:
        yield f"{path}: not {schema['const']}"
    if "enum" in schema and value not in schema["enum"]:
        yield f"{path}: none of {schema['enum']}"
    if schema.get("type") in ("integer", "number"):
        if value < schema.get("minimum", value):
            yield f"{path}: below {schema['minimum']}"
        if value > schema.get("maximum", value):
            yield f"{path}: above {schema['maximum']}"


def _of_entries(value: Any, schema: dict[str, Any], whole: dict[str, Any], path: str) -> Iterator[str]:
    if isinstance(value, list):
        for number, one in enumerate(value):
            yield from faults(one, schema.get("items", {}), whole, f"{path}.{number}")
    if isinstance(value, dict):
        properties, more = schema.get("properties", {}), schema.get("additionalProperties", True)
        yield from (f"{path}: lacks {key}" for key in schema.get("required", ()) if key not in value)
        for one in schema.get("allOf", ()):
            yield from faults(value, one, whole, path)
        for key, one in value.items():
            patterns = schema.get("patternProperties", {})
            inside = properties.get(key, next((of for form, of in patterns.items() if re.search(form, key)), more))
            if inside is False:
                yield f"{path}: unknown {key}"
            elif isinstance(inside, dict):
                yield from faults(one, inside, whole, f"{path}.{key}")
