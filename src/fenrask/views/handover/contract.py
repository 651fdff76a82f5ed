"""What a handover is made of: files with what each is for."""

import csv
import io
import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from fenrask.views.quoting import cell, visible

__all__ = ["HandoverFile", "csv_text", "json_text"]


@dataclass(frozen=True)
class HandoverFile:
    """One file: its path inside the folder, what it is for, and its content."""

    name: str
    about: str
    content: bytes


def csv_text(heading: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A CSV (RFC 4180) in which no cell is a formula."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(heading)
    writer.writerows([cell(visible(str(value))) if value is not None else "" for value in row] for row in rows)
    return out.getvalue().encode("utf-8")


def json_text(whole: Any) -> bytes:
    """JSON (RFC 8259) as files have it."""
    return (json.dumps(whole, indent=2, default=str) + "\n").encode("utf-8")
