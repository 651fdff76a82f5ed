"""The whole plan as one document: a page that opens from disk, or Markdown."""

from fenrask.views.report.document import ENDINGS, Figure, Report, Section, as_markdown, as_page

__all__ = ["ENDINGS", "Figure", "Report", "Section", "as_markdown", "as_page"]
