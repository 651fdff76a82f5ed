"""A figure by two methods, and what was not looked at."""

import math
from dataclasses import dataclass

__all__ = ["Audited", "NotLookedAt"]

_NEAR = 1e-6


@dataclass(frozen=True)
class Audited:
    """One figure by both methods."""

    what: str
    about: str
    first: float
    second: float
    method: str
    """The second one."""
    near: float = _NEAR
    """How far the two may be apart, as a share of the larger."""
    within: float = 1e-12
    """How far they may be apart in any case, such as by chance."""

    at_most: bool = False
    """Whether the first is a bound: the second is not above it."""

    @property
    def agrees(self) -> bool:
        if self.at_most and self.second <= self.first:
            return True
        return math.isclose(self.first, self.second, rel_tol=self.near, abs_tol=self.within)


@dataclass(frozen=True)
class NotLookedAt:
    """A figure that has no second method, or one that takes too long."""

    what: str
    about: str
    why: str
