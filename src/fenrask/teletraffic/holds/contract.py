"""What a hold law answers."""

from typing import Protocol

from fenrask.teletraffic.arguments import Floats

__all__ = ["Hold"]


class Hold(Protocol):
    """A distribution of holds, in seconds. Functions take arrays of times and return their shape."""

    @property
    def mean_s(self) -> float:
        """Mean hold, s."""
        ...

    def survival(self, t: Floats) -> Floats:
        """P(hold > t)."""
        ...

    def integrated_survival(self, t: Floats) -> Floats:
        """The integral of the survival function from 0 to t, t >= 0; it rises to the mean."""
        ...
