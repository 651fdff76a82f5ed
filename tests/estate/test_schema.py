"""The JSON Schemas: that the shipped files keep to them, and that a damaged one does not."""

import unittest
from collections.abc import Iterator
from typing import Any

import yaml

from fenrask.demo import BEGINNING, VELLMOUTH
from fenrask.estate import KINDS
from fenrask.estate.schema import json_schema


def faults(value: Any, schema: dict[str, Any], whole: dict[str, Any], path: str = "") -> list[str]:
    """What of a value a schema forbids: the few keywords that ours use, by the meaning of JSON Schema 2020-12."""
    if "$ref" in schema:
        return faults(value, whole["$defs"][schema["$ref"].rsplit("/", 1)[-1]], whole, path)
    for choice in ("anyOf", "oneOf"):
        if choice in schema and "type" not in schema:
            found = [faults(value, one, whole, path) for one in schema[choice]]
            return [] if any(not one for one in found) else min(found, key=len)
    expected = schema.get("type")
    if expected and not isinstance(value, KINDS_OF_VALUE[expected]):
        return [f"{path}: not {expected}"]
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
            inside = properties.get(key, more)
            if inside is False:
                yield f"{path}: unknown {key}"
            elif isinstance(inside, dict):
                yield from faults(one, inside, whole, f"{path}.{key}")


class Schemas(unittest.TestCase):
    FILES = (
        (VELLMOUTH, "estate.yaml", "estate"),
        (VELLMOUTH, "ostrel.yaml", "catalogue"),
        (BEGINNING, "estate.yaml", "estate"),
        (BEGINNING, "catalogue.yaml", "catalogue"),
    )

    def read(self, sample: Any, name: str) -> Any:
        # As text, a date would be read as a date; the schema speaks of what is written.
        loader = yaml.SafeLoader
        text = sample.contents()[name].decode().replace("read_on: 20", "read_on: !!str 20")
        return yaml.load(text, loader)

    def test_the_shipped_files_keep_to_their_schemas(self) -> None:
        for sample, name, which in self.FILES:
            with self.subTest(name=name, folder=sample.folder):
                schema = json_schema(which)
                self.assertEqual(faults(self.read(sample, name), schema, schema), [])

    def test_damage_is_seen(self) -> None:
        schema = json_schema("estate")
        estate = self.read(VELLMOUTH, "estate.yaml")
        estate["subnets"]["crew-c"]["colour"] = "red"
        del estate["flows"]["pay"]["from"]
        estate["destinations"]["tide-feed"]["port"] = 70_000
        told = faults(estate, schema, schema)
        self.assertEqual(len(told), 3, told)

    def test_what_the_reader_requires_the_schema_requires(self) -> None:
        schema = json_schema("estate")
        told = faults({"estate": "x", "catalogue": "c.yaml"}, schema, schema)
        self.assertEqual(told, [": lacks networks", ": lacks subnets"])
        estate = self.read(VELLMOUTH, "estate.yaml")
        estate["networks_csv"] = "networks.csv"
        del estate["networks"]
        self.assertEqual(faults(estate, schema, schema), [])

    def test_every_kind_of_exit_is_in_the_schema_under_its_name(self) -> None:
        kinds = {
            one["properties"]["kind"]["const"]
            for one in json_schema("estate")["$defs"].values()
            if "const" in one.get("properties", {}).get("kind", {})
        }
        self.assertEqual(kinds, set(KINDS))

    def test_sections_in_csv_are_known(self) -> None:
        properties = json_schema("estate")["properties"]
        for section in ("subnets", "flows", "route_tables", "profiles"):
            self.assertEqual(properties[f"{section}_csv"]["type"], "string")
