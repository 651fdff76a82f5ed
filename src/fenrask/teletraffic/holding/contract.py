"""What a hold law answers."""

from typing import Protocol

from fenrask.teletraffic.arguments import Floats

__all__ = ["HoldingTime", "Parameter"]

Parameter = float | Floats
"""A number; or a column of them, shape (n, 1), for so many laws of one make at once (see `stacked`)."""


class HoldingTime(Protocol):
    """A distribution of holds, in seconds. Functions take arrays of times and return their shape.

    Where the parameters are columns of n numbers, times of shape (n_times,) give (n, n_times).
    """

    @property
    def mean_s(self) -> Parameter:
        """Mean hold, s."""
        ...

    def survival(self, t: Floats) -> Floats:
        """P(hold > t)."""
        ...

    def integrated_survival(self, t: Floats) -> Floats:
        """The integral of the survival function from 0 to t, t >= 0; it rises to the mean."""
        ...
