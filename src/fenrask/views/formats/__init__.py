"""Output formats. A new one is one file and one line in `FORMATS`."""

from fenrask.views.formats import comma, json_text, junit, markdown, sarif, terminal
from fenrask.views.formats.contract import Format, Rendering

__all__ = ["FORMATS", "FOR_FINDINGS", "Format", "Rendering"]

FORMATS: dict[str, Format] = {
    "table": terminal.render,
    "json": json_text.render,
    "csv": comma.render,
    "markdown": markdown.render,
    "sarif": sarif.render,
    "junit": junit.render,
}
"""By the word of `--format`."""

FOR_FINDINGS = frozenset({"sarif", "junit"})
"""Formats that hold nothing but the findings of `check`."""
