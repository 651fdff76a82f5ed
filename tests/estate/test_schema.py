"""The JSON Schemas: that the shipped files keep to them, and that a damaged one does not."""

import unittest
from typing import Any

import yaml

from fenrask.demo import BEGINNING, VELLMOUTH
from fenrask.estate import KINDS
from fenrask.estate.schema import json_schema
from tests.schemas import faults


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
