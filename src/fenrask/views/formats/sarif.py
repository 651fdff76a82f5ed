"""SARIF 2.1.0 (OASIS): findings as code review tools take them."""

import json
from collections.abc import Mapping
from typing import Any

from fenrask import __version__
from fenrask.views.formats.contract import Rendering
from fenrask.views.page import Page

__all__ = ["render"]

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def render(page: Page, _: Rendering) -> str:
    """One run; what the estate accepts is a suppressed result with its reason."""
    from fenrask.checks import RULES  # no other command needs them to begin

    driver = {
        "name": "Fenrask",
        "semanticVersion": __version__,
        "rules": [{"id": rule.name, "shortDescription": {"text": rule.about}} for rule in RULES],
    }
    results = [_result(record) for record in page.tables[0].records()]
    whole = {"$schema": _SCHEMA, "version": "2.1.0", "runs": [{"tool": {"driver": driver}, "results": results}]}
    return json.dumps(whole, indent=2) + "\n"


def _result(record: Mapping[str, Any]) -> dict[str, Any]:
    region = {"startLine": max(1, record["line"]), "startColumn": max(1, record["column"])}
    place = {"artifactLocation": {"uri": record["file"].replace("\\", "/")}, "region": region}
    result: dict[str, Any] = {
        "ruleId": record["rule"],
        "level": record["level"],
        "message": {"text": f"{record['cause']}. {record['remedy']}"},
        "locations": [{"physicalLocation": place, "logicalLocations": [{"fullyQualifiedName": record["path"]}]}],
    }
    if record["accepted"]:
        result["suppressions"] = [{"kind": "inSource", "justification": record["accepted"]}]
    return result
