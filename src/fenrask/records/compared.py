"""What each comparison with reality says: one shape for metrics, routes, names and bills."""

from dataclasses import dataclass

__all__ = ["AS_PLANNED", "DIFFERENT", "NOT_SEEN", "Compared"]

AS_PLANNED, DIFFERENT, NOT_SEEN = "as planned", "different", "not seen yet"


@dataclass(frozen=True)
class Compared:
    """One thing that was planned or observed, and how both agree."""

    what: str
    """`metric`, `route`, `name` or `bill`."""
    about: str
    """The exit, subnet or line that it is of."""
    item: str
    """Which figure, prefix or name."""
    planned: str
    seen: str
    verdict: str
    cause: str = ""
    check_next: str = ""

    @property
    def well(self) -> bool:
        """Whether nothing speaks against the plan; what was not seen yet does not."""
        return self.verdict != DIFFERENT
