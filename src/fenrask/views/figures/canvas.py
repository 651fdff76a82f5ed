"""The paper that figures are drawn on: size, fonts, colours that survive grey and colour blindness."""

import io
from dataclasses import dataclass
from typing import Any

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.views.figures import ENDINGS

__all__ = ["BLUE", "GREY", "ORANGE", "RED", "Stroke", "figure", "rendered"]

# Okabe and Ito (2008), a palette for colour-blind readers.
BLUE, ORANGE, RED, GREY = "#0072b2", "#e69f00", "#d55e00", "#666666"
_INCHES, _DPI = (12.8, 8.0), 100


@dataclass(frozen=True)
class Stroke:
    """How a line is drawn: told from others by more than its colour."""

    colour: str
    line: str = "-"
    marker: str = ""

    @property
    def style(self) -> dict[str, Any]:
        """As Matplotlib names it."""
        return {"color": self.colour, "linestyle": self.line, "marker": self.marker}


def figure(constrained: bool = True) -> Figure:
    """An empty figure of 1280 x 800 dots; `constrained` lays its panels out by itself."""
    paper = Figure(figsize=_INCHES, dpi=_DPI, layout="constrained" if constrained else None)
    FigureCanvasAgg(paper)
    return paper


def rendered(paper: Figure, suffix: str) -> bytes:
    """The figure as a file's content; UnusableInput for a file name that says no known format."""
    if suffix.lower() not in ENDINGS:
        found = f"the file ending {suffix!r}" if suffix else "no file ending"
        raise UnusableInput([Problem(Place(path="--figure"), found, f"one of {', '.join(ENDINGS)}")])
    buffer = io.BytesIO()
    # No date inside, so that the same input draws the same file.
    metadata = {".svg": {"Date": None}, ".pdf": {"CreationDate": None}}.get(suffix.lower())
    paper.savefig(buffer, format=suffix.lower().removeprefix("."), metadata=metadata)
    return buffer.getvalue()
