"""JUnit XML: a rule is a test, a finding is its failure; what pipelines show without more ado."""

from collections.abc import Mapping
from typing import Any
from xml.etree import ElementTree

from fenrask.views.formats.contract import Rendering
from fenrask.views.page import Page
from fenrask.views.quoting import visible

__all__ = ["render"]


def render(page: Page, _: Rendering) -> str:
    """One suite with a test for each rule, or for each finding where a rule has several."""
    from fenrask.checks import RULES  # no other command needs them to begin

    records = list(page.tables[0].records())
    cases = [case for rule in RULES for case in _cases(rule.name, [one for one in records if one["rule"] == rule.name])]
    counts = {"tests": len(cases), "failures": sum(case.find("failure") is not None for case in cases)}
    suite = ElementTree.Element(
        "testsuite", {"name": visible(page.estate), **{key: str(n) for key, n in counts.items()}}
    )
    suite.extend(cases)
    ElementTree.indent(suite)
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{ElementTree.tostring(suite, encoding="unicode")}\n'


def _cases(rule: str, records: list[dict[str, Any]]) -> list[ElementTree.Element]:
    if not records:
        return [ElementTree.Element("testcase", {"classname": "fenrask.check", "name": rule})]
    return [_case(rule, record) for record in records]


def _case(rule: str, record: Mapping[str, Any]) -> ElementTree.Element:
    case = ElementTree.Element(
        "testcase", {"classname": "fenrask.check", "name": visible(f"{rule} at {record['path']}")}
    )
    if record["accepted"]:
        ElementTree.SubElement(case, "skipped", {"message": visible(record["accepted"])})
        return case
    told = ElementTree.SubElement(case, "failure", {"type": record["level"], "message": visible(record["cause"])})
    told.text = visible(f"{record['place']}\n{record['remedy']}")
    return case
