"""Findings that are meant to be so: `accepted` in the estate, and what it does not match."""

from collections.abc import Iterator

from fenrask.estate import Described
from fenrask.findings import Finding
from fenrask.routing.rules.contract import Case, Doubt

__all__ = ["accepted", "stale"]


def accepted(described: Described, finding: Finding) -> str:
    """Why a finding is accepted; empty where it is not."""
    return described.estate.accepted.get(f"{finding.rule} at {finding.place.path}", "")


def stale(case: Case) -> Iterator[Doubt]:
    """An exception that matches no finding: what it excused is gone, or its path is misspelt."""
    for key in case.estate.accepted:
        if key not in case.told:
            cause = f"nothing is found of {key!r}"
            yield Doubt(case.place("accepted", key), cause, "Remove it, or write RULE and PATH as `check` prints them.")
