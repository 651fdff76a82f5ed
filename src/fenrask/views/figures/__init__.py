"""Figures, drawn without a monitor."""

import logging

__all__ = ["ENDINGS"]

ENDINGS = (".png", ".svg", ".pdf")
"""What a figure can be written as."""

# Where no cache can be kept, Matplotlib says so at length; it draws all the same.
logging.getLogger("matplotlib").setLevel(logging.ERROR)
