"""JSON Schemas (2020-12) of both files, generated from the models."""

from typing import Any

from pydantic import BaseModel

from fenrask.estate.catalogue import Catalogue
from fenrask.estate.companions import SECTIONS
from fenrask.estate.models import Estate

__all__ = ["SCHEMAS", "json_schema"]

SCHEMAS: dict[str, type[BaseModel]] = {"estate": Estate, "catalogue": Catalogue}


def json_schema(file: str) -> dict[str, Any]:
    """The JSON Schema of `estate` or `catalogue`."""
    schema = SCHEMAS[file].model_json_schema()
    for section in SECTIONS if file == "estate" else ():
        about = f"a CSV file inside the estate's folder that holds more {section.replace('_', ' ')}"
        schema["properties"][f"{section}_csv"] = {"type": "string", "description": about}
    # A section may lie wholly in its CSV file.
    sections = [key for key in schema["required"] if key in SECTIONS]
    schema["required"] = [key for key in schema["required"] if key not in SECTIONS]
    if sections:
        schema["allOf"] = [{"anyOf": [{"required": [key]}, {"required": [f"{key}_csv"]}]} for key in sections]
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
