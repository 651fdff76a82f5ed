"""JSON Schemas (2020-12) of both files, generated from the models."""

from typing import Any

from pydantic import BaseModel

from fenrask.estate.catalogue import Catalogue
from fenrask.estate.models import Estate

__all__ = ["SCHEMAS", "json_schema"]

SCHEMAS: dict[str, type[BaseModel]] = {"estate": Estate, "catalogue": Catalogue}


def json_schema(file: str) -> dict[str, Any]:
    """The JSON Schema of `estate` or `catalogue`."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **SCHEMAS[file].model_json_schema()}
