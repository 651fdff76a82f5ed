"""One shape for whatever is wrong or doubtful in an estate."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from fenrask.errors import Place

__all__ = ["Finding", "Severity"]


class Severity(IntEnum):
    """How bad a finding is; the order is the order of badness."""

    NOTE = 1
    WARNING = 2
    ERROR = 3

    @property
    def word(self) -> str:
        return self.name.lower()


@dataclass(frozen=True)
class Finding:
    """One thing wrong or doubtful: `rule` is a kebab-case name, `remedy` what to change."""

    rule: str
    severity: Severity
    place: Place
    cause: str
    remedy: str
    accepted: str = ""
    """Why the estate accepts it; empty where it does not."""
    fix: Mapping[str, Any] | None = None
    """The remedy as a JSON Merge Patch (RFC 7396), where it is one."""
