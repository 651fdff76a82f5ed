"""What a hold law answers."""

from collections.abc import Iterator
from enum import IntEnum
from typing import ClassVar, NamedTuple, Protocol

from fenrask.teletraffic.arguments import Floats

__all__ = ["Draw", "HoldingTime", "Parameter", "Simple"]

Parameter = float | Floats
"""A number; or a column of them, shape (n, 1), for so many laws of one make at once (see `stacked`)."""


class HoldingTime(Protocol):
    """A distribution of holds, in seconds. Functions take arrays of times and return their shape.

    Where the parameters are columns of n numbers, times of shape (n_times,) give (n, n_times).
    """

    stacks: ClassVar[bool]
    """Whether laws that differ by their numbers alone may be one law whose parameters are columns."""

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

    def smooth_from(self, period_s: float) -> Parameter:
        """From where on survival is smooth, s: without a bend or a fall that is shorter than `period_s`."""
        ...

    def simple(self) -> Iterator["Simple"]:
        """The law as a mixture of such as compiled loops draw; of a law of numbers, no columns."""
        ...


class Draw(IntEnum):
    """How a hold is drawn: exponential, fixed, lognormal, or as one of some values, each as likely as any other."""

    EXPONENTIAL = 0
    FIXED = 1
    LOGNORMAL = 2
    VALUES = 3


class Simple(NamedTuple):
    """A part of a law that is drawn in one way: its share, and its law without the fixed time after it, `delay_s`.

    scale, spread: the mean of an exponential or fixed hold, s; mean and standard deviation of a lognormal one's
    logarithm. values: what is drawn from, s. A law that none of these is may be so many of its quantiles.
    """

    share: float
    law: HoldingTime
    draw: Draw
    scale: float = 0.0
    spread: float = 0.0
    values: tuple[float, ...] = ()
    delay_s: float = 0.0
