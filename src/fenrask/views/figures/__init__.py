"""Figures, drawn without a monitor."""

__all__ = ["ENDINGS"]

ENDINGS = (".png", ".svg", ".pdf")
"""What a figure can be written as."""
