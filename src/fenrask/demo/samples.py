"""Estates that ship with the program."""

from dataclasses import dataclass
from importlib.resources import files

__all__ = ["BEGINNING", "VELLMOUTH", "Sample"]


@dataclass(frozen=True)
class Sample:
    """A folder of files inside the package."""

    folder: str

    def contents(self) -> dict[str, bytes]:
        """Each file's content by name."""
        inside = files("fenrask.demo") / self.folder
        return {one.name: one.read_bytes() for one in sorted(inside.iterdir(), key=lambda file: file.name)}


VELLMOUTH = Sample("vellmouth")
"""Vellmouth Ferries, a made-up ferry operator, with mistakes made on purpose."""

BEGINNING = Sample("beginning")
"""Three subnets, two flows and one gateway, commented; every figure can be recomputed on paper."""
