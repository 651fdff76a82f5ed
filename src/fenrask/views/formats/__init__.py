"""Output formats. A new one is one file and one line in `FORMATS`."""

from fenrask.views.formats import comma, json_text, markdown, terminal
from fenrask.views.formats.contract import Format, Rendering

__all__ = ["FORMATS", "Format", "Rendering"]

FORMATS: dict[str, Format] = {
    "table": terminal.render,
    "json": json_text.render,
    "csv": comma.render,
    "markdown": markdown.render,
}
"""By the word of `--format`."""
